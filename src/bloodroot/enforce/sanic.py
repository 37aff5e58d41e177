"""Sanic: the policy between the router of an application and its handlers."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Sequence
from typing import Any, NamedTuple
from urllib.parse import urlsplit

import sanic
from sanic.exceptions import NotFound, SanicException
from sanic.response import HTTPResponse

from ..core.binding import Operation, Route, RouteKind
from ..core.methods import WEBSOCKET
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import READERS, PlainRequest
from .audit import Audit
from .driver import Driver, Handling, driver_with
from .enforcement import EnforcementOptions, Identify, Page
from .guards import guards_of, with_guards
from .loaders import Records
from .responses import Response
from .segments import is_one_segment
from .startup import StartUp

__all__ = ["protect", "routes"]

# Kinds of parameters that are one segment, whatever it is.
_ONE_SEGMENT = ("", "str", "string", "int", "float", "number", "alpha", "slug", "ymd", "uuid")


def routes(app: Any) -> list[Route]:
    """Every route of an application, its action named as Sanic names the route, without the name of the application."""
    return [_described(app, route) for route in app.router.routes]


def _described(app: Any, route: Any) -> Route:
    written = _written(route)
    handler = route.handler
    while isinstance(handler, functools.partial):
        handler = handler.func
    handler = getattr(handler, "__bloodroot_serves__", handler)
    view = getattr(handler, "view_class", None)
    is_socket = bool(getattr(route.extra, "websocket", False)) or "websocket" in str(getattr(route.handler, "func", ""))
    sent = (str(getattr(method, "value", method)) for method in route.methods)
    methods = (WEBSOCKET,) if is_socket else tuple(sorted(sent))
    name = str(route.name or "").removeprefix(f"{app.name}.") or getattr(handler, "__name__", "handler")
    kind = RouteKind.STATIC if getattr(route.extra, "static", False) else RouteKind.ENDPOINT
    found = Route(
        name,
        methods,
        written.path or "/",
        None,
        f"/{route.path}",
        written.exact,
        written.names,
        view or handler,
        RouteKind.WEBSOCKET if is_socket else kind,
        operations=_operations(name, view, methods),
    )
    return with_guards(found, guards_of(handler), view or handler)


class _RoutePath(NamedTuple):
    """The path of a route as a policy writes it.

    Attributes:
        path: the path.
        names: its parameters.
        exact: whether it covers exactly the same paths.
    """

    path: str
    names: tuple[str, ...]
    exact: bool


def _written(route: Any) -> _RoutePath:
    path = ""
    names: list[str] = []
    for part in str(route.path).split("/") if route.path else ():
        if not part.startswith("<"):
            path += f"/{part}"
            continue
        name, _, label = part.strip("<>").partition(":")
        names.append(name)
        is_long = label in ("path", "strorempty")
        if is_long or (label not in _ONE_SEGMENT and not is_one_segment(label.strip("^$"))):
            return _RoutePath(f"{path}/**", tuple(names), str(route.path).endswith(part) and label == "path")
        path += f"/{{{name}}}"
    return _RoutePath(path, tuple(names), True)


def _operations(name: str, view: Any, methods: tuple[str, ...]) -> tuple[Operation, ...]:
    """The operations of a view that serves each method by a function of its own."""
    served = {method: getattr(view, method.lower(), None) for method in methods} if view is not None else {}
    found = tuple(Operation(f"{name}.{method.lower()}", (method,), of) for method, of in served.items() if of)
    return found if len(found) > 1 else ()


def protect(
    app: Any,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the router of an application and its handlers, once all routes are declared.

    Each request is decided by the route that Sanic has chosen, behind all middleware for requests: what these answer by
    themselves is answered without the policy. A route that is added later is decided by its path.

    Args:
        app: the application, not started yet.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets Sanic's own request.
        records: as `Driver`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Driver`.
        audit: as `Driver`.
        report_only: as `Driver`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
    """
    options = EnforcementOptions(identify, records, page, audit, report_only, missing=_is_missing)
    every = list(app.router.routes)
    found = [_described(app, route) for route in every]
    driver = driver_with(policy, found, options)
    for route, known in zip(every, found, strict=True):
        route.handler = _around(driver, route.handler, known)

    gate = _Gate(driver)
    app.register_middleware(gate.decide_late, "request")
    app.register_middleware(gate.leaves, "response")
    return driver.started


