"""What a policy says of recorded requests: decided once for each line, kind of caller, and what the line asks beside.

What no log has (records, attributes of callers) is taken as not known: then a decision depends, unless it is the same
whatever they are.
"""

from __future__ import annotations

import datetime
import json
from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

from ..core.caller import Caller, imagined, kind_of_group
from ..core.decision import Outcome
from ..core.endpoint_outcomes import asked_at, left_of, outcome_of
from ..core.formulas import FALSE, TRUE, can_be_true
from ..core.matrix import Row, Spreading, row_of, spreading_of_roles
from ..core.paths import read_path
from ..core.requirements import NOW, asks_of, in_words, references_in
from .counted import MOST_CALLERS, AskedAt, Counted, Difference, RecordedCaller, Redecided, Times, add_caller
from .recorded import Reader, Recorded, time_of

if TYPE_CHECKING:
    from ..core.formulas import Formula
    from ..core.lines import Line
    from ..core.policy import Policy

_MOST_SPOTS, _MOST_TALLIES, _MOST_ALIKE = 100_000, 50_000, 200_000
_LET_IN, _REFUSED, _UNTOLD, _MISSED = "let in", "refused", "untold", "missed"
PERMISSION = "permission"  # the method of what a service was asked beside endpoints
_NO_ONE = (b"", b"null")
_NOT_USED = ("400", "401", "403", "404", "405")


class _At(NamedTuple):
    """What a policy has for a method and a path.

    Attributes:
        asked: how it is counted.
        line: the line that decides, or None.
        formulas: what is asked there; of a permission, what gives it.
        by_caller: whether that rests on the caller's id.
        by_path: whether it rests on the parameters of the path.
        by_time: whether it rests on the time.
    """

    asked: AskedAt
    line: Line | None
    formulas: tuple[Formula, ...]
    by_caller: bool = False
    by_path: bool = False
    by_time: bool = False


class _Judged(NamedTuple):
    now: Redecided
    why: str = ""


class _Tally:
    """The requests that are alike, with what a policy says of them."""

    __slots__ = (
        *("at", "callers", "count", "example", "first", "has_callers", "is_let_in", "is_used", "largest", "last"),
        *("verdict", "was", "who"),
    )

    def __init__(self, at: _At, who: RecordedCaller, was: str, verdict: _Judged, recorded: Recorded) -> None:
        self.at, self.who, self.was, self.verdict = at, who, was, verdict
        self.count = 0
        self.first = self.last = recorded.time
        self.example = recorded.path
        self.callers: set[bytes] = set()
        self.largest = b""
        self.has_callers = verdict.now in (Redecided.REFUSED, Redecided.LET_IN)
        self.is_let_in = was == _LET_IN
        self.is_used = was in (_LET_IN, _UNTOLD)

    def add_caller(self, caller: bytes) -> None:
        """Take a caller in; of too many, those that come first by name."""
        if len(self.callers) < MOST_CALLERS or caller < self.largest:
            add_caller(self.callers, caller)
            self.largest = max(self.callers)

    def see(self, time: bytes) -> None:
        """Take a time in: lines are nearly in the order of their times."""
        if time > self.last:
            self.last = time
        elif time < self.first:
            self.first = time


class _Decided(NamedTuple):
    """What is decided of a request.

    Attributes:
        outcome: the outcome.
        why: what it depends on, or the reason; an empty string where it is allowed.
    """

    outcome: Outcome
    why: str


