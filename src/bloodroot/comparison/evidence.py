"""Requests that show a change: made from values for which two policies differ, and decided by both."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..checks.finding import Witness
from ..checks.reasoning import Reasoner
from ..checks.witnesses import by_root, command
from ..core.caller import Caller
from ..core.decision import Decision, Outcome
from ..core.formulas import TRUE, both
from ..core.paths import encoded_segment
from ..core.policy import Policy
from ..core.requirements import conditions_in
from .changes import Shown
from .kinds import Kind
from .regions import Region
from .sides import Spot
from .weighing import Weighed


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


def shown(old: Policy, new: Policy, where: Spotted, weighed: Weighed) -> Shown | None:
    """A request that shows a change of access, as both policies decide; None where there is none to be sure of."""
    if weighed.assignment is None or weighed.change is None:
        return None
    request = _request(where, weighed.kind, weighed.assignment)
    if request is None:
        return None
    one, other = request.decided(old).outcome, request.decided(new).outcome
    let_in = (one is Outcome.ALLOW, other is Outcome.ALLOW)
    open_yet = Outcome.DEPENDS in (one, other)
    if let_in[0] == let_in[1] or open_yet:
        return None
    if let_in[1] != weighed.change.opens:
        return None
    return Shown(request.witness, one.value, other.value, _command(request))


def answers_differ(
    old: Policy, new: Policy, where: Spotted, weighed: Weighed, reasoner: Reasoner
) -> tuple[str, str, Shown] | None:
    """The answers of a refusal that both policies make and word differently, with a request that shows them."""
    for assignment in _refused(weighed, reasoner):
        request = _request(where, weighed.kind, assignment)
        if request is None:
            continue
        one, other = request.decided(old), request.decided(new)
        if one.reason is None or other.reason is None:
            continue
        words = _answer(one), _answer(other)
        if words[0] != words[1]:
            return *words, Shown(request.witness, *words, _command(request))
    return None


def _refused(weighed: Weighed, reasoner: Reasoner) -> Iterator[Mapping[str, Any]]:
    """Values for which both policies refuse: none needed, or for each condition those that fail it alone."""
    when = both((weighed.old.when, weighed.new.when))
    if weighed.old.outcome not in (Outcome.ALLOW, Outcome.DEPENDS):
        yield {}
        return
    for condition in dict.fromkeys(conditions_in(when)):
        failing = reasoner.implies(TRUE, condition)
        if failing.assignment is not None:
            yield failing.assignment
    found = reasoner.implies(TRUE, when)
    if found.assignment is not None:
        yield found.assignment


def _answer(decision: Decision) -> str:
    """An answer in the words of a policy."""
    answer = decision.answer
    assert answer is not None
    words = "hide" if answer.hidden else f"go {answer.location}" if answer.location else f"status {answer.status}"
    if answer.otherwise is not None:
        words += f" or status {answer.otherwise}"
    return f'{decision.outcome.value}, {words} "{answer.message}"'


def _request(where: Spotted, kind: Kind, assignment: Mapping[str, Any]) -> _Request | None:
    """A caller and a request with these values; None where there can be no such caller or path."""
    given = by_root(assignment)
    attributes = dict(given.get("caller", {}))
    if kind.roles is None and attributes:
        return None
    caller = kind.caller()
    if caller is not None and "caller" in given:
        rest = {name: value for name, value in attributes.items() if name != "id"}
        caller = replace(caller, id=attributes.get("id"), attributes=rest)
    values = {name: str(value) for name, value in given.get("path", {}).items()}
    if any(not value for value in values.values()):
        return None
    path = where.path(values)
    known = {
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
    return _Request(caller, witness, known)


def _command(request: _Request) -> str | None:
    """The command that explains a decision on a request; None where a command line cannot say it."""
    caller = request.caller
    if caller is not None and (caller.scopes is not None or caller.granted):
        return None
    return command(request.witness)
