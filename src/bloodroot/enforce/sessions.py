"""Sessions as they were before a handler ran, so that what a withheld response has put there does not leave."""

from __future__ import annotations

import copy
from collections.abc import MutableMapping
from typing import Any

_PLAIN = frozenset((str, int, float, bool, type(None)))


class KeptSession:
    """What is in a session.

    Args:
        session: a mapping, such as the session of Starlette or Flask, with attributes that say whether it was changed.
    """

    __slots__ = ("_attributes", "_before", "session")

    def __init__(self, session: MutableMapping[str, Any]) -> None:
        self.session = session
        # One that is no mapping cannot be changed in place.
        changes = isinstance(session, (dict, MutableMapping))
        self._before = copied(session) if changes else None
        self._attributes = dict(getattr(session, "__dict__", ())) if changes else {}

    def restore(self) -> None:
        """Put it back."""
        session, before = self.session, self._before
        if before is None:
            return
        if dict(session) != before:
            session.clear()
            session.update(before)
        if hasattr(session, "__dict__"):
            vars(session).clear()
            vars(session).update(self._attributes)


def copied(values: MutableMapping[str, Any]) -> dict[str, Any]:
    """A copy that later changes do not reach."""
    found = dict(values)
    for value in found.values():
        if value.__class__ not in _PLAIN:
            break
    else:
        return found
    try:
        return copy.deepcopy(found)
    except Exception:  # something in it cannot be copied: names alone are put back
        return found
