"""Redirects of refused callers: whether they lead to a page that is there, and out of every circle."""

from __future__ import annotations

from itertools import combinations
from typing import TYPE_CHECKING

from ..language.problems import Problem
from .caller import imagined
from .decision import Outcome
from .paths import read_path
from .question import Question
from .requirements import roles_in

if TYPE_CHECKING:
    from collections.abc import Iterator

    from .answers import Denial
    from .caller import Caller
    from .evaluate import Evaluator

_MOST_SETS = 64  # of roles, which are all tried together where there are no more of them
_OF_SIGNED_IN = ("signed-in", "role", "apart")


def redirect_problems(evaluator: Evaluator) -> Iterator[Problem]:
    """Redirects that no caller can follow, or that go in a circle."""
    redirects = [denial for denial in evaluator.answers.denials if denial.to is not None]
    followable = []
    for denial in redirects:
        if (
            denial.to is not None
            and evaluator.lookup.for_request("GET", denial.to) is None
            and not evaluator.lookup.unbound
        ):
            message = f"this leads to {denial.to}, which no line covers, so no one could see it"
            yield Problem(f"{message}; add GET {denial.to} to the endpoints", denial.place)
        else:
            followable.append(denial)
    if not followable:
        return
    denials: set[Denial] = set()
    for caller in _callers(evaluator, followable):
        ways = _RedirectPaths(evaluator, caller)
        for denial in followable:
            if denial in denials or not _may_answer(evaluator, denial, caller):
                continue
            loop = ways.loop(denial.to or "")
            if loop:
                denials.add(denial)
                who = "nobody is signed in" if caller is None else f"the caller is {_called(caller)}"
                way = " → ".join(loop)
                yield Problem(
                    f"this redirect goes in a circle when {who}: {way}; let these callers see one of the pages",
                    denial.place,
                )


def _called(caller: Caller) -> str:
    return ", ".join(sorted(caller.roles)) or "signed in"


def _callers(evaluator: Evaluator, redirects: list[Denial]) -> Iterator[Caller | None]:
    """Callers who differ in what the pages that redirects lead to make of them: with any attributes, of any roles."""
    yield None
    yield imagined()
    named: dict[str, None] = {}
    for page in dict.fromkeys(denial.to or "" for denial in redirects):
        line = evaluator.lookup.for_request("GET", page)
        for each in (*evaluator.lookup.rules_for("GET", page), *([line] if line is not None else [])):
            named.update(dict.fromkeys(roles_in(each.requirement.formula)))
    names = list(named)
    most = len(names) if 2 ** len(names) <= _MOST_SETS else 1
    for count in range(1, most + 1):
        for chosen in combinations(names, count):
            yield imagined(*chosen)
    if most < len(names):
        yield imagined(*names)
    for members in evaluator.roles.apart:
        yield imagined(*(name for name, _ in members))


def _may_answer(evaluator: Evaluator, denial: Denial, caller: Caller | None) -> bool:
    """Whether a denial may be the answer to a caller."""
    if caller is None:
        return denial.reason not in _OF_SIGNED_IN
    if evaluator.roles.held(caller).apart:
        return denial.reason in ("apart", "any")
    return denial.reason not in ("signed-out", "apart")


class _RedirectPaths:
    """Where a caller is sent on to, from page to page."""

    def __init__(self, evaluator: Evaluator, caller: Caller | None) -> None:
        self._evaluator = evaluator
        self._caller = caller
        self._next: dict[str, list[str]] = {}
        self._circles: dict[str, bool] = {}

    def onward(self, page: str) -> list[str]:
        """The pages that the caller may be sent on to from a page, for whatever reason it is refused."""
        found = self._next.get(page)
        if found is None:
            answers = (self._evaluator.answers.answer("GET", page, reason) for reason in self._reasons(page))
            pages = dict.fromkeys(answer.location for answer in answers)
            found = self._next[page] = [location for location in pages if location is not None]
        return found

    def _reasons(self, page: str) -> list[str]:
        decision = self._evaluator.decide(Question(self._caller, "GET", page), read_path(page))
        if decision.outcome is Outcome.ALLOW:
            return []
        if decision.line is None or decision.reason == "apart":
            return [decision.reason or "closed"]
        return sorted(self._evaluator.possible_reasons(decision))

    def loop(self, start: str) -> list[str]:
        """The circle that redirects lead the caller in from a page on, or an empty list."""
        if not self._leads_to_circle(start):
            return []
        way = [start]
        while True:
            page = next(page for page in self.onward(way[-1]) if page in way or self._circles.get(page))
            if page in way:
                return [*way[way.index(page) :], page]
            way.append(page)

    def _leads_to_circle(self, start: str) -> bool:
        """Whether a circle can be reached from a page. Each page is looked at once."""
        if start in self._circles:
            return self._circles[start]
        waiting = [(start, iter(self.onward(start)))]
        on_the_way = {start: False}
        while waiting:
            page, onward = waiting[-1]
            for each in onward:
                if each in on_the_way:
                    on_the_way[page] = True
                elif each in self._circles:
                    on_the_way[page] = on_the_way[page] or self._circles[each]
                else:
                    on_the_way[each] = False
                    waiting.append((each, iter(self.onward(each))))
                    break
            else:
                waiting.pop()
                self._circles[page] = leads = on_the_way.pop(page)
                if leads and waiting:
                    on_the_way[waiting[-1][0]] = True
        return self._circles[start]
