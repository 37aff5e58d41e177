"""Requests that show a change: made from values for which two policies differ, and decided by both."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any

from ..checks.witnesses import by_root, command
from ..core.caller import Caller
from ..core.decision import Decision, Outcome
from ..core.finding import Witness
from ..core.formulas import FALSE, TRUE, Formula, both
from ..core.paths import encoded_segment
from ..core.policy import Policy
from ..core.reasoning import Reasoner
from ..core.records import MISSING
from ..core.requirements import conditions_in, references_in
from .access_compared import ComparedKind
from .caller_kinds import CallerKind
from .changes import Shown
from .regions import Region
from .situations import Spot

Values = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Failing:
    """Values for references, by their words, for which two policies may refuse for different reasons.

    Attributes:
        conditions: for every caller: where each condition alone fails or holds, and where all do.
        others: for signed-out callers: where other callers gain or lose. Whether one is sent to sign in rests on that.
    """

    conditions: tuple[Values, ...]
    others: tuple[Values, ...]

    def of(self, weighed: ComparedKind) -> Iterable[Values]:
        """The values to try for one kind of caller."""
        never = FALSE in (weighed.old.when, weighed.new.when)
        return chain([{}] if never else [], self.conditions, self.others if weighed.kind.roles is None else ())


@dataclass(frozen=True, slots=True)
class Spotted:
    """Where a request is sent.

    Attributes:
        method: the method.
        region: the region that its path is in.
        names: what the parts of its path are called.
    """

    method: str
    region: Region
    names: Mapping[Spot, str]

    def path(self, values: Mapping[str, str]) -> str:
        """A path with these values for its parts."""
        segments = list(self.region.segments)
        for (place, before, after), name in self.names.items():
            if name in values:
                segments[place] = f"{before}{values[name]}{after}"
        return "/" + "/".join(map(encoded_segment, segments))


@dataclass(frozen=True, slots=True)
class _Request:
    """A caller and a request, the same for both policies."""

    caller: Caller | None
    witness: Witness
    known: Mapping[str, Any]

    def decided(self, policy: Policy) -> Decision:
        """What a policy says."""
        return policy.decide(self.caller, self.witness.method, self.witness.path, **self.known)


def shown(old: Policy, new: Policy, where: Spotted, weighed: ComparedKind) -> Shown | None:
    """A request that shows a change of access, as both policies decide; None where there is none to be sure of."""
    for assignment, opens in ((weighed.opening, True), (weighed.closing, False)):
        request = _request(where, weighed.kind, assignment) if assignment is not None else None
        if request is None:
            continue
        outcomes = request.decided(old).outcome, request.decided(new).outcome
        refused, let_in = outcomes if opens else outcomes[::-1]
        if let_in is Outcome.ALLOW and refused in (Outcome.DENY, Outcome.SIGN_IN):
            return Shown(request.witness, outcomes[0].value, outcomes[1].value, _command(request))
    return None


@dataclass(frozen=True, slots=True)
class Answered:
    """Two answers to one refused request.

    Attributes:
        old: the answer of the old policy, in words.
        new: that of the new one.
        shown: the request.
        values: the values that it was made of.
    """

    old: str
    new: str
    shown: Shown
    values: Values


def answers_differ(
    old: Policy, new: Policy, where: Spotted, kind: CallerKind, tried: Iterable[Values]
) -> Answered | None:
    """A request that both policies refuse and answer otherwise; None where there is none among those that are tried."""
    for values in tried:
        request = _request(where, kind, values)
        if request is None:
            continue
        one, other = request.decided(old), request.decided(new)
        if one.reason is None or other.reason is None:
            continue
        words = _answer(one), _answer(other)
        if words[0] != words[1]:
            return Answered(*words, Shown(request.witness, *words, _command(request)), values)
    return None


def failing(formulas: Iterable[Formula], weighed: Iterable[ComparedKind], reasoner: Reasoner) -> Failing:
    """Values for which something that two policies ask fails."""
    formulas = tuple(formulas)
    conditions = dict.fromkeys(condition for formula in formulas for condition in conditions_in(formula))
    found = [reasoner.implies(TRUE, condition).assignment for condition in conditions]
    # Where a condition holds it is something else that refuses.
    found += [reasoner.never(condition).assignment for condition in (*conditions, both(conditions))]
    found.append(
        {
            reference.words(): MISSING
            for formula in formulas
            for reference in references_in(formula)
            if reference.root != "path"
        }
    )
    others = [values for each in weighed for values in (each.opening, each.closing)]
    return Failing(_different(found), _different(others))


def _different(found: Iterable[Values | None]) -> tuple[Values, ...]:
    return tuple({_as_key(values): values for values in found if values is not None}.values())


def _as_key(values: Values) -> object:
    return tuple(sorted((name, repr(value)) for name, value in values.items()))


def _answer(decision: Decision) -> str:
    """An answer in the words of a policy."""
    answer = decision.answer
    assert answer is not None
    words = "hide" if answer.hidden else f"go {answer.location}" if answer.location else f"status {answer.status}"
    if answer.otherwise is not None:
        words += f" or status {answer.otherwise}"
    return f'{decision.outcome.value}, {words} "{answer.message}"'


def _request(where: Spotted, kind: CallerKind, assignment: Mapping[str, Any]) -> _Request | None:
    """A caller and a request with these values; None where there can be no such caller or path."""
    given = by_root(assignment)
    attributes = dict(given.get("caller", {}))
    if kind.roles is None:
        attributes = {}
    caller = kind.caller()
    if caller is not None and "caller" in given:
        rest = {name: value for name, value in attributes.items() if name != "id"}
        caller = replace(caller, id=attributes.get("id"), attributes=rest)
    values = {name: str(value) for name, value in given.get("path", {}).items()}
    if any(not value for value in values.values()):
        return None
    path = where.path(values)
    facts = {
        "record": given.get("record"),
        "records": given.get("records"),
        "query": given.get("query") or {},
        "args": given.get("args"),
        "now": assignment.get("now"),
    }
    others = {
        name: value
        for name, value in assignment.items()
        if name.partition(".")[0] in ("query", "records", "args", "now")
    }
    witness = Witness(kind.roles, attributes, given.get("record"), others, where.method, path)
    return _Request(caller, witness, facts)


def _command(request: _Request) -> str | None:
    """The command that explains a decision on a request; None where a command line cannot say it."""
    caller = request.caller
    if caller is not None and (caller.scopes is not None or caller.granted):
        return None
    return command(request.witness)
