"""Whether what is asked for now may wait for another machine: on an event loop it never may."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_MAY_WAIT = ContextVar("bloodroot may wait", default=True)


def may_wait() -> bool:
    """Whether it may."""
    return _MAY_WAIT.get()


@contextmanager
def without_waiting() -> Iterator[None]:
    """What is within does not wait: keys that had to be asked for are none, and tokens are refused for now."""
    before = _MAY_WAIT.set(False)
    try:
        yield
    finally:
        _MAY_WAIT.reset(before)
