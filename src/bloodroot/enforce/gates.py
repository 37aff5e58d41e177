"""Gates on the routes of Starlette and of what is built on it: each decides once its route has been chosen.

`Gates.install` puts a gate on every route of an application, and on those that are added later: into the list of routes
itself, so that none is overlooked. What no gate has decided (a redirect that the router makes, an answer of middleware
in a mounted application) is decided by its path before it leaves.
"""

from __future__ import annotations

import weakref
from collections.abc import Awaitable, Callable, Iterable
from functools import partial
from typing import Any, SupportsIndex

from starlette.exceptions import HTTPException
from starlette.routing import BaseRoute, Match, Router, WebSocketRoute
from starlette.routing import Route as StarletteRoute

from ..core.binding import Route
from .access import _current
from .asgi_messages import App, Receive, Scope, Send
from .dispatching import KEY, WAY, Application, Arrival, Routing, Way, last_of_each, way_to
from .enforcement import Enforcement, Served
from .starlette_routes import described, inner_router

_MARK = "_bloodroot_gate"


class Gates:
    """What decides at the gates of one application.

    The gates themselves are on routes, which several applications may share: each request is decided by the
    applications that it comes through, which are in its scope.

    Args:
        enforcement: what decides.

    Attributes:
        describe: describes a route, and those that lead to it, for a policy.
        error: the exception that the framework answers with its error handlers.
    """

    describe: Callable[[tuple[BaseRoute, ...], Any], Route] = staticmethod(described)
    error: type[HTTPException] = HTTPException

    def __init__(self, enforcement: Enforcement) -> None:
        self.enforcement = enforcement
        # With the routes themselves, so that an id here is never that of another one.
        self._served: dict[tuple[int, ...], tuple[Served, Any]] = {}

    def install(self, router: Router) -> None:
        """Put gates on every route below a router, and on those that are added later."""
        if getattr(router.middleware_stack, "gates", None) is self:
            return
        self.gate_router(router)
        stack = router.middleware_stack

        def within(scope: Scope, receive: Receive, send: Send) -> Awaitable[None]:
            if router.routes.__class__ is not GatedRoutes or router.default.__class__ is not _Default:
                self.gate_router(router)  # exchanged for another
            arrival = self.arrival(scope)
            if arrival is None:
                by_itself = scope["type"] != "lifespan" and not scope.get(KEY)
                return (Outermost(within, self) if by_itself else stack)(scope, receive, send)
            routing = Routing(arrival, send)
            # Whatever led here: what is dispatched from here on begins at the root.
            scope[WAY] = {**scope.get(WAY, {}), self: Way(routing)}
            return routing.run(stack, router.not_found, scope, receive, send)

        within.gates = self  # type: ignore[attr-defined]
        router.middleware_stack = within  # type: ignore[assignment]

    def arrival(self, scope: Scope) -> Arrival | None:
        """The request at the outer end of this application that led to a scope: the last one, if it came again."""
        arrivals: tuple[Arrival, ...] = scope.get(KEY, ())
        if arrivals and arrivals[-1].gates is self:
            return arrivals[-1]
        return next((arrival for arrival in reversed(arrivals) if arrival.gates is self), None)

    def gate_router(self, router: Router) -> None:
        """Put gates on the routes of a router, and on what it does where none of them is asked for."""
        if not isinstance(router.default, _Default):
            router.default = _Default(router.default, router.not_found)
        routes = router.routes
        if isinstance(routes, GatedRoutes):
            routes.decided_by(self)
            return
        router.routes = GatedRoutes(self, router)

    def gate_included(self, route: BaseRoute, owner: GatedRoutes) -> bool:  # noqa: ARG002
        """Put gates on the routes within another route, where a framework has such; return whether it was one."""
        return False

    def served(self, way: tuple[BaseRoute, ...], route: BaseRoute, scope: Scope) -> Served:
        """What is known of a route as it was reached; worked out once."""
        what = self.effective(route, scope)
        key = (*map(id, way), id(what)) if way else (id(what),)
        found = self._served.get(key)
        if found is None:
            found = self.enforcement.serve(self.describe(way, what)), (way, what)
            self._served[key] = found
        return found[0]

    def effective(self, route: BaseRoute, scope: Scope) -> Any:  # noqa: ARG002
        """The route as it is served, where a framework serves one in several places."""
        return route

    def handles(self, status: int, scope: Scope) -> bool:
        """Whether the application has an error handler of its own for a status."""
        by_class, by_status = scope.get("starlette.exception_handlers", ({}, {}))
        if status in by_status:
            return True
        handler = next((by_class[kind] for kind in self.error.__mro__ if kind in by_class), None)
        return handler is not None and not handler.__module__.startswith(("starlette.", "fastapi."))


