"""The routes of Starlette, and of what is built on it, as a policy wants to know them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from starlette.routing import BaseRoute, Host, Mount, Router, WebSocketRoute
from starlette.routing import Route as StarletteRoute
from starlette.staticfiles import StaticFiles

from ..core.binding import Route, RouteKind
from ..core.methods import WEBSOCKET
from .guarded_classes import handlers_of
from .guards import guards_of, with_guards
from .operations import operations_of
from .segments import WrittenPath, ignores_case, is_one_segment

_PARAMETER = re.compile(r"\{([a-zA-Z_][a-zA-Z0-9_]*)(?::[a-zA-Z_][a-zA-Z0-9_]*)?\}")


def routes(application: Any) -> list[Route]:
    """Every route of an application, mounted ones included.

    Args:
        application: a Starlette application, or a list of its routes.

    Returns:
        A route for each, its action named as Starlette names it: by ``name=``, or by the function that serves it.
    """
    return list(_routes(getattr(application, "routes", application), ()))


def _routes(routes: Iterable[BaseRoute], way: tuple[BaseRoute, ...]) -> Iterator[Route]:
    for route in routes:
        if inner_router(route) is not None or (isinstance(route, Mount | Host) and route.routes):
            yield from _routes(route.routes, (*way, route))  # type: ignore[attr-defined]
        else:
            yield described(way, route)


def described(way: tuple[BaseRoute, ...], route: Any) -> Route:
    """A route as a policy wants to know it.

    Args:
        way: the mounts and hosts that lead to it.
        route: the route itself.
    """
    path = ""
    converters: dict[str, Any] = {}
    for part in (*way, route):
        if not isinstance(part, Host):
            path += getattr(part, "path", "")
            converters.update(getattr(part, "param_convertors", {}))
    names = tuple(match[1] for match in _PARAMETER.finditer(path))
    if isinstance(route, Mount):
        # What is mounted has no routes that could be read.
        written, exact = template(path + "/{rest:path}", converters)
        kind = RouteKind.STATIC if isinstance(route.app, StaticFiles) else RouteKind.MOUNT
        spelled = f"{path}/..."
        app = route.app
        return Route(route.name or path, (), written, None, spelled, exact, names, handler=app, kind=kind)
    endpoint = getattr(route, RouteKind.ENDPOINT, None)
    name = getattr(route, "name", None) or type(route).__name__
    written, exact = template(path or "/", converters)
    if not isinstance(route, StarletteRoute | WebSocketRoute) and not hasattr(route, "path_regex"):
        written, exact = "/**", False
    kind = RouteKind.WEBSOCKET if isinstance(route, WebSocketRoute) else RouteKind.ENDPOINT
    methods = methods_of(route)
    found = Route(name, methods, written, None, path, exact, names, handler=endpoint, kind=kind)
    found = replace(found, ignores_case=any(ignores_case(converter.regex) for converter in converters.values()))
    if kind == RouteKind.ENDPOINT:
        found = replace(found, operations=operations_of(endpoint, name, methods))
    return with_guards(found, guards_of(endpoint), endpoint)


def methods_of(route: Any) -> tuple[str, ...]:
    """The methods that a route serves; empty for any."""
    if isinstance(route, WebSocketRoute):
        return (WEBSOCKET,)
    methods = getattr(route, "methods", None)
    if methods is None:
        # A class: what it has methods for, where it says.
        handler = getattr(route, RouteKind.ENDPOINT, None)
        if not isinstance(handler, type):
            return ()
        found = [name.upper() for name in handlers_of(handler) if not name.startswith(("_", "on_", "dispatch"))]
        return tuple(sorted(found))
    return tuple(sorted(set(methods) - ({"HEAD"} if "GET" in methods else set())))


def template(path: str, converters: Mapping[str, Any]) -> WrittenPath:
    """Starlette's path as a policy writes it."""
    segments: list[str] = []
    exact = True
    for segment in path.split("/"):
        names = [match[1] for match in _PARAMETER.finditer(segment)]
        rest = any(not is_one_segment(getattr(converters.get(name), "regex", ".*")) for name in names)
        if rest:
            # More than one segment: the end of the path, or all of it from here.
            last = f"{'/'.join([*segments, segment])}" == path and _PARAMETER.fullmatch(segment) is not None
            return WrittenPath("/".join([*segments, "**"]), exact and last)
        segments.append(_PARAMETER.sub(r"{\1}", segment))
    return WrittenPath("/".join(segments) or "/", exact)


def inner_router(route: BaseRoute) -> Router | None:
    """The router that a mount or a host leads to; None for anything else, which serves requests itself."""
    if not isinstance(route, Mount | Host):
        return None
    app: Any = getattr(route, "_base_app", route.app)
    router = app if isinstance(app, Router) else getattr(app, "router", None)
    return router if isinstance(router, Router) else None
