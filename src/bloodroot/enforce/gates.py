"""Gates on the routes of Starlette and of what is built on it: each decides once its route has been chosen.

`Gates.install` puts a gate on every route of an application, and on those that are added later: into the list of routes
itself, so that none is overlooked. What no gate has decided (a redirect that the router makes, an answer of middleware
in a mounted application) is decided by its path before it leaves.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable
from functools import partial
from typing import Any, SupportsIndex

from starlette.exceptions import HTTPException
from starlette.requests import HTTPConnection, Request
from starlette.routing import BaseRoute, Router
from starlette.websockets import WebSocket

from ..core.answers import Answer
from ..core.binding import Route
from ..request import AsgiRequest
from . import answers
from .access import Access, _current
from .asgi import Gate, Message, Receive, Scope, Send, Withheld, call_async, refuse_socket, send_response, with_caching
from .pipeline import Enforcement, Served, run_async
from .starlette_routes import described, inner_router

App = Callable[[Scope, Receive, Send], Awaitable[None]]
_ANY = "bloodroot"


class Gates:
    """The gates of one application.

    Args:
        enforcement: what decides.

    Attributes:
        describe: tells of a route, and of those that lead to it, what a policy wants to know.
        error: the exception that the framework answers with its error handlers.
    """

    describe: Callable[[tuple[BaseRoute, ...], Any], Route] = staticmethod(described)
    error: type[HTTPException] = HTTPException

    def __init__(self, enforcement: Enforcement) -> None:
        self.enforcement = enforcement
        # A key of its own: a mounted application may be protected by itself as well, and then both decide.
        self.key = f"bloodroot.{id(self):x}"
        self._mark = f"_gated_{id(self):x}"
        # With the routes themselves, so that an id here is never that of another one.
        self._served: dict[tuple[int, ...], tuple[Served, Any]] = {}

    # Installing --------------------------------------------------------------------------------

    def install(self, router: Router) -> None:
        """Put gates on every route below a router, and on those that are added later."""
        self.gate_router(router)
        stack = router.middleware_stack

        async def within(scope: Scope, receive: Receive, send: Send) -> None:
            if router.routes.__class__ is not GatedRoutes:
                self.gate_router(router)  # the list was exchanged for another
            exchange: Exchange | None = scope.get(self.key)
            if exchange is None:
                await stack(scope, receive, send)
                return
            try:
                await stack(scope, receive, exchange.released_by(send))
            except Withheld as error:
                if exchange.started:
                    raise
                await exchange.refuse(error.answer, scope, receive, send, missing)

        missing = router.default.inner if isinstance(router.default, _Default) else router.default
        router.middleware_stack = within

    def gate_router(self, router: Router) -> None:
        """Put gates on the routes of one router, and on what it does where none of them is asked for."""
        if isinstance(router.routes, GatedRoutes) and router.routes.gates is self:
            return
        own = isinstance(router.default, _Default) and router.default.gates is self
        missing = router.default.inner if own else router.default  # type: ignore[attr-defined]
        router.routes = GatedRoutes(self, router, missing)
        if not own:
            router.default = _Default(self, missing)

    def gate(self, route: BaseRoute, missing: App) -> None:
        """Put a gate on a route, unless it has one.

        Args:
            route: the route. It stays what it is; only its ``handle`` is another.
            missing: what the router does where no route is asked for.
        """
        if route.__dict__.get(self._mark) == id(route):
            return
        # A copy of a route brings the gate of the other one with it, which is not its own.
        copied = self._mark in route.__dict__
        handle: App = partial(type(route).handle, route) if copied else route.handle
        inner = inner_router(route)
        if inner is not None:
            self.gate_router(inner)
            route.handle = self._through(route, inner, handle)  # type: ignore[method-assign,assignment]
        elif not self.gate_included(route, missing):
            route.handle = self._leaf(route, handle, missing)  # type: ignore[method-assign,assignment]
        route.__dict__[self._mark] = id(route)

    def gate_included(self, route: BaseRoute, missing: App) -> bool:  # noqa: ARG002
        """Put gates on the routes that stand in another one, where a framework has such; whether it was one."""
        return False

    # Serving --------------------------------------------------------------------------------

    def _through(self, route: BaseRoute, inner: Router, handle: App) -> App:
        """What leads to other routes, and decides nothing itself."""

        async def through(scope: Scope, receive: Receive, send: Send) -> None:
            if inner.routes.__class__ is not GatedRoutes:
                self.gate_router(inner)
            exchange: Exchange | None = scope.get(self.key)
            if exchange is not None:
                exchange.way = (*exchange.way, route)
            await handle(scope, receive, send)

        return through

    def _leaf(self, route: BaseRoute, handle: App, missing: App) -> App:
        """What serves requests."""

        async def leaf(scope: Scope, receive: Receive, send: Send) -> None:
            exchange: Exchange | None = scope.get(self.key)
            if exchange is None:
                if _ANY in scope:
                    # Another one is protected here, with this application's routes mounted in it as well.
                    await handle(scope, receive, send)
                else:
                    # A mounted application that is used by itself.
                    await Front(leaf, self)(scope, receive, send)
                return
            served = self.served(exchange.way, route, scope)
            await exchange.serve(served, handle, scope, receive, send, missing)

        return leaf

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
    """The routes of a router, each with a gate from the moment it is added."""

    def __init__(self, gates: Gates, router: Router, missing: App) -> None:
        self.gates = gates
        self.missing = missing
        super().__init__(self._gated(router.routes))
        # What FastAPI keeps of the routes of a router that others include is to be made anew.
        self._changed: Callable[[], None] = getattr(router, "_mark_routes_changed", lambda: None)

    def _gated(self, routes: Iterable[BaseRoute]) -> list[BaseRoute]:
        found = list(routes)
        for route in found:
            self.gates.gate(route, self.missing)
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


class _Default:
    """What a router does where no route is asked for: its missing page, unless a line of the policy asks for more."""

    def __init__(self, gates: Gates, inner: App) -> None:
        self.gates = gates
        self.inner = inner

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        exchange: Exchange | None = scope.get(self.gates.key)
        if exchange is None:
            await self.inner(scope, receive, send)
        else:
            await exchange.serve_nothing(self.inner, scope, receive, send)


class Front:
    """The outer end: what is begun for each request, and what lets responses out.

    It stands inside of every other middleware of the application and outside of its error handlers.
    """

    def __init__(self, app: App, gates: Gates) -> None:
        self.app = app
        self.gates = gates

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        exchange = Exchange(self.gates, scope, send)
        scope[self.gates.key] = scope[_ANY] = exchange
        try:
            if exchange.request.readable:
                await self.app(scope, receive, exchange.send)
            else:
                await exchange.refuse_unread(scope, receive, exchange.send)
        except Withheld as error:
            if exchange.started:
                raise
            await exchange.answer_plainly(error.answer, scope, receive, exchange.send)
        finally:
            # The exchange knows the scope: without this both would wait for the collector of garbage.
            del scope[self.gates.key]
            scope.pop(_ANY, None)


class Exchange(Gate):
    """One request on its way through the gates, and its response on the way back."""

    access: Access
    decided = False
    refusing: Answer | None = None
    unserved = False
    way: tuple[BaseRoute, ...] = ()

    def __init__(self, gates: Gates, scope: Scope, send: Send) -> None:
        self.gates = gates
        self.enforcement = gates.enforcement
        self.forward = send
        self.request = AsgiRequest(scope)
        self.whole: str = scope["path"]

    # On the way in --------------------------------------------------------------------------------

    async def serve(
        self, served: Served, handle: App, scope: Scope, receive: Receive, send: Send, missing: App
    ) -> None:
        """Decide by the route that was chosen, and let it serve the request, or refuse."""
        enforcement = self.enforcement
        if scope["path"] != self.whole or scope.get("method", "GET") != self.request.method:
            # Middleware further in has made another request of it: what is served counts.
            self.request = AsgiRequest({**scope, "root_path": self.request.prefix})
            if not self.request.readable:
                await self.refuse_unread(scope, receive, send)
                return
        own = connection(scope)
        steps = enforcement.admit(self.request, own, served, scope.get("path_params"))
        self.access = access = await run_async(steps, call_async)
        self.decided = True
        socket = scope["type"] == "websocket"
        answer = enforcement.refusal_of_socket(access) if socket else enforcement.refusal_before(access)
        if answer is not None:
            await self.refuse(answer, scope, receive, send, missing)
            return
        token = _current.set(access)
        try:
            # Within a mounted application its own error handlers stand between here and the router outside.
            await handle(scope, receive, self.released_by(send) if self.way else send)
            if self.started or self.answer is None:
                return
            answer = self.answer  # the handler has gone on after its response was withheld
        except Exception as error:
            if self.started:
                raise
            answer = self.answer or enforcement.refusal_raised(error)
            if answer is None:
                raise
            access.withheld = True
        finally:
            _current.reset(token)
        await self.refuse(answer, scope, receive, send, missing)

    async def serve_nothing(self, missing: App, scope: Scope, receive: Receive, send: Send) -> None:
        """No route serves the request: it gets the missing page, unless a path line refuses it before."""
        if self.decided:
            await missing(scope, receive, send)
            return
        await self._decide_by_path(scope, resembling=False)
        answer = self.enforcement.refusal_before(self.access) if self.decided else None
        if answer is not None:
            await self.refuse(answer, scope, receive, send, missing)
            return
        # Nothing is served that a caller may have or not, and all callers get it alike.
        self.unserved = True
        await missing(scope, receive, send)

    async def _decide_by_path(self, scope: Scope, *, resembling: bool) -> None:
        """Decide what no route has decided: by path lines, or by the line of whatever resembles it as well."""
        policy, request = self.enforcement.policy, self.request
        line = policy.line_by_path(request.method, request.segments or [])
        if line is None and resembling:
            line = policy.line_for(request.method, request.path)
        if line is not None or resembling:
            steps = self.enforcement.admit(request, connection(scope), line=line)
            self.access = await run_async(steps, call_async)
            self.decided = True

    # Refusals --------------------------------------------------------------------------------

    async def refuse(self, answer: Answer, scope: Scope, receive: Receive, send: Send, missing: App) -> None:
        """Answer in the place of the handler, through the framework."""
        self.enforcement.note(self.access, answer)
        self.refusing = answer
        if answer.hidden and scope["type"] == "http":
            # As if no route were there: the application's own missing page must not be told from it.
            for name in ("route", "endpoint"):
                scope.pop(name, None)
            scope["path_params"] = {}
            await missing(scope, receive, send)
            return
        await self.answer_plainly(answer, scope, receive, send, raising=True)

    async def answer_plainly(
        self, answer: Answer, scope: Scope, receive: Receive, send: Send, *, raising: bool = False
    ) -> None:
        """Answer with the application's error handler, where it has one and stands around, or by ourselves."""
        self.refusing = answer
        if scope["type"] == "websocket":
            await refuse_socket(answer, receive, send)
            return
        access = self.access if self.decided else None
        response = self.enforcement.respond(answer, self.request, access, connection(scope))
        if raising and response.status in (401, 403) and self.gates.handles(response.status, scope):
            headers = {name: value for name, value in response.headers if name == "www-authenticate"}
            raise self.gates.error(response.status, answer.message, headers)
        await send_response(response, send, body=self.request.method != "HEAD")

    async def refuse_unread(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Refuse a request whose method or path can be read in more than one way."""
        self.access = await run_async(self.enforcement.admit(self.request, None), call_async)
        self.decided = True
        answer = self.access.decision.answer
        assert answer is not None
        self.enforcement.note(self.access, answer)
        await self.answer_plainly(answer, scope, receive, send)

    # On the way out --------------------------------------------------------------------------------

    def released_by(self, send: Send) -> Send:
        """Something to send with that sees whether a response may leave before anything around takes it for sent.

        Error handlers believe that what they have passed on has left, and refuse to answer then.
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
        if message["type"] not in _BEGINNINGS:
            return
        if self.refusing is not None:
            self.started = True
            if "status" in message:
                message["headers"] = self._headers_of_refusal(message)
            return
        if self.unserved:
            self.started = True
            if "status" in message:
                message["headers"] = with_caching(message.get("headers") or ())
            return
        scope = self.request.scope
        if not self.decided:
            await self._decide_by_path(dict(scope), resembling=True)
            self.answer = self.enforcement.refusal_before(self.access)
            if self.answer is not None:
                raise Withheld(self.answer)
        if "status" not in message:
            self.started = True
            self.enforcement.note(self.access, None)
            return
        self.answer = self.enforcement.refusal_after(self.access, message["status"])
        if self.answer is not None:
            raise Withheld(self.answer)
        self.begin(message)

    def _headers_of_refusal(self, message: Message) -> list[tuple[bytes, bytes]]:
        """The headers of a refusal, whoever has made it: never kept by caches, with a challenge where there is one."""
        headers = list(message.get("headers") or ())
        names = {name.lower() for name, _ in headers}
        if self.refusing is not None and not self.refusing.hidden:
            if b"cache-control" not in names:
                headers.append((b"cache-control", b"no-store"))
            asks_for = answers.challenge(message["status"], self.enforcement.realm, None, ())
            if asks_for is not None and b"www-authenticate" not in names:
                headers.append((b"www-authenticate", asks_for.encode()))
        return with_caching(headers)


_BEGINNINGS = ("http.response.start", "websocket.accept", "websocket.http.response.start")


def connection(scope: Scope) -> HTTPConnection:
    """The framework's own request. Its body is the handler's to read."""
    if scope["type"] == "http":
        return Request(scope)
    return WebSocket(scope, _unread, _unread)


async def _unread(*_: object) -> Any:
    raise RuntimeError("a WebSocket has nothing to read before its handshake is decided")
