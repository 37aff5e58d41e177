"""Starlette: the policy between its router and its handlers."""

from __future__ import annotations

from collections.abc import Sequence

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware

from ..core.binding import Route
from ..core.policy import Policy
from ..file_changes import Watched
from .audit import Audit
from .enforcement import Enforcement, EnforcementOptions, Identify, Page
from .errors import StartUpError
from .following import opened
from .gates import Gates, Outermost, Watch
from .loaders import Records
from .starlette_routes import routes
from .startup import StartUp, look_over, looked_over

__all__ = ["protect", "routes"]


def protect(
    app: Starlette,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the router of an application and its handlers, once all routes are declared.

    Each request is decided once the router has chosen the route, by the line of its action or else by its path; mounted
    applications, hosts and WebSocket routes included. Refusals go through the application's error handlers.

    Args:
        app: the application, not started yet.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets Starlette's own request. A plain function runs on the event loop and must
            not wait for anything; make it ``async`` where it asks a database.
        records: as `Driver`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Driver`.
        audit: as `Driver`.
        report_only: as `Driver`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
        RuntimeError: the application has started already.
    """
    options = EnforcementOptions(identify, records, page, audit, report_only, missing=is_missing)
    return install(app, policy, routes(app), Gates, options)


def install(
    app: Starlette, policy: Policy | Watched, routes: list[Route], kind: type[Gates], options: EnforcementOptions
) -> StartUp:
    """`protect` for an application whose routes have been read already."""
    if app.middleware_stack is not None:
        raise StartUpError("the application has started; call protect before, or its first requests pass unseen")
    given, watched = opened(policy)
    bound = given.bind(routes)
    enforcement = Enforcement(bound, options)
    started = look_over(bound, routes, enforcement.records)
    started.tell()
    enforcement.follow(watched, lambda changed: looked_over(changed, routes, enforcement.records))
    gates = kind(enforcement)
    gates.install(app.router)
    app.user_middleware.append(Middleware(Watch, gates=gates))
    build = app.build_middleware_stack

    def build_within() -> Outermost:
        gates.install(app.router)  # another one may have taken its place
        return Outermost(build(), gates)

    app.build_middleware_stack = build_within  # type: ignore[method-assign]
    return started


def is_missing(error: Exception) -> bool:
    """Whether a loader says with the framework's own exception that there is no such record."""
    return isinstance(error, HTTPException) and error.status_code == 404
