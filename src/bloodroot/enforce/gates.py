"""Gates on the routes of Starlette and of what is built on it: each decides once its route has been chosen.

`Gates.install` puts a gate on every route of an application, and on those that are added later: into the list of routes
itself, so that none is overlooked. What no gate has decided (a redirect that the router makes, an answer of middleware
in a mounted application) is decided by its path before it leaves.
"""

from __future__ import annotations

import weakref
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any, SupportsIndex

from starlette.exceptions import HTTPException
from starlette.requests import HTTPConnection, Request
from starlette.routing import BaseRoute, Router
from starlette.websockets import WebSocket

from ..core.answers import Answer
from ..core.binding import Route
from ..request import AsgiRequest
from .asgi import Gate, Withheld, call_async
from .asgi_messages import BEGINNINGS, App, Message, Receive, Scope, Send
from .enforcement import Enforcement, Served
from .pipeline import run_async
from .starlette_routes import described, inner_router

KEY = "bloodroot"  # in a scope: the exchanges of the applications that a request comes through, the outer one first
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
        self.gate_router(router)
        stack = router.middleware_stack

        async def within(scope: Scope, receive: Receive, send: Send) -> None:
            if router.routes.__class__ is not GatedRoutes or router.default.__class__ is not _Default:
                self.gate_router(router)  # exchanged for another
            exchange = next((each for each in scope.get(KEY, ()) if each.gates is self), None)
            if exchange is None:
                by_itself = scope["type"] != "lifespan" and not scope.get(KEY)
                await (Front(within, self) if by_itself else stack)(scope, receive, send)
                return
            try:
                await stack(scope, receive, exchange.released_by(send))
            except Withheld as error:
                if exchange.started:
                    raise
                await exchange.answer_with(error.answer, scope, receive, send, router.not_found)

        router.middleware_stack = within

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
    if inner is not None:
        route.handle = _through(route, inner, handle, owner)  # type: ignore[method-assign,assignment]
    elif not gates.gate_included(route, owner):
        route.handle = _leaf(route, handle, owner)  # type: ignore[method-assign,assignment]
    route.__dict__[_MARK] = id(route)


def _through(route: BaseRoute, inner: Router, handle: App, owner: GatedRoutes) -> App:
    """What leads to other routes, and decides nothing itself."""

    async def through(scope: Scope, receive: Receive, send: Send) -> None:
        if inner.routes.__class__ is not GatedRoutes:
            gates = owner.last()
            if gates is not None:
                gates.gate_router(inner)
        for exchange in scope.get(KEY, ()):
            exchange.way = (*exchange.way, route)
        await handle(scope, receive, send)

    return through


def _leaf(route: BaseRoute, handle: App, owner: GatedRoutes) -> App:
    """What serves requests: each application that a request comes through decides, the outer one first."""

    async def leaf(scope: Scope, receive: Receive, send: Send) -> None:
        exchanges: tuple[Exchange, ...] = scope.get(KEY, ())
        if not exchanges:
            gates = owner.last()
            # A part of a protected application that is used by itself.
            await (handle if gates is None else Front(leaf, gates))(scope, receive, send)
            return
        app = handle
        for exchange in reversed(exchanges):
            if exchange.decided and not owner.decides(exchange.gates):
                continue  # one that has mounted all of this as a whole, and has decided so
            served = exchange.gates.served(exchange.way, route, scope)
            app = partial(exchange.serve, served, app, owner.missing)
        await app(scope, receive, send)

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
        for exchange in reversed(scope.get(KEY, ())):
            if self.inner == self.missing:
                app = partial(exchange.serve_nothing, app)
            elif not exchange.decided:
                app = partial(exchange.serve, None, app, self.missing)
        await app(scope, receive, send)


class Front:
    """The outer end: what is begun for each request, and what lets responses out.

    It is inside of every other middleware of the application and outside of its error handlers.
    """

    def __init__(self, app: App, gates: Gates) -> None:
        self.app = app
        self.gates = gates

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        exchange = Exchange(self.gates, scope, send)
        before = scope.get(KEY, ())
        scope[KEY] = (*before, exchange)
        try:
            if exchange.request.readable:
                await self.app(scope, receive, exchange.send)
            else:
                await exchange.refuse_unread(scope, receive, exchange.send)
        except Withheld as error:
            if exchange.started:
                raise
            exchange.refuse(error.answer)
            await exchange.answer_plainly(error.answer, connection(scope), receive, exchange.send)
        finally:
            # The exchange knows the scope: without this both would wait for the collector of garbage.
            scope[KEY] = before


