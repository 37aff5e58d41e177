"""Gates on the routes of Starlette and of what is built on it: each decides once its route has been chosen.

`Gates.install` puts a gate on every route of an application, and on those that are added later: into the list of routes
itself, so that none is overlooked. What no gate has decided (a redirect that the router makes, an answer of middleware
in a mounted application) is decided by its path before it leaves.
"""

from __future__ import annotations

import weakref
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any, NamedTuple, SupportsIndex

from starlette.exceptions import HTTPException
from starlette.requests import HTTPConnection, Request
from starlette.routing import BaseRoute, Match, Router, WebSocketRoute
from starlette.routing import Route as StarletteRoute
from starlette.websockets import WebSocket

from ..core.answers import Answer
from ..core.binding import Route
from ..request import AsgiRequest, own_path
from .access import _current
from .asgi import Gate, Withheld, call_async, let_leave
from .asgi_messages import (
    BEGINNINGS,
    App,
    Message,
    Receive,
    Scope,
    Send,
    status_of,
)
from .enforcement import Enforcement, Served
from .pipeline import Steps, run_async
from .starlette_routes import described, inner_router

KEY = "bloodroot"  # in a scope: the arrivals at the applications that a request comes through, the outer one first
WAY = "bloodroot.way"  # in a scope: how it came from the router of each application to where it is
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

        async def within(scope: Scope, receive: Receive, send: Send) -> None:
            if router.routes.__class__ is not GatedRoutes or router.default.__class__ is not _Default:
                self.gate_router(router)  # exchanged for another
            arrival = self.arrival(scope)
            if arrival is None:
                by_itself = scope["type"] != "lifespan" and not scope.get(KEY)
                await (Outermost(within, self) if by_itself else stack)(scope, receive, send)
                return
            routing = Routing(arrival)
            # Whatever led here: what is dispatched from here on begins at the root.
            scope[WAY] = {**scope.get(WAY, {}), self: Way(routing)}
            await routing.run(stack, router.not_found, scope, receive, send)

        within.gates = self  # type: ignore[attr-defined]
        router.middleware_stack = within

    def arrival(self, scope: Scope) -> Arrival | None:
        """The request at the outer end of this application that led to a scope: the last one, if it came again."""
        return self.last(scope.get(KEY, ()))

    def last(self, arrivals: tuple[Arrival, ...]) -> Arrival | None:
        """The last of some arrivals that is one at this application."""
        return next((each for each in reversed(arrivals) if each.gates is self), None)

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

    def decides(self, gates: Gates) -> bool:
        """Whether an application has these routes, and does not only lead to something that has them."""
        return any(each() is gates for each in self._gates)

    def last(self) -> Gates | None:
        """The application that was protected last with these routes; None where there is none any more."""
        return next((found for each in reversed(self._gates) if (found := each()) is not None), None)

    def _gated(self, routes: Iterable[BaseRoute]) -> list[BaseRoute]:
        found = list(routes)
        for route in found:
            for reference in self._gates:
                gates = reference()
                if gates is not None:
                    gate(route, gates, self)
        return found

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
            ways: dict[Gates, Way] = scope.get(WAY, {})
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

    async def leaf(scope: Scope, receive: Receive, send: Send) -> None:
        arrivals: tuple[Arrival, ...] = scope.get(KEY, ())
        if not arrivals:
            gates = owner.last()
            # A part of a protected application that is used by itself.
            await (handle if gates is None else Outermost(leaf, gates))(scope, receive, send)
            return
        app = handle
        for arrival in last_of_each(arrivals):
            way = way_to(scope, arrival)
            # One that has mounted all of this as a whole has decided so.
            if owner.decides(arrival.gates) or not way.routing.dispatches:
                app = partial(arrival.serve, way, route, app, owner.missing)
        await app(scope, receive, send)

    return leaf


def last_of_each(arrivals: tuple[Arrival, ...]) -> Iterable[Arrival]:
    """The arrivals that decide, the inner one first: of several at one application, the last."""
    if len(arrivals) == 1:
        return arrivals
    return {each.gates: each for each in reversed(arrivals) if each is each.gates.last(arrivals)}.values()


def way_to(scope: Scope, arrival: Arrival) -> Way:
    """How a request came from an arrival to a scope. What was never routed there began just here."""
    way: Way | None = scope.get(WAY, {}).get(arrival.gates)
    return way if way is not None else Way(Routing(arrival))


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
        # Nobody acts before it is decided who does, whoever acts around.
        token = _current.set(None)
        try:
            await self.app(scope, receive, arrival.send)
        finally:
            _current.reset(token)
            scope[KEY] = before
            arrival.end()


