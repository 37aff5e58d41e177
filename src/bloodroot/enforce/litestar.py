"""Litestar: the policy in front of an application, whose routes are known."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from litestar import Litestar
from litestar.exceptions import NotFoundException
from litestar.routes import ASGIRoute, HTTPRoute, WebSocketRoute

from ..core.binding import Operation, Route, RouteKind
from ..core.methods import WEBSOCKET
from ..core.policy import Policy
from ..file_changes import Watched
from .asgi import AccessMiddleware
from .audit import Audit
from .enforcement import Identify, Page
from .guards import guards_of, with_guards
from .loaders import Records
from .startup import StartUp, look_over

__all__ = ["protect", "routes"]

_PARAMETER = re.compile(r"\{(\w+):(\w+)\}")


def routes(app: Litestar) -> list[Route]:
    """Every route of an application, its action named by ``name=``, or by its function."""
    return [each for route in app.routes for each in _described(route)]


def _described(route: Any) -> Iterator[Route]:
    spelling = str(route.path)
    names = tuple(match[1] for match in _PARAMETER.finditer(spelling))
    long = next((match for match in _PARAMETER.finditer(spelling) if match[2] == "path"), None)
    path, exact = _PARAMETER.sub(r"{\1}", spelling), True
    if long is not None:
        exact = long.end() == len(spelling)
        path = _PARAMETER.sub(r"{\1}", spelling[: long.start()]) + "**"
    handlers = list(route.route_handlers) if isinstance(route, HTTPRoute) else [route.route_handler]
    for handler in handlers:
        function = getattr(handler.fn, "value", handler.fn)
        name = str(handler.name or getattr(function, "__name__", "handler"))
        if isinstance(route, ASGIRoute):
            where = f"{path.rstrip('/')}/**" if getattr(handler, "is_mount", False) else path
            yield Route(name, (), where, None, spelling, exact, names, function, RouteKind.MOUNT)
            continue
        methods = (WEBSOCKET,) if isinstance(route, WebSocketRoute) else tuple(sorted(map(str, handler.http_methods)))
        if methods == ("OPTIONS",) and str(getattr(function, "__module__", "")).startswith("litestar."):
            continue  # the answer that each route has of Litestar itself
        kind = RouteKind.WEBSOCKET if methods == (WEBSOCKET,) else RouteKind.ENDPOINT
        operation = Operation(name, methods, function)
        found = Route(name, methods, path, None, spelling, exact, names, function, kind, operations=(operation,))
        yield with_guards(found, guards_of(function), function)


def protect(
    app: Litestar,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    settles: Sequence[str] = (),
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy in front of an application, inside of all that is around it; requests are decided by their paths.

    Args:
        app: the application.
        policy: what decides, or what `bloodroot.watched` gives. Lines that name actions are an error.
        identify: as `Driver`; it gets a `bloodroot.request.Request`.
        records: as `Driver`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Driver`.
        audit: as `Driver`.
        settles: patterns of lines, such as ``"PUT /trials/*"``, whose handlers settle what is left open.
        report_only: as `Driver`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the policy has lines that name actions, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
    """
    inner: Any = app.asgi_handler
    middleware = AccessMiddleware(
        inner,
        policy,
        identify=identify,
        records=records,
        page=page,
        audit=audit,
        settles=settles,
        report_only=report_only,
    )
    started = look_over(middleware.policy, routes(app), middleware.enforcement.records)
    started.tell()
    middleware.enforcement.is_missing = lambda error: isinstance(error, NotFoundException)
    app.asgi_handler = middleware  # type: ignore[assignment]
    return started