class Exchange(Gate):
    """One request on its way through the gates, and its response on the way back."""

    way: tuple[BaseRoute, ...] = ()

    def __init__(self, gates: Gates, scope: Scope, send: Send) -> None:
        super().__init__(gates.enforcement, AsgiRequest(scope), send)
        self.gates = gates
        self.whole: str = scope["path"]

    # On the way in --------------------------------------------------------------------------------

    async def serve(
        self, served: Served | None, handle: App, missing: App, scope: Scope, receive: Receive, send: Send
    ) -> None:
        """Decide by the route that was chosen, or else by the path; let it serve the request, or refuse."""
        if scope["path"] != self.whole or scope.get("method", "GET") != self.request.method:
            # Middleware further in has made another request of it: what is served counts.
            self.request = AsgiRequest({**scope, "root_path": self.request.prefix})
            if not self.request.readable:
                await self.refuse_unread(scope, receive, send)
                return
        steps = self.decide(connection(scope), served, scope.get("path_params"))
        answer = await run_async(steps, call_async)
        if answer is None:
            # Within a mounted application its own error handlers are between here and the outer router.
            answer = await self.run(handle, scope, receive, self.released_by(send) if self.way else send)
        if answer is not None:
            await self.answer_with(answer, scope, receive, send, missing)

    async def serve_nothing(self, missing: App, scope: Scope, receive: Receive, send: Send) -> None:
        """No route serves the request: it gets the missing page, unless a path line refuses it before."""
        if self.decided:
            await missing(scope, receive, send)
            return
        answer = await run_async(self.decide_without_route(connection(scope), missing=True), call_async)
        if answer is not None:
            await self.answer_with(answer, scope, receive, send, missing)
        else:
            await missing(scope, receive, send)

    # Refusals --------------------------------------------------------------------------------

    async def answer_with(self, answer: Answer, scope: Scope, receive: Receive, send: Send, missing: App) -> None:
        """Answer in the place of the handler, through the framework: with its error handlers, or its missing page."""
        self.refuse(answer)
        own = connection(scope)
        if not self.socket:
            if answer.hidden:
                # As if no route were there: the application's own missing page must look the same.
                for name in ("route", "endpoint"):
                    scope.pop(name, None)
                scope["path_params"] = {}
                await missing(scope, receive, send)
                return
            response = self.response(answer, own)
            if response.status in (401, 403) and self.gates.handles(response.status, scope):
                headers = {name: value for name, value in response.headers if name == "www-authenticate"}
                raise self.gates.error(response.status, answer.message, headers)
        await self.answer_plainly(answer, own, receive, send)

    async def refuse_unread(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Refuse a request whose method or path can be read in more than one way."""
        answer = await run_async(self.decide(None), call_async)
        assert answer is not None
        self.refuse(answer)
        await self.answer_plainly(answer, connection(scope), receive, send)

    # On the way out --------------------------------------------------------------------------------

    def released_by(self, send: Send) -> Send:
        """Something to send with that sees whether a response may leave before anything around takes it for sent.

        Error handlers take what they have passed on for sent, and do not answer again.
        """

        async def release(message: Message) -> None:
            if not self.started:
                await self._begin(message)
            await send(message)

        return release

    async def send(self, message: Message) -> None:
        """Pass a message on, or withhold the response."""
        if not self.started:
            await self._begin(message)
        await self.forward(message)
        if self.decided and self.access.public and not message.get("more_body"):
            self.end(message)

    async def _begin(self, message: Message) -> None:
        """See whether a response may begin to leave; raises `Withheld` where not."""
        if message["type"] not in BEGINNINGS:
            return
        scope = self.request.scope
        if self.refusing is None and not self.unserved:
            if not self.decided:
                steps = self.decide_without_route(connection(dict(scope)), missing=False)
                self.answer = await run_async(steps, call_async)
            if "status" in message and self.answer is None:
                self.answer = self.responded(message["status"])
            if self.answer is not None:
                raise Withheld(self.answer)
            self.begin(message)
        else:
            self.started = True
            if "status" in message:
                message["headers"] = self._headers_of_refusal(message)

    def _headers_of_refusal(self, message: Message) -> list[tuple[bytes, bytes]]:
        headers = list(message.get("headers") or ())
        texts = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in headers]
        more = self.lacking_headers(message["status"], texts)
        return headers + [(name.lower().encode(), value.encode("latin-1")) for name, value in more]


def connection(scope: Scope) -> HTTPConnection:
    """The framework's own request. Its body is the handler's to read."""
    if scope["type"] == "http":
        return Request(scope)
    return WebSocket(scope, _unread, _unread)


async def _unread(*_: object) -> Any:
    raise RuntimeError("a WebSocket has nothing to read before its handshake is decided")
