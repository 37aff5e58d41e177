"""Starlette: the policy between its router and its handlers."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.routing import BaseRoute, Host, Mount, WebSocketRoute
from starlette.routing import Route as StarletteRoute

from ..core.binding import Route
from ..core.policy import Policy
from .asgi import identify_async
from .audit import Audit
from .gates import Front, Gates, inner_router
from .guards import guards_of
from .pipeline import Enforcement, Identify, Loader, Page
from .startup import StartUp, look_over

_PARAMETER = re.compile(r"\{([a-zA-Z_][a-zA-Z0-9_]*)(?::[a-zA-Z_][a-zA-Z0-9_]*)?\}")


def protect(
    app: Starlette,
    policy: Policy,
    *,
    identify: Identify,
    records: Mapping[str, Loader] | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
) -> StartUp:
    """Put a policy between the router of an application and its handlers, once all routes are declared.

    Each request is decided once the router has chosen the route, by the line of its action or else by its path; mounted
    applications, hosts and WebSocket routes included. Refusals go through the application's error handlers.

    Args:
        app: the application, not started yet.
        policy: what decides.
        identify: as `Enforcement`; it gets Starlette's own request. A plain function runs on the event loop and must
            not wait for anything; make it ``async`` where it asks a database.
        records: as `Enforcement`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Enforcement`.
        audit: as `Enforcement`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard asks for what the policy does not know.
        StartUpError: something is declared that could never take effect.
        RuntimeError: the application has started already.
    """
    how: dict[str, Any] = {"identify": identify, "records": records, "page": page, "audit": audit}
    return install(app, policy, routes(app), Gates, how)


def install(app: Starlette, policy: Policy, found: list[Route], kind: type[Gates], how: dict[str, Any]) -> StartUp:
    """`protect` for an application whose routes have been read already."""
    if app.middleware_stack is not None:
        raise RuntimeError("the application has started; call protect before, or its first requests pass unseen")
    bound = policy.bind(found)
    how["identify"] = identify_async(how["identify"])
    enforcement = Enforcement(bound, missing=is_missing, **how)
    started = look_over(bound, found, enforcement.records)
    started.tell()
    gates = kind(enforcement, described)
    gates.install(app.router)
    app.user_middleware.append(Middleware(Front, gates=gates))
    return started


def is_missing(error: Exception) -> bool:
    """Whether a loader says with the framework's own exception that there is no such record."""
    return isinstance(error, HTTPException) and error.status_code == 404


def routes(application: Any) -> list[Route]:
    """Every route of an application, mounted ones included.

    Args:
        application: a Starlette application, or a list of its routes.

    Returns:
        A route for each, its action named as Starlette names it: by ``name=``, or by the function that serves it.
    """
    return list(_routes(getattr(application, "routes", application), ()))


def _routes(found: Iterable[BaseRoute], way: tuple[BaseRoute, ...]) -> Iterator[Route]:
    for route in found:
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
    for each in (*way, route):
        if not isinstance(each, Host):
            path += getattr(each, "path", "")
            converters.update(getattr(each, "param_convertors", {}))
    names = tuple(match[1] for match in _PARAMETER.finditer(path))
    if isinstance(route, Mount):
        # What is mounted has no routes that could be read.
        written, exact = template(path + "/{rest:path}", converters)
        return Route(
            route.name or path, (), written, spelling=f"{path}/...", exact=exact, names=names, handler=route.app
        )
    endpoint = getattr(route, "endpoint", None)
    name = getattr(route, "name", None) or type(route).__name__
    written, exact = template(path or "/", converters)
    if not isinstance(route, StarletteRoute | WebSocketRoute) and not hasattr(route, "path_regex"):
        written, exact = "/**", False
    return Route(
        name, methods_of(route), written, bool(guards_of(endpoint)), path, exact=exact, names=names, handler=endpoint
    )


def methods_of(route: Any) -> tuple[str, ...]:
    """The methods that a route serves; empty for any."""
    if isinstance(route, WebSocketRoute):
        return ("GET",)  # a handshake is a GET (RFC 6455, section 4.1)
    methods = getattr(route, "methods", None)
    if methods is None:
        # A class: what it has methods for, where it says.
        handler = getattr(route, "endpoint", None)
        allowed = [
            name for name in ("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS") if hasattr(handler, name.lower())
        ]
        return tuple(allowed) if isinstance(handler, type) else ()
    return tuple(sorted(set(methods) - ({"HEAD"} if "GET" in methods else set())))


def template(path: str, converters: Mapping[str, Any]) -> tuple[str, bool]:
    """Starlette's path as a policy writes it, and whether it stands for the very same paths."""
    segments: list[str] = []
    exact = True
    for segment in path.split("/"):
        names = [match[1] for match in _PARAMETER.finditer(segment)]
        rest = next((name for name in names if _crosses(converters.get(name))), None)
        if rest is not None:
            # More than one segment: the end of the path, or all of it from here.
            last = f"{'/'.join([*segments, segment])}" == path and _PARAMETER.fullmatch(segment) is not None
            return "/".join([*segments, "**"]), exact and last
        segments.append(_PARAMETER.sub(r"{\1}", segment))
    return "/".join(segments) or "/", exact


def _crosses(converter: Any) -> bool:
    """Whether a parameter may stand for more than one segment; one whose converter is not known may."""
    regex = getattr(converter, "regex", ".*")
    return any(re.fullmatch(regex, sample) for sample in ("a/b", "1/2"))
