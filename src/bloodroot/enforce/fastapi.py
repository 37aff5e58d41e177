"""FastAPI: the policy in front of an application, guards as dependencies, and both in the OpenAPI document."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

from fastapi import Depends, FastAPI, routing
from starlette.requests import HTTPConnection
from starlette.routing import Mount

from ..core.binding import Route, template_of
from ..core.lines import Line
from ..core.policy import Policy
from ..core.requirements import permissions_in
from . import starlette
from .audit import Audit
from .enforcement import Identify, Loader, Page
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
        self.guard.ask(self._no_arguments)

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
    bound = policy.bind(found)
    started = starlette.protect_routes(app, policy, found, identify=identify, records=records, page=page, audit=audit)
    described = app.openapi

    def openapi() -> dict[str, Any]:
        document = described()
        _describe(document, app, bound)
        return document

    app.openapi = openapi  # type: ignore[method-assign]
    return started


def routes(app: FastAPI) -> list[Route]:
    """Every route of an application, those of included routers with their prefixes.

    One with a guard around its function or among its dependencies is guarded.
    """
    found: list[Route] = []
    for route in _routes(app):
        original = getattr(route, "original_route", route)
        if _is_operation(route):
            methods = tuple(sorted((route.methods or set()) - {"HEAD"}))
            found.append(Route(route.name, methods, starlette.template(route.path), any(_guards(route))))
        elif getattr(route, "path", None) == getattr(original, "path", None):
            found += starlette.routes([original])
        else:
            # A WebSocket, a plain route or a mounted application that an included router has under its prefix.
            rest = "/**" if isinstance(original, Mount) else ""
            found += [
                replace(each, path=starlette.template(route.path) + rest) for each in starlette.routes([original])
            ]
    return found


def _routes(app: FastAPI) -> Iterator[Any]:
    """The routes of an application. Where included routers stay in one piece, FastAPI itself takes them apart."""
    apart = getattr(routing, "iter_route_contexts", iter)
    yield from apart(app.routes)


def _is_operation(route: Any) -> bool:
    return isinstance(getattr(route, "original_route", route), routing.APIRoute)


def _describe(document: dict[str, Any], app: FastAPI, policy: Policy) -> None:
    """Write into an OpenAPI document what is asked of callers. Written twice it says the same."""
    for route in _routes(app):
        if not _is_operation(route) or not route.include_in_schema:
            continue
        for method in route.methods or ():
            operation = document.get("paths", {}).get(route.path_format, {}).get(method.lower())
            line = policy.line_for(method, _sample(route))
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


def _sample(route: Any) -> str:
    template, _ = template_of(Route(route.name, (), starlette.template(route.path)))
    return template.fill(dict.fromkeys(template.names, "~"))
