"""Sessions as they were before a handler ran, so that what a withheld response has put there does not leave."""

from __future__ import annotations

import copy
from collections.abc import Callable, MutableMapping
from typing import Any

_FLAGS = ("modified", "accessed", "new")
_PLAIN = (str, int, float, bool, type(None))


def kept_session(session: MutableMapping[str, Any]) -> Callable[[], None]:
    """Keep what is in a session; what is returned puts it back.

    Args:
        session: a mapping, such as the session of Starlette or Flask.
    """
    if not isinstance(session, MutableMapping):
        return lambda: None  # one that nothing can be put into
    before = copied(session)
    flags = {name: getattr(session, name) for name in _FLAGS if hasattr(session, name)}

    def restore() -> None:
        if dict(session) == before:
            return
        session.clear()
        session.update(before)
        for name, value in flags.items():
            setattr(session, name, value)

    return restore


def copied(values: MutableMapping[str, Any]) -> dict[str, Any]:
    """A copy that later changes do not reach."""
    found = dict(values)
    if all(isinstance(value, _PLAIN) for value in found.values()):
        return found
    try:
        return copy.deepcopy(found)
    except Exception:  # something in it cannot be copied: names alone are put back
        return found