class Redecider:
    """Decides recorded requests.

    Args:
        policy: the policy.
        users: the kinds of callers that a user of an access log is, by name; None where that is not known.
    """

    def __init__(self, policy: Policy, users: Callable[[str], tuple[str, ...] | None] | None = None) -> None:
        self._policy = policy
        self._users = users
        self._spots: dict[tuple[bytes, bytes], _At] = {}
        self._known: dict[tuple[Line, str], _At] = {}
        self._tallies: dict[object, _Tally] = {}
        self._alike: dict[tuple[bytes, ...], _Tally] = {}
        self._whos: dict[tuple[bytes | None, bytes], RecordedCaller] = {}
        self._rows: dict[tuple[Line, str], Row] = {}
        self._spreading: Spreading | None = None
        self.counted = Counted()

    def count(self, lines: Iterable[bytes], reader: Reader) -> None:
        """Count the requests of lines."""
        alike, key_of = self._alike, reader.key
        for line in lines:
            key = key_of(line)
            tally = alike.get(key[0]) if key is not None else None
            if tally is not None:
                assert key is not None
                tally.count += 1
                tally.see(key[1])
                if tally.has_callers:
                    tally.add_caller(reader.caller(line))
                continue
            recorded = reader.read(line)
            if recorded is None:
                self.counted.unread += not reader.is_beside(line)
                continue
            tally, is_all = self._tally(recorded)
            tally.count += 1
            tally.see(recorded.time)
            # Each path comes here once at least, so that the example is the same in whatever order they come.
            tally.example = min(tally.example, recorded.path)
            if tally.has_callers:
                tally.add_caller(recorded.caller)
            if key is not None and is_all:
                # Lines that are alike need not be read: neither the caller nor the time makes a difference.
                alike[key[0]] = tally
            if len(self._tallies) > _MOST_TALLIES or len(alike) > _MOST_ALIKE:
                self.gather()
        self.gather()

    def _tally(self, recorded: Recorded) -> tuple[_Tally, bool]:
        """The tally of a request, and whether it is that of every one that differs in caller and time alone."""
        at = self._spots.get((recorded.method, recorded.path)) or self._at(recorded.method, recorded.path)
        who = self._who_is(recorded)
        caller = recorded.caller if at.by_caller else None
        key = (
            at.asked,
            who,
            recorded.was,
            caller,
            recorded.path if at.by_path else None,
            recorded.time if at.by_time else None,
        )
        tally = self._tallies.get(key)
        if tally is None:
            was = _was(recorded.was)
            tally = self._tallies[key] = _Tally(at, who, was, self._verdict(at, who, was, recorded), recorded)
        return tally, not (at.by_caller or at.by_time)

    def gather(self) -> None:
        """Add what was counted to the result."""
        for tally in self._tallies.values():
            self._gather(tally)
        self._tallies.clear()
        self._alike.clear()
        if len(self._whos) > _MOST_TALLIES:
            self._whos.clear()

    def _gather(self, tally: _Tally) -> None:
        counted = self.counted
        first, last = time_of(tally.first), time_of(tally.last)
        example = tally.example.decode("utf-8", "replace")
        times = Times(tally.count, first or last, last, example, tally.callers)
        counted.requests += tally.count
        counted.let_in += tally.count if tally.is_let_in else 0
        counted.untold += tally.count if tally.was in (_UNTOLD, _MISSED) else 0
        counted.unknown += tally.count if tally.who.word in ("unknown", "a user") else 0
        counted.first = min(counted.first or times.first, times.first or counted.first)
        counted.last = max(counted.last, last)
        if tally.verdict.now is not Redecided.SAME:
            counted.differ(Difference(tally.at.asked, tally.who, *tally.verdict), times)
        if tally.is_used:
            counted.use(tally.at.asked, tally.who, Times(tally.count, times.first, last, example))

    # Where ---------------------------------------------------------------------------------------------------

    def _at(self, method: bytes, path: bytes) -> _At:
        if len(self._spots) > _MOST_SPOTS:
            self._spots.clear()
        at = self._spots[method, path] = self._found_at(
            method.decode("utf-8", "replace"), path.decode("utf-8", "replace")
        )
        return at

    def _found_at(self, method: str, path: str) -> _At:
        policy = self._policy
        if method == PERMISSION:
            permission = policy.resolver.permission(path)
            return _asking(AskedAt("", path, method), None, (permission,) if permission is not None else ())
        line = policy.lookup.for_request(method, path)
        if line is None:
            return _At(AskedAt("", _beginning(path), method), None, ())
        at = self._known.get((line, method))
        if at is None:
            asks = tuple(formula for _, formula in asked_at(policy, line, method))
            at = self._known[line, method] = _asking(AskedAt(line.place.at, line.template.text, method), line, asks)
        return at

    # Who -----------------------------------------------------------------------------------------------------

    def _who_is(self, recorded: Recorded) -> RecordedCaller:
        by_name = recorded.who is None and self._users is not None
        known = recorded.who, recorded.caller if by_name else b"" if recorded.caller in _NO_ONE else b"?"
        who = self._whos.get(known)
        if who is None:
            who = self._whos[known] = self._who(*known)
        return who

    def _who(self, who: bytes | None, caller: bytes) -> RecordedCaller:
        if who is not None:
            return _who_of_audit(who, is_known=bool(caller))
        if not caller:
            return RecordedCaller("unknown")
        kinds = self._users(caller.decode("utf-8", "replace")) if self._users is not None else None
        return RecordedCaller("signed-in", kinds) if kinds is not None else RecordedCaller("a user")

    # What the policy says ------------------------------------------------------------------------------------

    def _verdict(self, at: _At, who: RecordedCaller, was: str, recorded: Recorded) -> _Judged:
        if was in (_UNTOLD, _MISSED):
            return _Judged(Redecided.SAME)
        if who.word in ("unknown", "a user"):
            return self._of_anyone(at, who, was)
        outcome, why = self._decided(at, who, recorded)
        if outcome is Outcome.DEPENDS:
            return _Judged(Redecided.DEPENDS, why)
        if (outcome is Outcome.ALLOW) == (was == _LET_IN):
            return _Judged(Redecided.SAME)
        return _Judged(Redecided.LET_IN) if outcome is Outcome.ALLOW else _Judged(Redecided.REFUSED, why)

    def _of_anyone(self, at: _At, who: RecordedCaller, was: str) -> _Judged:
        """What is said of a caller of whom nothing is known: what is so for every kind of caller."""
        if at.asked.method == PERMISSION:
            return _Judged(Redecided.SAME)
        if at.line is None:
            return _Judged(Redecided.REFUSED, "closed") if was == _LET_IN else _Judged(Redecided.SAME)
        key = at.line, at.asked.method
        row = self._rows.get(key)
        if row is None:
            self._spreading = self._spreading or spreading_of_roles(self._policy)
            row = self._rows[key] = row_of(self._policy, self._spreading, at.line, (at.asked.method,))
        assert self._spreading is not None
        columns = self._spreading.every & ~(1 if who.word == "a user" else 0)
        perhaps = row.allow & columns
        for _, some in row.depends:
            perhaps |= some & columns
        if was == _LET_IN and not perhaps:
            return _Judged(Redecided.REFUSED, "closed")
        certain = row.allow & columns == columns and not row.marks
        return _Judged(Redecided.LET_IN) if was == _REFUSED and certain else _Judged(Redecided.SAME)

    def _decided(self, at: _At, who: RecordedCaller, recorded: Recorded) -> _Decided:
        caller, depends, time = _caller(who), "", None
        if at.asked.method == PERMISSION:
            left = left_of(self._policy, at.formulas[0], caller, at_any_time=True) if at.formulas else FALSE
            if left is TRUE:
                return _Decided(Outcome.ALLOW, "")
            return _Decided(Outcome.DEPENDS, in_words(left)) if can_be_true(left) else _Decided(Outcome.DENY, "role")
        if at.line is not None:
            outcome, _, remainder = outcome_of(self._policy, at.formulas, caller)
            if outcome is Outcome.ALLOW:
                return _Decided(outcome, "")
            rests = at.by_caller or at.by_path or at.by_time
            # In the words of the policy: with the caller's id in them there would be as many as callers.
            depends = in_words(remainder) if remainder is not None else ""
            time = _moment(recorded.time) if at.by_time else None
            # A time that cannot be read is not the present one.
            if outcome is Outcome.DEPENDS and (not rests or (at.by_time and time is None)):
                return _Decided(outcome, depends)
        if caller is not None and at.by_caller:
            caller = replace(caller, id=json.loads(recorded.caller))
        decision = self._policy.decide(
            caller,
            recorded.method.decode("utf-8", "replace"),
            recorded.path.decode("utf-8", "replace"),
            now=time,
        )
        if decision.outcome is Outcome.DEPENDS:
            return _Decided(decision.outcome, depends)
        return _Decided(decision.outcome, decision.reason or "")