class Arrival:
    """One request at the outer end of an application, and all that is dispatched for it there.

    Attributes:
        gates: the application.
        dispatches: everything that was dispatched, each with its own decision, in this order.
        request: the request as it came to the router; there once ``came`` is true.
        started: whether a response has begun to leave.
    """

    request: AsgiRequest
    came = False
    started = False
    _replaced = False

    def __init__(self, gates: Gates, scope: Scope, send: Send) -> None:
        self.gates = gates
        self.scope = scope
        self.forward = send
        self.dispatches: list[Dispatch] = []
        self._early: list[Message] = []

    def come(self, scope: Scope) -> None:
        """Take over the request, once the router has it."""
        if not self.came:
            self.came = True
            self.scope = scope
            self.request = AsgiRequest(scope)

    def end(self) -> None:
        """Let go of what knows each other: without this all of it would wait for the collector of garbage."""
        self.scope = {}
        self.came = False
        self.__dict__.pop("request", None)
        for each in self.dispatches:
            each.way.routing.dispatches = []
        self.dispatches = []

    def dispatch(self, way: Way, scope: Scope, send: Send) -> Dispatch:
        """Something that is dispatched: of a path that is what mounts on the way have matched, and what is left."""
        self.come(scope)
        request, own = self.request, way.path + own_path(scope)
        if own != request.own or scope.get("method", "GET") != request.method:
            request = AsgiRequest(scope, own, request.prefix)
        found = Dispatch(self.gates, request, way, scope, send)
        self.dispatches.append(found)
        way.routing.dispatches.append(found)
        return found

    def itself(self) -> Dispatch:
        """The request as it came, where nothing was dispatched for it: whatever mounts have made of its scope."""
        request = self.request
        scope = {**self.scope, "path": request.prefix + request.own, "root_path": request.prefix}
        found = Dispatch(self.gates, request, Way(Routing(self)), scope, self.forward)
        self.dispatches.append(found)
        return found

    async def serve(
        self, way: Way, route: BaseRoute | None, handle: App, missing: App, scope: Scope, receive: Receive, send: Send
    ) -> None:
        """Decide by the route that was chosen, or else by the path; let it serve the request, or refuse."""
        dispatch = self.dispatch(way, scope, send)
        served = self.gates.served(way.routes, route, scope) if route is not None else None
        steps = dispatch.decide(dispatch.own, served, scope.get("path_params"))
        answer = await dispatch.run_placed(steps, scope)
        if answer is None:
            answer = await dispatch.run(handle, scope, receive)
        if answer is not None:
            await dispatch.answer_with(answer, scope, receive, send, missing)

    async def serve_nothing(self, way: Way, missing: App, scope: Scope, receive: Receive, send: Send) -> None:
        """No route serves the request: it gets the missing page, unless a path line refuses it before."""
        dispatch = self.dispatch(way, scope, send)
        answer = await dispatch.run_placed(dispatch.decide_without_route(dispatch.own, missing=True), scope)
        if answer is not None:
            await dispatch.answer_with(answer, scope, receive, send, missing)
        else:
            await missing(scope, receive, send)

    async def send(self, message: Message) -> None:
        """Pass a message on, or answer in the place of the response."""
        if self._replaced:
            return
        if not self.started:
            if message["type"] not in BEGINNINGS:
                self._early.append(message)
                return
            # What comes before the router answers without the policy.
            refused = None
            if self.came and not are_clear(self.dispatches):
                refused = await examined(self, self.dispatches, message)
            self.started = True
            if refused is not None:
                self._replaced = True
                dispatch, answer = refused
                dispatch.refuse(answer)
                dispatch.forward = self.forward
                await dispatch.answer_plainly(answer, dispatch.own)
                return
            if self.dispatches:
                let_leave(self.dispatches, message)
            for early in self._early:
                await self.forward(early)
        await self.forward(message)
        if message["type"] == "http.response.body" and not message.get("more_body"):
            for each in self.dispatches:
                if each.decided and each.access.public:
                    each.access.public = False


def are_clear(dispatches: list[Dispatch]) -> bool:
    """Whether nothing speaks against a response: what was dispatched for it is cleared, as nearly always."""
    for each in dispatches:
        if each.refusing is None and not (each.decided and each.access.cleared):
            return False
    return bool(dispatches)


async def examined(arrival: Arrival, dispatches: list[Dispatch], message: Message) -> tuple[Dispatch, Answer] | None:
    """What the caller gets instead of a response, and what is answered with it; None where the response may leave.

    Args:
        arrival: the request.
        dispatches: what was dispatched for the response. All of it must be cleared, or refused in its handler's place.
        message: what the response begins with.
    """
    if not dispatches:
        # A redirect of the router, or an answer of middleware inside: it is decided by its path.
        dispatch = arrival.itself()
        answer = await run_async(dispatch.decide_without_route(dispatch.own, missing=False), call_async)
        if answer is not None:
            return dispatch, answer
        dispatches = [dispatch]
    found: tuple[Dispatch, Answer] | None = None
    for each in dispatches:
        if each.decided and each.refusing is None:
            answer = each.responded(status_of(message))
            if answer is not None:
                # One response goes in the place of them all.
                found = found or (each, answer)
                each.refuse(answer)
    return found


