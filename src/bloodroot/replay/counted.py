"""What a part of the logs comes to: counts that can be added to those of other parts, in any order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum
from functools import reduce
from typing import NamedTuple, TypeVar

K = TypeVar("K")
_MOST = 20_000  # kinds of differences, and of users of a line
MOST_CALLERS = 200  # of one difference


class Redecided(StrEnum):
    """What a policy says of what was recorded."""

    SAME = "same"
    REFUSED = "refused"  # let in then, refused now
    LET_IN = "let in"  # refused then, let in now
    DEPENDS = "depends"  # on a record, or on an attribute of the caller, which no log has


class RecordedCaller(NamedTuple):
    """Callers as far as a log says who they are.

    Attributes:
        word: ``signed-out``, ``signed-in``, ``a user`` of whom no roles are known, or ``unknown``.
        kinds: for ``signed-in``, the roles and groups, as kinds of callers.
        scopes: the scopes of a token for less, or None.
        scoped_roles: the roles that it counts for, or None.
        granted: the permissions that the directory gave.
    """

    word: str
    kinds: tuple[str, ...] = ()
    scopes: tuple[str, ...] | None = None
    scoped_roles: tuple[str, ...] | None = None
    granted: tuple[str, ...] = ()

    def words(self) -> str:
        """As in ``curator, auditor``."""
        if self.word != "signed-in":
            return self.word
        held = ", ".join((*self.kinds, *(f"granted {name}" for name in self.granted))) or "signed-in, no role"
        return f"{held} (a token for {', '.join(self.scopes) or 'nothing'})" if self.scopes is not None else held


OTHERS = RecordedCaller("others")


class AskedAt(NamedTuple):
    """Where something was asked: a line and a method.

    Attributes:
        at: the place of the line; empty where no line decides.
        path: its template; the path itself, or where it begins, where no line decides.
        method: the method.
    """

    at: str
    path: str
    method: str


@dataclass(slots=True)
class Times:
    """How often, when, by how many callers, and a path.

    Attributes:
        count: how often.
        first: when it was seen first, as RFC 3339 in UTC.
        last: when it was seen last.
        example: a path.
        callers: the callers, and no more than `MOST_CALLERS` of them; of what depends, none.
    """

    count: int = 0
    first: str = ""
    last: str = ""
    example: str = ""
    callers: set[bytes] = field(default_factory=set)

    def add(self, other: Times) -> None:
        """Add other times. The result does not depend on the order of what is added."""
        self.count += other.count
        self.first = min(self.first or other.first, other.first or self.first)
        self.last = max(self.last, other.last)
        self.example = min(self.example or other.example, other.example or self.example)
        for caller in other.callers:
            add_caller(self.callers, caller)


def add_caller(callers: set[bytes], caller: bytes) -> None:
    """Count a caller; of too many the same ones are kept, whatever is added first."""
    callers.add(caller)
    if len(callers) > MOST_CALLERS:
        callers.remove(max(callers))


class Difference(NamedTuple):
    """What would be otherwise, for one kind of caller at one place.

    Attributes:
        asked: where.
        who: for whom.
        now: what the policy says.
        why: the reason of a refusal, what it depends on, or an empty string.
    """

    asked: AskedAt
    who: RecordedCaller
    now: Redecided
    why: str


@dataclass(slots=True)
class Counted:
    """What a part of the logs comes to.

    Attributes:
        requests: how many requests are recorded.
        let_in: how many of them were let in for sure.
        unread: lines that say nothing.
        untold: requests whose status does not say whether they were let in.
        unknown: requests of whose callers nothing is known.
        first: the time of the first.
        last: the time of the last.
        differences: what would be otherwise, or depends.
        used: who was let in, or may have been, at which line.
    """

    requests: int = 0
    let_in: int = 0
    unread: int = 0
    untold: int = 0
    unknown: int = 0
    first: str = ""
    last: str = ""
    differences: dict[Difference, Times] = field(default_factory=dict)
    used: dict[tuple[AskedAt, RecordedCaller], Times] = field(default_factory=dict)

    def add(self, other: Counted) -> None:
        """Add what another part comes to."""
        for name in ("requests", "let_in", "unread", "untold", "unknown"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.first = min(self.first or other.first, other.first or self.first)
        self.last = max(self.last, other.last)
        for difference, times in other.differences.items():
            self.differ(difference, times)
        for (asked, who), times in other.used.items():
            self.use(asked, who, times)

    def differ(self, difference: Difference, times: Times) -> None:
        """Count a difference; of too many kinds, those that come later as of others."""
        _add(self.differences, difference, times, lambda: difference._replace(who=OTHERS, why=""))

    def use(self, asked: AskedAt, who: RecordedCaller, times: Times) -> None:
        """Count who was let in."""
        # Of callers who are counted together everything is taken to be used.
        _add(self.used, (asked, who), times, lambda: (asked, RecordedCaller("unknown")))


def _add(found: dict[K, Times], key: K, times: Times, lumped: Callable[[], K]) -> None:
    if key not in found and len(found) >= _MOST:
        key = lumped()
    known = found.get(key)
    if known is None:
        known = found[key] = Times()
    known.add(times)


def together(parts: list[Counted]) -> Counted:
    """Several parts as one."""

    def added(one: Counted, other: Counted) -> Counted:
        one.add(other)
        return one

    return reduce(added, parts, Counted())
