"""What becomes of a request inside an application that runs in this process.

While `watched` is active, each request says which handler served it, whether that began to run, what enforcement
refused, and which exception was raised first. The frameworks are seen where they call a handler; what decorators have
put around it is looked through where they say what they wrap (``functools.wraps``).
"""

from __future__ import annotations

import functools
import inspect
import logging
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..survey.endpoints import printable

if TYPE_CHECKING:
    from ..core.binding import Route

_METHODS = ("get", "post", "put", "patch", "delete", "head", "options", "trace")


@dataclass(slots=True, eq=False)
class Watched:
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


request: ContextVar[Watched | None] = ContextVar("request", default=None)


def in_a_line(error: BaseException) -> str:
    """An exception with the place where it was raised."""
    place = error.__traceback__
    while place is not None and place.tb_next is not None:
        place = place.tb_next
    where = f" ({place.tb_frame.f_code.co_filename.rpartition('/')[2]}:{place.tb_lineno})" if place else ""
    text = " ".join(str(error).split())
    return printable(f"{type(error).__name__}{f': {text[:200]}' if text else ''}{where}")


@contextmanager
def watched(routes: Iterable[Route] | None) -> Iterator[None]:
    """Watch the requests of this process.

    Args:
        routes: the routes of the application, or None where they are not known.
    """
    undo: list[Callable[[], None]] = []
    precise: set[int] = set()
    try:
        for route in routes or ():
            if route.handler is not None and id(route.handler) not in precise and _look_through(route.handler, undo):
                precise.add(id(route.handler))
        _see_calls(precise, undo)
        _hear_logs(undo)
        yield
    finally:
        for each in reversed(undo):
            each()


# Where frameworks call handlers --------------------------------------------------------------------------


def _see_calls(precise: set[int], undo: list[Callable[[], None]]) -> None:
    """See each call of a handler, in the frameworks that are loaded."""

    def served(handler: Any, *, begins: bool = True) -> None:
        seen = request.get()
        if seen is not None:
            seen.handler = handler
            seen.reached = seen.reached or (begins and id(handler) not in precise)

    if "flask" in sys.modules:
        _see_flask(served, undo)
    if "django.core.handlers.base" in sys.modules:
        _see_django(served, undo)
    if "starlette.routing" in sys.modules:
        _see_starlette(served, undo)
    if "fastapi.routing" in sys.modules:
        _see_fastapi(undo)


def _see_flask(served: Callable[[Any], None], undo: list[Callable[[], None]]) -> None:
    import flask

    ensured = flask.Flask.ensure_sync

    def ensure_sync(self: flask.Flask, func: Callable[..., Any]) -> Callable[..., Any]:
        found = ensured(self, func)
        # It is asked for functions of every kind: the view is the one that the URL map has chosen.
        if not flask.has_request_context() or self.view_functions.get(flask.request.endpoint or "") is not func:
            return found

        @functools.wraps(found)
        def seen(*args: Any, **values: Any) -> Any:
            served(getattr(func, "view_class", func))
            return found(*args, **values)

        return seen

    _replace(flask.Flask, "ensure_sync", ensure_sync, undo)


def _see_django(served: Callable[[Any], None], undo: list[Callable[[], None]]) -> None:
    from django.core.handlers.base import BaseHandler

    made: Callable[..., Any] = BaseHandler.make_view_atomic

    def make_view_atomic(self: BaseHandler, view: Any) -> Any:
        return _before(made(self, view), lambda: served(getattr(view, "view_class", view)))

    _replace(BaseHandler, "make_view_atomic", make_view_atomic, undo)


def _see_starlette(served: Callable[..., None], undo: list[Callable[[], None]]) -> None:
    from starlette.routing import Route as StarletteRoute

    def get(route: Any) -> Any:
        app = route.__dict__["app"]
        # FastAPI asks for its dependencies first, which may refuse.
        begins = not type(route).__module__.startswith("fastapi.")

        async def seen(scope: Any, receive: Any, send: Any) -> None:
            served(route.endpoint, begins=begins)
            await app(scope, receive, send)

        return seen

    def put(route: Any, app: Any) -> None:
        route.__dict__["app"] = app

    StarletteRoute.app = property(get, put)  # type: ignore[assignment]
    undo.append(lambda: delattr(StarletteRoute, "app"))


def _see_fastapi(undo: list[Callable[[], None]]) -> None:
    from fastapi import routing

    called = routing.run_endpoint_function

    async def run_endpoint_function(*, dependant: Any, **others: Any) -> Any:
        seen = request.get()
        if seen is not None:
            seen.handler, seen.reached = dependant.call, True
        return await called(dependant=dependant, **others)

    _replace(routing, "run_endpoint_function", run_endpoint_function, undo)


# Within decorators --------------------------------------------------------------------------------


def _look_through(handler: Any, undo: list[Callable[[], None]]) -> bool:
    """See when the function itself begins, within what is around it; return whether that can be seen."""
    if isinstance(handler, type):
        names = [name for name in _METHODS if callable(getattr(handler, name, None))]
        for name in names:
            _replace(handler, name, _before(getattr(handler, name), _reached), undo)
        return bool(names)
    outer, inner = handler, getattr(handler, "__wrapped__", None)
    if inner is None:
        return False
    while getattr(inner, "__wrapped__", None) is not None:
        outer, inner = inner, inner.__wrapped__
    for cell in getattr(outer, "__closure__", None) or ():
        if _content(cell) is inner:
            cell.cell_contents = _before(inner, _reached)
            undo.append(functools.partial(setattr, cell, "cell_contents", inner))
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


def _before(function: Callable[..., Any], note: Callable[[], None]) -> Callable[..., Any]:
    """A function that notes each call first; it stays async where it was."""
    if inspect.iscoroutinefunction(function):

        @functools.wraps(function)
        async def seen_async(*args: Any, **values: Any) -> Any:
            note()
            return await function(*args, **values)

        return seen_async

    @functools.wraps(function)
    def seen(*args: Any, **values: Any) -> Any:
        note()
        return function(*args, **values)

    return seen


def _replace(owner: Any, name: str, value: Any, undo: list[Callable[[], None]]) -> None:
    before = vars(owner).get(name)
    setattr(owner, name, value)
    undo.append(functools.partial(setattr, owner, name, before) if before is not None else lambda: delattr(owner, name))


# What is written to logs --------------------------------------------------------------------------------


class _Refusals(logging.Handler):
    """Takes from the audit log what enforcement has refused."""

    def emit(self, record: logging.LogRecord) -> None:
        seen, outcome = request.get(), getattr(record, "outcome", "")
        # That there is no such record says nothing of who may have it.
        if seen is not None and outcome not in ("allow", "missing"):
            seen.refusals.append((outcome, getattr(record, "reason", None)))


class _Exceptions(logging.Handler):
    """Takes exceptions from all logs: frameworks answer them, and write them down."""

    def emit(self, record: logging.LogRecord) -> None:
        seen = request.get()
        if seen is not None and record.exc_info and record.exc_info[1] is not None:
            seen.failed(record.exc_info[1])


def _hear_logs(undo: list[Callable[[], None]]) -> None:
    audit, root = logging.getLogger("bloodroot.audit"), logging.getLogger()
    refusals, exceptions, level = _Refusals(), _Exceptions(), audit.level
    audit.addHandler(refusals)
    audit.setLevel(logging.INFO)
    root.addHandler(exceptions)
    undo += [
        lambda: audit.setLevel(level),
        lambda: audit.removeHandler(refusals),
        lambda: root.removeHandler(exceptions),
    ]
