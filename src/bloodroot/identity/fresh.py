"""Members remembered for a short time: fresh enough that a suspended member stops, without a query a request."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable

from .members import Member

_KEPT = 20_000  # the oldest goes where there are more


class Unknown:
    """Nothing is remembered of this member."""


UNKNOWN = Unknown()


class Remembered:
    """What was found of members, each for some seconds from the moment the question was asked.

    Args:
        find: finds a member by id; None for no such member.
        seconds: for how long an answer is kept; 0 asks every time.
        clock: seconds that only go forward.
    """

    def __init__(
        self, find: Callable[[object], Member | None], seconds: float, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._find = find
        self._seconds = seconds
        self._clock = clock
        self._lock = threading.Lock()
        self._found: dict[Hashable, tuple[float, Member | None]] = {}
        self._changes = 0

    def remembered(self, identifier: object) -> Member | None | Unknown:
        """What is remembered of a member, without waiting for anything; `UNKNOWN` for nothing."""
        found = self._found.get(_key(identifier))
        return found[1] if found is not None and self._clock() < found[0] else UNKNOWN

    def member(self, identifier: object) -> Member | None:
        """A member by id, from memory or found anew."""
        found = self.remembered(identifier)
        if not isinstance(found, Unknown):
            return found
        # Kept until some seconds after the question, not the answer: what it says may be as old as that.
        until = self._clock() + self._seconds
        changes = self._changes
        member = self._find(identifier)
        with self._lock:
            # What was found while the directory was changed may be from before the change.
            if changes == self._changes and self._seconds > 0:
                # What is found anew is the youngest.
                self._found.pop(_key(identifier), None)
                if len(self._found) >= _KEPT:
                    del self._found[next(iter(self._found))]
                self._found[_key(identifier)] = (until, member)
        return member

    def forget(self) -> None:
        """Ask anew from now on. Call it after every change that has to be seen at once."""
        with self._lock:
            self._changes += 1
            self._found.clear()


def _key(identifier: object) -> Hashable:
    """An id as a key of its own kind: 1, True and "1" are three."""
    return (type(identifier), str(identifier))
