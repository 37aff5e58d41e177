"""FastAPI: the policy in front of an application, guards as dependencies, and both in the OpenAPI document."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fastapi import Depends, FastAPI, HTTPException
from starlette.routing import BaseRoute, Router

from ..core.policy import Policy
from ..file_changes import Watched
from . import starlette
from .asgi_messages import Scope
from .audit import Audit
from .enforcement import EnforcementOptions, Identify, Page
from .fastapi_document import describe
from .fastapi_routes import Asks, described, routes
from .following import opened
from .gates import GatedRoutes, Gates, gate
from .guards import Guard, place_of_call
from .loaders import Records
from .startup import StartUp

__all__ = ["guard", "protect", "routes"]


def guard(requirement: str, *, policy: Policy | None = None) -> Any:
    """A guard as a dependency: ``dependencies=[guard("trial:edit")]`` of a route or a router.

    A dependency sees no arguments; write ``path.member_id``, or put `bloodroot.enforce.guard` around the function.

    Args:
        requirement: in the words of the policy; it may contain comparisons.
        policy: what decides; by default the policy of the request at hand.

    Raises:
        PolicyError: as `bloodroot.enforce.guard`.
    """
    return Depends(Asks(Guard(requirement, place_of_call(requirement), policy)))


def protect(
    app: FastAPI,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy in front of an application, once all of its routes are declared; see `starlette.protect`.

    The OpenAPI document says of each operation what is required, as ``security`` and ``x-access``.
    """
    options = EnforcementOptions(identify, records, page, audit, report_only, missing=starlette.is_missing)
    started = starlette.install(app, policy, routes(app), _Gates, options)
    described = app.openapi
    last: list[Any] = [None]

    def openapi() -> dict[str, Any]:
        document = described()
        if document is not last[0]:
            # FastAPI keeps the one that it has made.
            describe(document, app, opened(policy).policy)
            last[0] = document
        return document

    app.openapi = openapi  # type: ignore[method-assign]
    return started


class _Gates(Gates):
    """The gates of an application with routers that others include, in one piece or route by route."""

    describe = staticmethod(described)
    error = HTTPException

    def gate_included(self, route: BaseRoute, owner: GatedRoutes) -> bool:
        """Put gates on the routes of an included router, which FastAPI makes anew whenever one is added."""
        included: Any = route
        candidates = getattr(included, "effective_candidates", None)
        original = getattr(included, "original_router", None)
        if not isinstance(original, Router) or candidates is None:
            return False
        if isinstance(original.routes, GatedRoutes):
            original.routes.decided_by(self)
        else:
            original.routes = GatedRoutes(self, original)
        known: list[Any] = []

        def gated() -> list[Any]:
            candidates_now: list[Any] = candidates()
            gates = owner.last()
            if gates is not None and (not known or known[0] is not candidates_now):
                for candidate in candidates_now:
                    inner = (
                        candidate
                        if isinstance(candidate, BaseRoute)
                        else candidate.starlette_route or candidate.original_route
                    )
                    gate(inner, gates, owner)
                known[:] = [candidates_now]
            return candidates_now

        included.effective_candidates = gated
        return True

    def effective(self, route: BaseRoute, scope: Scope) -> Any:
        """An operation with the prefixes and dependencies of the router that includes it here."""
        context = scope.get("fastapi", {}).get("effective_route_context")
        return context if getattr(context, "original_route", None) is route else route
