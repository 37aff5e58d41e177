"""What becomes of a request inside an application that runs in this process.

While `watched` is active, each request says which handler served it, whether that began to run, what enforcement
refused, and which exception was raised first. The frameworks are seen where they call a handler; what decorators have
put around it is looked through where they say what they wrap (``functools.wraps``).
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any

from ..frameworks import ADAPTERS
from ..frameworks.adapter import before
from ..survey.endpoints import printable

if TYPE_CHECKING:
    from ..core.binding import Route

_METHODS = ("get", "post", "put", "patch", "delete", "head", "options", "trace")


@dataclass(slots=True, eq=False)
class WatchedRequest:
    """What became of one request.

    Attributes:
        raw: the target as it is to be sent, where a URL would change its spelling; else None.
        handler: what the framework chose to serve it, or None.
        reached: whether that began to run.
        refusals: what enforcement refused: the outcome and the reason.
        error: the exception that was raised first, in a line.
    """

    raw: str | None = None
    handler: Any = None
    reached: bool = False
    refusals: list[tuple[str, str | None]] = field(default_factory=list)
    error: str = ""

    def failed(self, error: BaseException) -> None:
        """Note an exception, unless there was one before."""
        if not self.error:
            self.error = in_a_line(error)


request: ContextVar[WatchedRequest | None] = ContextVar("request", default=None)


def in_a_line(error: BaseException) -> str:
    """An exception with the place where it was raised."""
    place = error.__traceback__
    while place is not None and place.tb_next is not None:
        place = place.tb_next
    where = f" ({place.tb_frame.f_code.co_filename.rpartition('/')[2]}:{place.tb_lineno})" if place else ""
    text = " ".join(str(error).split())
    return printable(f"{type(error).__name__}{f': {text[:200]}' if text else ''}{where}")


class _Watcher:
    """Takes note of the handlers that frameworks call, and takes back what it has put in their places.

    Attributes:
        precise: handlers of which it is seen when their own code begins.
    """

    def __init__(self) -> None:
        self.precise: dict[int, Any] = {}
        self._undo: list[Callable[[], None]] = []

    def serves(self, handler: Any, *, begins: bool = True) -> None:
        """As `frameworks.adapter.Watcher.serves`."""
        seen = request.get()
        if seen is not None:
            seen.handler = handler
            seen.reached = seen.reached or (begins and id(handler) not in self.precise)

    def replace(self, owner: Any, name: str, value: Any) -> None:
        """As `frameworks.adapter.Watcher.replace`."""
        there = vars(owner).get(name)
        setattr(owner, name, value)
        self.later(partial(setattr, owner, name, there) if there is not None else partial(delattr, owner, name))

    def later(self, undo: Callable[[], None]) -> None:
        """As `frameworks.adapter.Watcher.later`."""
        self._undo.append(undo)

    def end(self) -> None:
        """Leave everything as it was."""
        for undo in reversed(self._undo):
            undo()


@contextmanager
def watched(routes: Iterable[Route] | None) -> Iterator[None]:
    """Watch the requests of this process.

    Args:
        routes: the routes of the application, or None where they are not known.
    """
    watcher = _Watcher()
    try:
        for handler in (route.handler for route in routes or () if route.handler is not None):
            if id(handler) not in watcher.precise and _look_through(handler, watcher):
                watcher.precise[id(handler)] = handler
        for adapter in ADAPTERS:
            adapter.watch(watcher)
        _hear_logs(watcher)
        yield
    finally:
        watcher.end()


# Within decorators --------------------------------------------------------------------------------


def _look_through(handler: Any, watcher: _Watcher) -> bool:
    """See when the function itself begins, within what is around it; return whether that can be seen."""
    if isinstance(handler, type):
        names = [name for name in _METHODS if callable(getattr(handler, name, None))]
        for name in names:
            watcher.replace(handler, name, before(getattr(handler, name), _reached))
        return bool(names)
    outer, inner = handler, getattr(handler, "__wrapped__", None)
    if inner is None:
        return False
    while getattr(inner, "__wrapped__", None) is not None:
        outer, inner = inner, inner.__wrapped__
    for cell in getattr(outer, "__closure__", None) or ():
        if _content(cell) is inner:
            cell.cell_contents = before(inner, _reached)
            watcher.later(partial(setattr, cell, "cell_contents", inner))
            return True
    return False


def _content(cell: Any) -> Any:
    try:
        return cell.cell_contents
    except ValueError:  # it is empty still
        return None


def _reached() -> None:
    seen = request.get()
    if seen is not None:
        seen.reached = True


# What is written to logs --------------------------------------------------------------------------------


class _Refusals(logging.Handler):
    """Takes from the audit log what enforcement has refused."""

    def emit(self, record: logging.LogRecord) -> None:
        seen, outcome = request.get(), getattr(record, "outcome", "")
        # That there is no such record says nothing of who may have it; what is only reported was let through.
        if seen is not None and outcome not in ("allow", "missing") and getattr(record, "enforced", True):
            seen.refusals.append((outcome, getattr(record, "reason", None)))


class _Exceptions(logging.Handler):
    """Takes exceptions from all logs: frameworks answer them, and write them down."""

    def emit(self, record: logging.LogRecord) -> None:
        seen = request.get()
        if seen is not None and record.exc_info and record.exc_info[1] is not None:
            seen.failed(record.exc_info[1])


def _hear_logs(watcher: _Watcher) -> None:
    audit, root = logging.getLogger("bloodroot.audit"), logging.getLogger()
    refusals, exceptions, level = _Refusals(), _Exceptions(), audit.level
    audit.addHandler(refusals)
    audit.setLevel(logging.INFO)
    root.addHandler(exceptions)
    watcher.later(lambda: audit.setLevel(level))
    watcher.later(lambda: audit.removeHandler(refusals))
    watcher.later(lambda: root.removeHandler(exceptions))
