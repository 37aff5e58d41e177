"""What was found, remembered for a short time: fresh enough that a suspended member stops, without endless queries."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")

_KEPT = 20_000  # the oldest goes where there are more


class Unknown:
    """Nothing is remembered."""


UNKNOWN = Unknown()


class Remembered(Generic[T]):
    """What was found of members or keys, each for some seconds from the moment the question was asked.

    Args:
        find: finds one by its id; None for none.
        seconds: for how long an answer is kept; 0 asks every time.
        clock: seconds that only go forward.
    """

    def __init__(
        self, find: Callable[[object], T | None], seconds: float, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._find = find
        self._seconds = seconds
        self._clock = clock
        self._lock = threading.Lock()
        self._found: dict[Hashable, tuple[float, T | None]] = {}
        self._changes = 0

    def remembered(self, identifier: object) -> T | None | Unknown:
        """What is remembered of one, without waiting for anything; `UNKNOWN` for nothing."""
        found = self._found.get(_key(identifier))
        return found[1] if found is not None and self._clock() < found[0] else UNKNOWN

    def found(self, identifier: object) -> T | None:
        """One by its id, from memory or found anew."""
        found = self.remembered(identifier)
        if not isinstance(found, Unknown):
            return found
        # Kept until some seconds after the question, not the answer: what it says may be as old as that.
        until = self._clock() + self._seconds
        changes = self._changes
        anew = self._find(identifier)
        with self._lock:
            # What was found while the directory was changed may be from before the change.
            if changes == self._changes and self._seconds > 0:
                # What is found anew is the youngest.
                self._found.pop(_key(identifier), None)
                if len(self._found) >= _KEPT:
                    del self._found[next(iter(self._found))]
                self._found[_key(identifier)] = (until, anew)
        return anew

    def forget(self) -> None:
        """Ask anew from now on. Call it after every change that has to be seen at once."""
        with self._lock:
            self._changes += 1
            self._found.clear()


def _key(identifier: object) -> Hashable:
    """An id as a key of its own kind: 1, True and "1" are three."""
    return (type(identifier), str(identifier))