class _Gate:
    """What decides where no route's own gate has, and lets responses leave."""

    def __init__(self, driver: Driver) -> None:
        self._driver = driver

    async def leaves(self, request: Any, response: Any) -> Any:
        """Middleware for responses."""
        handling: Handling | None = getattr(request.ctx, "bloodroot", None)
        if handling is None:
            # What was answered without a handler: no route, another method, or middleware outside.
            with self._driver.handling(_request_of(request), request) as handling:
                refused = await handling.enter_async(missing=response.status == 404)
                refused = refused or handling.leave(response.status, response.headers.items())
                return _response(refused) if refused is not None else None
        if handling.left:
            return None
        handling.left = True
        streams = not isinstance(response, HTTPResponse)
        refused = handling.leave(response.status, response.headers.items(), streams=streams)
        if refused is not None:
            return _response(refused)
        response.headers.update(dict(handling.headers_to_set))
        return None

    async def decide_late(self, request: Any) -> Any:
        """Middleware for requests: a route that came after `protect` has no gate of its own."""
        route = getattr(request, "route", None)
        if route is None or hasattr(route.handler, "__bloodroot_serves__"):
            return None
        with self._driver.handling(_request_of(request), request) as handling:
            request.ctx.bloodroot = handling
            refused = await handling.enter_async()
            handling.left = refused is not None
            return _response(refused) if refused is not None else None


class _Whole(HTTPResponse):
    """A response that a handler may have begun in its own way: whatever it goes on to send is left out."""

    _sent = False

    async def send(self, data: Any = None, end_stream: bool | None = None) -> None:  # noqa: ARG002
        """Send all of it, once."""
        if not self._sent:
            self._sent = True
            await super().send(b"", True)


def _around(driver: Driver, handler: Any, route: Route) -> Any:
    async def decided(request: Any, *positional: Any, **values: Any) -> Any:
        with driver.handling(_request_of(request), request) as handling:
            request.ctx.bloodroot = handling
            refused = await handling.enter_async(route, values or None)
            if refused is not None:
                handling.left = True
                if handling.socket:
                    raise SanicException("refused", status_code=403, quiet=True)
                return _response(refused)
            try:
                result = await run_handler(handler, request, *positional, **values)
            except Exception as error:
                # What Sanic makes of its own exceptions is a response like others, and is looked at where it leaves.
                refused = handling.refused_by(error) if not isinstance(error, SanicException) else None
                if refused is None:
                    raise
                handling.left = True
                return _response(refused)
            return result

    decided.__bloodroot_serves__ = handler  # type: ignore[attr-defined]
    for name, value in vars(handler).items() if hasattr(handler, "__dict__") else ():
        setattr(decided, name, value)
    return decided


async def run_handler(handler: Any, *given: Any, **named: Any) -> Any:
    """Call a handler, which may be async."""
    result = handler(*given, **named)
    return await result if inspect.isawaitable(result) else result


def _request_of(request: Any) -> PlainRequest:
    raw = request.raw_url.decode("latin-1").split("?", 1)[0]
    if not raw.startswith("/"):
        raw = urlsplit(raw).path or "/"
    scope = getattr(request.transport, "scope", None) or {}
    is_handshake = scope.get("type") == "websocket" or request.headers.get("upgrade", "").lower() == "websocket"
    return PlainRequest(
        WEBSOCKET if is_handshake else str(request.method),
        raw,
        request.headers.items(),
        query_string=request.query_string,
        sender=request.ip or None,
        is_handshake=is_handshake,
    )


READERS[sanic.Request] = _request_of


def _response(refused: Response) -> HTTPResponse:
    headers = {name: value for name, value in refused.headers if name != "content-length"}
    return _Whole(refused.body, refused.status, headers, headers.pop("content-type", None))


def _is_missing(error: Exception) -> bool:
    return isinstance(error, NotFound)