class GatedRoutes(list[BaseRoute]):
    """The routes of a router, each with a gate from the moment it is added.

    Attributes:
        missing: the missing page of the router.
    """

    def __init__(self, gates: Gates, router: Router) -> None:
        self.missing: App = router.not_found
        self._gates = [weakref.ref(gates)]
        super().__init__(self._gated(router.routes))
        # What FastAPI keeps of the routes of a router that others include is to be made anew.
        self._changed: Callable[[], None] = getattr(router, "_mark_routes_changed", lambda: None)

    def decided_by(self, gates: Gates) -> None:
        """Note another application that has these routes, and put gates on what that one reaches by them."""
        self._gates = [each for each in self._gates if each() not in (None, gates)] + [weakref.ref(gates)]
        for route in self:
            gate(route, gates, self)

    def decides(self, gates: Application) -> bool:
        """Whether an application has these routes, and does not only lead to something that has them."""
        return self._gates[-1]() is gates or any(each() is gates for each in self._gates)

    def last(self) -> Gates | None:
        """The application that was protected last with these routes; None where there is none any more."""
        return next((found for gates in reversed(self._gates) if (found := gates()) is not None), None)

    def _gated(self, routes: Iterable[BaseRoute]) -> list[BaseRoute]:
        own_routes = list(routes)
        for route in own_routes:
            for reference in self._gates:
                gates = reference()
                if gates is not None:
                    gate(route, gates, self)
        return own_routes

    def append(self, route: BaseRoute) -> None:
        super().append(*self._gated([route]))
        self._changed()

    def insert(self, place: SupportsIndex, route: BaseRoute) -> None:
        super().insert(place, *self._gated([route]))
        self._changed()

    def extend(self, routes: Iterable[BaseRoute]) -> None:
        super().extend(self._gated(routes))
        self._changed()

    def __iadd__(self, routes: Iterable[BaseRoute]) -> Any:  # type: ignore[override,misc]
        self.extend(routes)
        return self

    def __setitem__(self, place: Any, route: Any) -> None:
        super().__setitem__(place, self._gated(route) if isinstance(place, slice) else self._gated([route])[0])
        self._changed()


def gate(route: BaseRoute, gates: Gates, owner: GatedRoutes) -> None:
    """Put a gate on a route, unless it has one. The route stays what it is; only its ``handle`` is another.

    Args:
        route: the route.
        gates: the application it is reached from.
        owner: the list of routes that it is in, or that includes it.
    """
    inner = inner_router(route)
    if inner is not None:
        gates.gate_router(inner)
    # A copy of a route brings the gate of the other one with it, which is not its own.
    marked = route.__dict__.get(_MARK)
    if marked == id(route):
        return
    handle: App = route.handle if marked is None else partial(type(route).handle, route)
    if not isinstance(route, StarletteRoute | WebSocketRoute):
        # A mount of an application that is not known here takes its part of the path as well, and decides itself.
        matches: Matches = route.matches if marked is None else partial(type(route).matches, route)
        leads_on = (route,) if inner is not None else ()
        route.matches = _on_the_way(leads_on, matches)  # type: ignore[method-assign,assignment]
    if inner is not None:
        route.handle = _through(inner, handle, owner)  # type: ignore[method-assign,assignment]
    elif not gates.gate_included(route, owner):
        route.handle = _leaf(route, handle, owner)  # type: ignore[method-assign,assignment]
    route.__dict__[_MARK] = id(route)


