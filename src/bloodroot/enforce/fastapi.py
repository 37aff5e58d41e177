"""FastAPI: the policy in front of an application, guards as dependencies, and both in the OpenAPI document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from fastapi import Depends, FastAPI, HTTPException, routing
from starlette.requests import HTTPConnection
from starlette.routing import BaseRoute, Router

from ..core.binding import Binding, Route, template_of
from ..core.lines import Line
from ..core.policy import Policy
from ..core.requirements import permissions_in
from . import starlette, starlette_routes
from .asgi import Scope
from .audit import Audit
from .enforcement import Identify, Loader, Page
from .gates import GatedRoutes, Gates, gate
from .guards import Guard, guards_of, place_of_call
from .startup import StartUp

_SCHEME = "bearer"
_PROBLEM = {"application/problem+json": {"schema": {"type": "object"}}}


def guard(asked: str, *, policy: Policy | None = None) -> Any:
    """A guard as a dependency: ``dependencies=[guard("trial:edit")]`` of a route or a router.

    A dependency sees no arguments; write ``path.member_id``, or put `bloodroot.enforce.guard` around the function.

    Args:
        asked: a requirement as in the policy, which may hold comparisons.
        policy: what decides; by default the policy of the request at hand.

    Raises:
        PolicyError: as `bloodroot.enforce.guard`.
    """
    return Depends(_Asks(Guard(asked, place_of_call(asked), policy)))


class _Asks:
    """What FastAPI calls before the handler."""

    def __init__(self, asks: Guard) -> None:
        self.guard = asks

    async def __call__(self, connection: HTTPConnection) -> None:  # noqa: ARG002
        self.guard.ask(self._no_arguments, "a route")

    def _no_arguments(self) -> Mapping[str, Any]:
        raise TypeError(
            f'guard("{self.guard.text}") in {self.guard.place.at} is a dependency and sees no arguments; '
            "write path.NAME, or put bloodroot.enforce.guard around the function"
        )


def protect(
    app: FastAPI,
    policy: Policy,
    *,
    identify: Identify,
    records: Mapping[str, Loader] | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
) -> StartUp:
    """Put a policy in front of an application, once all of its routes are declared; see `starlette.protect`.

    The OpenAPI document tells of each operation what is asked of the caller, as ``security`` and ``x-asks``.
    """
    found = routes(app)
    how: dict[str, Any] = {"identify": identify, "records": records, "page": page, "audit": audit}
    started = starlette.install(app, policy, found, _Gates, how)
    bound = policy.bind(found)
    described = app.openapi

    def openapi() -> dict[str, Any]:
        document = described()
        _describe(document, app, bound)
        return document

    app.openapi = openapi  # type: ignore[method-assign]
    return started


def described(way: tuple[BaseRoute, ...], route: Any) -> Route:
    """A route as a policy wants to know it, guarded by its function or among its dependencies."""
    found = starlette_routes.described(way, route)
    if hasattr(route, "dependant") and not found.guarded:
        return replace(found, guarded=any(_guards(route)))
    return found


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
            found: list[Any] = candidates()
            gates = owner.last()
            if gates is not None and (not known or known[0] is not found):
                for each in found:
                    inner = each if isinstance(each, BaseRoute) else each.starlette_route or each.original_route
                    gate(inner, gates, owner)
                known[:] = [found]
            return found

        included.effective_candidates = gated
        return True

    def effective(self, route: BaseRoute, scope: Scope) -> Any:
        """An operation with the prefixes and dependencies of the router that includes it here."""
        context = scope.get("fastapi", {}).get("effective_route_context")
        return context if getattr(context, "original_route", None) is route else route


def routes(app: FastAPI) -> list[Route]:
    """Every route of an application, those of included routers with their prefixes."""
    return list(_described(app.routes, ()))


def _described(found: Iterable[Any], way: tuple[BaseRoute, ...]) -> Iterator[Route]:
    for route in _apart(found):
        # A route that an included router has under its prefix, or the route itself.
        inner = getattr(route, "starlette_route", None) or getattr(route, "original_route", route)
        if _is_operation(route):
            yield described(way, route)
        elif starlette_routes.inner_router(inner) is not None or getattr(inner, "routes", None):
            yield from _described(inner.routes, (*way, inner))
        else:
            yield described(way, inner)


def _apart(routes: Iterable[Any]) -> Iterator[Any]:
    """Routes one by one. Where included routers stay in one piece, FastAPI itself takes them apart."""
    apart = getattr(routing, "iter_route_contexts", None)
    if apart is None:
        yield from routes
        return
    for context in apart(list(routes)):
        # What is in the context is what is matched.
        effective = getattr(context, "_route_context", None)
        yield effective if effective is not None else context.route


def _is_operation(route: Any) -> bool:
    return isinstance(getattr(route, "original_route", route), routing.APIRoute)


def _describe(document: dict[str, Any], app: FastAPI, policy: Policy) -> None:
    """Write into an OpenAPI document what is asked of callers. Written twice it says the same."""
    for route in _apart(app.routes):
        if not _is_operation(route) or not route.include_in_schema:
            continue
        for method in route.methods or ():
            operation = document.get("paths", {}).get(route.path_format, {}).get(method.lower())
            binding = policy.binding(described((), route))
            line = policy.line_served(binding, method, _sample(binding))
            if operation is not None:
                _describe_operation(document, operation, policy, line, list(_guards(route)))


def _describe_operation(
    document: dict[str, Any], operation: dict[str, Any], policy: Policy, line: Line | None, guards: list[Guard]
) -> None:
    asked = [line.requirement.words() if line is not None else "nobody", *(each.text for each in guards)]
    operation["x-asks"] = " and ".join(asked) if len(asked) == 1 else " and ".join(f"({each})" for each in asked)
    if line is not None and line.open_to_anyone and not guards:
        return
    lines = [*([line] if line is not None else []), *(each.line_for(policy) for each in guards)]
    names = dict.fromkeys(asks.name for each in lines for asks in permissions_in(each.requirement))
    operation["security"] = [{_SCHEME: list(names)}]
    schemes = document.setdefault("components", {}).setdefault("securitySchemes", {})
    schemes.setdefault(_SCHEME, {"type": "http", "scheme": "bearer"})
    responses = operation.setdefault("responses", {})
    responses.setdefault("401", {"description": "The caller is not signed in.", "content": _PROBLEM})
    responses.setdefault("403", {"description": "The caller may not do this.", "content": _PROBLEM})


def _guards(route: Any) -> Iterator[Guard]:
    """The guards of a route: around its function, and among its dependencies at any depth."""
    yield from guards_of(route.endpoint)
    waiting = list(route.dependant.dependencies)
    while waiting:
        dependant = waiting.pop(0)
        if isinstance(dependant.call, _Asks):
            yield dependant.call.guard
        yield from guards_of(dependant.call)
        waiting += dependant.dependencies


def _sample(binding: Binding) -> list[str]:
    template, _ = template_of(binding.route)
    return [part if isinstance(part, str) else "~" for part in template.segments]