def _asking(asked: AskedAt, line: Line | None, formulas: tuple[Formula, ...]) -> _At:
    references = [reference for formula in formulas for reference in references_in(formula)]
    return _At(
        asked,
        line,
        formulas,
        any(reference.root == "caller" and reference.names == ("id",) for reference in references),
        any(reference.root == "path" for reference in references),
        any(asks_of(formula) & NOW for formula in formulas),
    )


def _who_of_audit(who: bytes, *, is_known: bool) -> RecordedCaller:
    held = json.loads(b"{" + who + b"}")
    if held.get("roles") is None:
        # A signed-out caller has no roles, not even none; an id without roles is of a log that lacks them.
        return RecordedCaller("a user") if is_known else RecordedCaller("signed-out")
    kinds = [*map(str, held["roles"]), *(kind_of_group(str(each)) for each in held.get("groups") or ())]
    scopes, scoped = held.get("scopes"), held.get("scoped_roles")
    return RecordedCaller(
        "signed-in",
        tuple(sorted(kinds)),
        tuple(map(str, scopes)) if scopes is not None else None,
        tuple(map(str, scoped)) if scoped is not None else None,
        tuple(map(str, held.get("granted") or ())),
    )


def _caller(who: RecordedCaller) -> Caller | None:
    if who.word == "signed-out":
        return None
    granted = dict.fromkeys(who.granted, "the directory")
    return replace(imagined(*who.kinds), scopes=who.scopes, scoped_roles=who.scoped_roles, granted=granted)


def _was(written: bytes) -> str:
    """What became of a request: an outcome of the audit log, or a status of HTTP."""
    text = written.decode("ascii", "replace")
    if text.isdecimal():
        if text[0] == "2" or text in ("101", "304"):
            return _LET_IN
        if text in ("401", "403"):
            return _REFUSED
        return _MISSED if text in _NOT_USED else _UNTOLD
    if '"enforced": false' in text or text.startswith('"outcome": "allow"'):
        return _LET_IN
    return _REFUSED if text.startswith(('"outcome": "deny"', '"outcome": "sign-in"')) else _MISSED


def _beginning(path: str) -> str:
    """Where a path begins that no line decides: there may be very many of them."""
    segments = read_path(path)
    if segments is None:
        return "an address that can be read in more than one way"
    return f"/{segments[0]}/..." if len(segments) > 1 else f"/{segments[0] if segments else ''}"


def _moment(written: bytes) -> datetime.datetime | None:
    text = time_of(written)
    return datetime.datetime.fromisoformat(text) if text else None