Matches = Callable[[Scope], tuple[Match, Scope]]


def _on_the_way(routes: tuple[BaseRoute, ...], matches: Matches) -> Matches:
    """What notes, where it matches, which routes are on the way, and what was taken of the path.

    What middleware within takes off the path by ``root_path`` is no part of the path that is decided.
    """

    def noted(scope: Scope) -> tuple[Match, Scope]:
        match, child = matches(scope)
        if match is not Match.NONE:
            before = scope.get("root_path", "")
            took = child.get("root_path", before)[len(before) :]
            ways: dict[Application, Way] = scope.get(WAY, {})
            child = {**child, WAY: {gates: way.further(routes, took) for gates, way in ways.items()}}
        return match, child

    return noted


def _through(inner: Router, handle: App, owner: GatedRoutes) -> App:
    """What leads to other routes, and decides nothing itself."""

    async def through(scope: Scope, receive: Receive, send: Send) -> None:
        if inner.routes.__class__ is not GatedRoutes:
            gates = owner.last()
            if gates is not None:
                gates.gate_router(inner)
        await handle(scope, receive, send)

    return through


def _leaf(route: BaseRoute, handle: App, owner: GatedRoutes) -> App:
    """What serves requests: each application that a request comes through decides, the outer one first."""

    def leaf(scope: Scope, receive: Receive, send: Send) -> Awaitable[None]:
        arrivals: tuple[Arrival, ...] = scope.get(KEY, ())
        if not arrivals:
            gates = owner.last()
            # A part of a protected application that is used by itself.
            return (handle if gates is None else Outermost(leaf, gates))(scope, receive, send)
        if len(arrivals) == 1 and owner.decides(arrivals[0].gates):
            # As nearly always: one application, and a route of its own.
            return arrivals[0].serve(way_to(scope, arrivals[0]), route, handle, owner.missing, scope, receive, send)
        app = handle
        for arrival in last_of_each(arrivals):
            way = way_to(scope, arrival)
            # One that has mounted all of this as a whole has decided so.
            if owner.decides(arrival.gates) or not way.routing.dispatches:
                app = partial(arrival.serve, way, route, app, owner.missing)
        return app(scope, receive, send)

    return leaf


class _Default:
    """What a router does where no route is asked for.

    Args:
        inner: what it does. An application that was put there serves whatever it likes, and is decided by its path.
        missing: the missing page of the router.
    """

    def __init__(self, inner: App, missing: App) -> None:
        self.inner = inner
        self.missing = missing

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        app = self.inner
        for arrival in last_of_each(scope.get(KEY, ())):
            way = way_to(scope, arrival)
            if self.inner == self.missing:
                app = partial(arrival.serve_nothing, way, app)
            elif not way.routing.dispatches:
                app = partial(arrival.serve, way, None, app, self.missing)
        await app(scope, receive, send)


class Watch:
    """Within all middleware of the application: notes that something failed while a refusal was on its way out.

    What the application's handlers for exceptions answer to that is no refusal.
    """

    def __init__(self, app: App, gates: Gates) -> None:
        self.app = app
        self.gates = gates

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        try:
            await self.app(scope, receive, send)
        except Exception:
            arrival = self.gates.arrival(scope)
            if arrival is not None:
                arrival.fail()
            raise


class Outermost:
    """The outer end of an application: what is begun for each request, and the last that its responses pass.

    It is outside of everything of the application's own, error handlers for exceptions included.
    """

    def __init__(self, app: App, gates: Gates) -> None:
        self.app = app
        self.gates = gates

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        arrival = Arrival(self.gates, scope, send)
        before = scope.get(KEY, ())
        scope[KEY] = (*before, arrival)
        # No caller acts before it is decided who does, even where one acts around.
        token = _current.set(None)
        try:
            await self.app(scope, receive, arrival.send)
        finally:
            _current.reset(token)
            scope[KEY] = before
            arrival.end()
