"""Starlette: its routes as a policy is bound to them, and the policy in front of an application."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.routing import BaseRoute, Host, Mount, WebSocketRoute
from starlette.routing import Route as StarletteRoute

from ..core.binding import Route
from ..core.policy import Policy
from .asgi import AccessMiddleware
from .audit import Audit
from .enforcement import Identify, Loader, Page
from .guards import guards_of
from .startup import StartUp, look_over

_REST = re.compile(r"\{[^{}]*:path\}\Z")
_CONVERTED = re.compile(r"\{([^{}:]*):[^{}]*\}")


def protect(
    app: Starlette,
    policy: Policy,
    *,
    identify: Identify,
    records: Mapping[str, Loader] | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
) -> StartUp:
    """Put a policy in front of an application, once all of its routes are declared.

    Lines that name actions are bound to the routes. The policy stands inside of every other middleware, so that a
    session middleware is always outside of it, whichever was added first.

    Args:
        app: the application, not started yet.
        policy: what decides.
        identify: as `bloodroot.enforce.asgi.AccessMiddleware`, like the others.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard asks for what the policy does not know.
        RuntimeError: the application has started already.
    """
    return protect_routes(app, policy, routes(app), identify=identify, records=records, page=page, audit=audit)


def protect_routes(app: Starlette, policy: Policy, found: list[Route], **how: Any) -> StartUp:
    """`protect` for an application whose routes have been read already."""
    if app.middleware_stack is not None:
        raise RuntimeError("the application has started; call protect before, or its first requests pass unseen")
    bound = policy.bind(found)
    started = look_over(bound, found)
    started.tell()
    app.user_middleware.append(Middleware(AccessMiddleware, policy=bound, **how))
    return started


def routes(application: Any) -> list[Route]:
    """Every route of an application, mounted ones included.

    Args:
        application: a Starlette application, or a list of its routes.

    Returns:
        A route for each, its action named as Starlette names it: by ``name=``, or by the function that serves it.
    """
    return list(_routes(getattr(application, "routes", application), ""))


def _routes(found: Iterable[BaseRoute], prefix: str) -> Iterator[Route]:
    for route in found:
        if isinstance(route, StarletteRoute):
            methods = tuple(sorted(route.methods - {"HEAD"})) if route.methods else ()
            yield Route(route.name, methods, template(prefix + route.path), bool(guards_of(route.endpoint)))
        elif isinstance(route, WebSocketRoute):
            # A handshake is a GET (RFC 6455, section 4.1).
            yield Route(route.name, ("GET",), template(prefix + route.path), bool(guards_of(route.endpoint)))
        elif isinstance(route, Host):
            yield from _routes(route.routes, prefix)
        elif isinstance(route, Mount):
            if route.routes:
                yield from _routes(route.routes, prefix + route.path)
            else:
                yield Route(route.name or route.path, (), f"{prefix}{route.path}/**")


def template(path: str) -> str:
    """Starlette's ``{name:converter}`` as a policy writes it."""
    return _CONVERTED.sub(r"{\1}", _REST.sub("**", path))