class Routing:
    """One time that a request is given to the router of an application. A handler may give it there again.

    Attributes:
        arrival: the request.
        dispatches: what the router has led to.
    """

    def __init__(self, arrival: Arrival) -> None:
        self.arrival = arrival
        self.dispatches: list[Dispatch] = []
        self._begun = False
        self._refused: tuple[Dispatch, Answer] | None = None

    async def run(self, stack: App, missing: App, scope: Scope, receive: Receive, send: Send) -> None:
        """Let the router choose a route, and see what comes of what it does by itself."""
        self.arrival.come(scope)
        self._send = send
        if not self.arrival.request.readable:
            dispatch = self.arrival.dispatch(scope[WAY][self.arrival.gates], scope, send)
            answer = await run_async(dispatch.decide(None), call_async)
            assert answer is not None
            dispatch.refuse(answer)
            await dispatch.answer_plainly(answer, dispatch.own)
            return
        try:
            await stack(scope, receive, self._release)
        except Exception:
            if self._refused is None or self._begun:
                raise
        if self._refused is not None and not self._begun:
            self._begun = True
            dispatch, answer = self._refused
            await dispatch.answer_with(answer, scope, receive, send, missing)

    async def _release(self, message: Message) -> None:
        """Pass a message on, if the response may begin to leave; raises `Withheld` where not.

        Error handlers take what they have passed on for sent, and do not answer again: it is seen before.
        """
        if not self._begun and message["type"] in BEGINNINGS:
            if self._refused is None and not are_clear(self.dispatches):
                self._refused = await examined(self.arrival, self.dispatches, message)
            if self._refused is not None:
                raise Withheld(self._refused[1])
            self._begun = True
        await self._send(message)


class Way(NamedTuple):
    """How a request came from the router of an application to where it is.

    Attributes:
        routing: the router's doing that it is a part of.
        routes: the mounts and hosts that led there.
        path: the part of the path that these have matched, decoded.
    """

    routing: Routing
    routes: tuple[BaseRoute, ...] = ()
    path: str = ""

    def further(self, routes: tuple[BaseRoute, ...], took: str) -> Way:
        """The same through a mount or a host more, which has matched a part of the path."""
        return Way(self.routing, (*self.routes, *routes), self.path + took)


class Dispatch(Gate):
    """One dispatch of a request to a route of an application, and the response of that route on its way back.

    Args:
        gates: the application.
        request: the request, of the path that is decided.
        way: how it came to the route.
        scope: the scope as the route gets it.
        send: where its response goes.
    """

    def __init__(self, gates: Gates, request: AsgiRequest, way: Way, scope: Scope, send: Send) -> None:
        super().__init__(gates.enforcement, request, send)
        self.gates = gates
        self.way = way
        self._scope = scope
        self._own = connection(scope)

    @property
    def own(self) -> HTTPConnection:
        """The framework's own request. Its body is the handler's to read."""
        return self._own

    @property
    def own_again(self) -> HTTPConnection:
        """The same while the handler runs: of the path that was decided, and the handler's scope stays as it is."""
        request = self.request
        return connection({**self._scope, "path": request.prefix + request.own, "root_path": request.prefix})

    async def run_placed(self, steps: Steps[Answer | None], scope: Scope) -> Answer | None:
        """Run steps while the scope has the path that is decided: for whatever asks who the caller is, and for loaders.

        A mount leaves its own prefix there, and what is asked would take it for that of a server.
        """
        prefix = self.request.prefix
        path = prefix + self.request.own
        if scope["path"] == path and scope.get("root_path", "") == prefix:
            return await run_async(steps, call_async)
        before = {name: scope[name] for name in ("path", "root_path") if name in scope}
        scope["path"], scope["root_path"] = path, prefix
        try:
            return await run_async(steps, call_async)
        finally:
            scope.pop("root_path")
            scope.update(before)

    async def answer_with(self, answer: Answer, scope: Scope, receive: Receive, send: Send, missing: App) -> None:
        """Answer in the place of the handler, through the framework: with its error handlers, or its missing page."""
        self.refuse(answer)
        if not self.socket:
            if answer.hidden:
                # As if no route were there: the application's own missing page must look the same.
                for name in ("route", "endpoint"):
                    scope.pop(name, None)
                scope["path_params"] = {}
                await missing(scope, receive, send)
                return
            response = self.response(answer, self.own)
            if response.status in (401, 403) and self.gates.handles(response.status, scope):
                headers = {name: value for name, value in response.headers if name == "www-authenticate"}
                raise self.gates.error(response.status, answer.message, headers)
        self.forward = send
        await self.answer_plainly(answer, self.own)


def connection(scope: Scope) -> HTTPConnection:
    """The framework's own request. Its body is the handler's to read."""
    if scope["type"] == "http":
        return Request(scope)
    return WebSocket(scope, _unread, _unread)


async def _unread(*_: object) -> Any:
    raise RuntimeError("a WebSocket has nothing to read before its handshake is decided")
