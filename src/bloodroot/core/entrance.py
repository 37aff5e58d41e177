"""Who gets in at one endpoint: every kind of caller, with those who get the same together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from .caller import Caller, imagined
from .decision import Decision, Outcome
from .requirements import in_words

if TYPE_CHECKING:
    from .answers import Answer
    from .lines import Line
    from .policy import Policy

_ORDER = (Outcome.ALLOW, Outcome.DEPENDS, Outcome.SIGN_IN, Outcome.DENY)


@dataclass(frozen=True, slots=True)
class Treated:
    """Callers who get the same.

    Attributes:
        outcome: the outcome.
        names: who they are.
        remainder: on what it depends, in words, or None.
        reason: why they are refused, or None.
        answer: what they get where they are refused, or None.
    """

    outcome: Outcome
    names: tuple[str, ...]
    remainder: str | None
    reason: str | None
    answer: Answer | None


@dataclass(frozen=True, slots=True)
class Entrance:
    """Who gets in at one endpoint.

    Attributes:
        method: the method.
        path: the path.
        line: the endpoint line; None where everything is closed.
        rules: the standing rules that must hold as well.
        roles: the kinds of callers, signed-out ones and the roles.
        personas: the personas.
        count: how many kinds of callers there are.
    """

    method: str
    path: str
    line: Line | None
    rules: tuple[Line, ...]
    roles: tuple[Treated, ...]
    personas: tuple[Treated, ...]
    count: int

    @property
    def let_in(self) -> int:
        """How many kinds of callers are let in, if only sometimes."""
        return sum(len(role.names) for role in self.roles if role.outcome in (Outcome.ALLOW, Outcome.DEPENDS))


def entrance(policy: Policy, method: str, path: str, personas: Mapping[str, Caller | None], **values: Any) -> Entrance:
    """Who gets in.

    Args:
        policy: the policy.
        method: the method.
        path: the path.
        personas: callers by name, beside the kinds of callers.
        known: what else `Policy.decide` takes: ``record``, ``query`` and so on.
    """
    roles = policy.roles.kinds
    kinds: dict[str, Caller | None] = {"signed-out": None, "signed-in": imagined()}
    kinds |= {name: imagined(name) for name in roles}
    decided = {name: policy.decide(caller, method, path, **values) for name, caller in kinds.items()}
    first = decided["signed-in"]
    return Entrance(
        method,
        path,
        first.line,
        tuple(policy.lookup.rules_for(method, path)) if first.line is not None else (),
        _treated(decided.items()),
        _treated((name, policy.decide(caller, method, path, **values)) for name, caller in personas.items()),
        len(kinds),
    )


def _treated(decided: Iterable[tuple[str, Decision]]) -> tuple[Treated, ...]:
    groups: dict[tuple[object, ...], list[str]] = {}
    decisions: dict[tuple[object, ...], Decision] = {}
    for name, decision in decided:
        answer = decision.answer
        said = answer and (answer.status, answer.location, answer.hidden, answer.message)
        rest = in_words(decision.remainder) if decision.remainder is not None else None
        key = (decision.outcome, rest, decision.reason, said)
        groups.setdefault(key, []).append(name)
        decisions.setdefault(key, decision)
    treated = [
        Treated(
            decision.outcome,
            tuple(groups[key]),
            in_words(decision.remainder) if decision.remainder is not None else None,
            decision.reason,
            decision.answer,
        )
        for key, decision in decisions.items()
    ]
    return tuple(sorted(treated, key=lambda treated: _ORDER.index(treated.outcome)))
