"""Sessions as they were before a handler ran, so that what a withheld response has put there does not leave."""

from __future__ import annotations

import copy
from collections.abc import Callable, MutableMapping
from typing import Any

_PLAIN = frozenset((str, int, float, bool, type(None)))


def kept_session(session: MutableMapping[str, Any]) -> Callable[[], None]:
    """Keep what is in a session; what is returned puts it back.

    Args:
        session: a mapping, such as the session of Starlette or Flask, with attributes that say whether it was changed.
    """
    if not isinstance(session, dict | MutableMapping):
        return lambda: None  # one that nothing can be put into
    before = copied(session)
    attributes = dict(getattr(session, "__dict__", ()))

    def restore() -> None:
        if dict(session) != before:
            session.clear()
            session.update(before)
        if hasattr(session, "__dict__"):
            vars(session).clear()
            vars(session).update(attributes)

    return restore


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
