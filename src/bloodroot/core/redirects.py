"""Redirects of refused callers: whether they lead to a page that is there, and out of every circle."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..language.problems import Problem
from .caller import imagined
from .decision import Outcome
from .requirements import conditions_in

if TYPE_CHECKING:
    from collections.abc import Iterator

    from .caller import Caller
    from .policy import Policy


def redirect_problems(policy: Policy) -> Iterator[Problem]:
    """Redirects that nobody can follow, or that lead back to themselves."""
    signed_in = [imagined(), *(imagined(role) for role in policy.roles.bit)]
    for denial in policy.answers.denials:
        if denial.to is None:
            continue
        if policy.line_for("GET", denial.to) is None and not policy.unbound:
            message = f"this leads to {denial.to}, which no line covers, so nobody could see it"
            yield Problem(f"{message}; add GET {denial.to} to the endpoints", denial.place)
            continue
        callers: list[Caller | None] = [None] if denial.reason == "signed-out" else [*signed_in]
        if denial.reason not in ("signed-out", "signed-in", "role", "apart"):
            callers.append(None)
        for caller in callers:
            loop = _loop(policy, denial.to, caller)
            if loop:
                who = "nobody is signed in" if caller is None else f"the caller is {_called(caller)}"
                way = " → ".join(loop)
                yield Problem(
                    f"this redirect goes in a circle when {who}: {way}; let these callers see one of the pages",
                    denial.place,
                )
                break


def _called(caller: Caller) -> str:
    return ", ".join(caller.roles) or "signed in"


def _loop(policy: Policy, start: str, caller: Caller | None) -> list[str]:
    """The circle that redirects lead a caller in from a page on, or an empty list."""
    way = [start]
    while True:
        decision = policy.decide(caller, "GET", way[-1])
        reasons = [decision.reason] if decision.reason is not None else []
        if decision.outcome is Outcome.DEPENDS and decision.remainder is not None:
            # Should one of these conditions fail, the caller is sent on as well.
            reasons = [condition.name for condition in conditions_in(decision.remainder)]
        answers = [policy.answers.answer("GET", way[-1], reason) for reason in reasons]
        onward = next((answer.location for answer in answers if answer.location is not None), None)
        if onward is None:
            return []
        if onward in way:
            return [*way[way.index(onward) :], onward]
        way.append(onward)
