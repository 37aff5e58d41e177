"""The routes of FastAPI as a policy wants to know them, and the guards among their dependencies."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from fastapi import FastAPI, routing
from starlette.requests import HTTPConnection
from starlette.routing import BaseRoute

from ..core.binding import Route, RouteKind
from . import starlette_routes
from .guards import Guard, guards_of


def routes(app: FastAPI) -> list[Route]:
    """Every route of an application, those of included routers with their prefixes."""
    return list(_described(app.routes, ()))


def _described(routes: Iterable[Any], way: tuple[BaseRoute, ...]) -> Iterator[Route]:
    for route in apart(routes):
        # A route that an included router has under its prefix, or the route itself.
        inner = getattr(route, "starlette_route", None) or getattr(route, "original_route", route)
        if is_operation(route):
            yield described(way, route)
        elif starlette_routes.inner_router(inner) is not None or getattr(inner, "routes", None):
            yield from _described(inner.routes, (*way, inner))
        else:
            yield described(way, inner)


def apart(routes: Iterable[Any]) -> Iterator[Any]:
    """Routes one by one. Where included routers stay in one piece, FastAPI itself takes them apart."""
    apart = getattr(routing, "iter_route_contexts", None)
    if apart is None:
        yield from routes
        return
    for context in apart(list(routes)):
        # What is in the context is what is matched.
        effective = getattr(context, "_route_context", None)
        yield effective if effective is not None else context.route


def is_operation(route: Any) -> bool:
    return isinstance(getattr(route, "original_route", route), routing.APIRoute)


def described(way: tuple[BaseRoute, ...], route: Any) -> Route:
    """A route as a policy wants to know it, guarded by its function or among its dependencies."""
    found = starlette_routes.described(way, route)
    if hasattr(route, "dependant"):
        guards = tuple(guards_among(route))
        return replace(found, guarded=bool(guards), guards=guards, by_method=None)
    if getattr(found.handler, "__module__", "") == "fastapi.applications":
        return replace(found, kind=RouteKind.DOCUMENTATION)
    return found


class Asks:
    """A guard as a dependency: what FastAPI calls before the handler."""

    def __init__(self, asks: Guard) -> None:
        self.guard = asks

    async def __call__(self, connection: HTTPConnection) -> None:  # noqa: ARG002
        self.guard.ask(self._no_arguments, "a route")

    def _no_arguments(self) -> Mapping[str, Any]:
        raise TypeError(
            f'guard("{self.guard.text}") in {self.guard.place.at} is a dependency and sees no arguments; '
            "write path.NAME, or put bloodroot.enforce.guard around the function"
        )


def guards_among(route: Any) -> Iterator[Guard]:
    """The guards of a route: around its function, and among its dependencies at any depth."""
    yield from guards_of(route.endpoint)
    waiting = list(route.dependant.dependencies)
    while waiting:
        dependant = waiting.pop(0)
        if isinstance(dependant.call, Asks):
            yield dependant.call.guard
        yield from guards_of(dependant.call)
        waiting += dependant.dependencies
