"""What is dispatched within Starlette, and what is built on it: each time by itself, with a decision of its own.

A request arrives at the outer end of an application (`Arrival`), is given to its router, once or by a handler again
(`Routing`), and is dispatched to routes (`Dispatch`). A response leaves only if all that was dispatched for it is
cleared, or was refused in its handler's place.
"""

from __future__ import annotations

from collections.abc import Awaitable, Iterable, Sequence
from typing import Any, NamedTuple, Protocol

from starlette.exceptions import HTTPException
from starlette.requests import HTTPConnection, Request
from starlette.routing import BaseRoute
from starlette.websockets import WebSocket

from ..core.answers import Answer
from ..request import AsgiRequest, method_of, own_path
from .access import Access
from .asgi import Gate, Withheld, let_leave
from .asgi_messages import BEGINNINGS, App, Message, Receive, Scope, Send, status_of
from .enforcement import Enforcement, Served
from .leaving import Keeping, are_clear, withheld
from .pipeline import Steps

KEY = "bloodroot"  # in a scope: the arrivals at the applications that a request comes through, the outer one first
WAY = "bloodroot.way"  # in a scope: how it came from the router of each application to where it is


class Application(Protocol):
    """What an arrival asks of the application that it is at."""

    enforcement: Enforcement
    error: type[HTTPException]

    def served(self, way: tuple[BaseRoute, ...], route: BaseRoute, scope: Scope) -> Served:
        """What is known of a route as it was reached."""
        ...

    def handles(self, status: int, scope: Scope) -> bool:
        """Whether the application has an error handler of its own for a status."""
        ...


class Arrival:
    """One request at the outer end of an application, and all that is dispatched for it there.

    Attributes:
        gates: the application.
        dispatches: everything that was dispatched, each with its own decision, in this order.
        request: the request as it came to the router; there once ``came`` is true.
        started: whether a response has begun to leave.
    """

    request: AsgiRequest
    _failed: tuple[Dispatch, Answer] | None = None

    def __init__(self, gates: Application, scope: Scope, send: Send) -> None:
        self.gates = gates
        self.scope = scope
        self.forward = send
        self.dispatches: list[Dispatch] = []
        self.came = self.started = False
        self._replaced = self._passes_on = False
        self._early: Sequence[Message] = ()
        self._public: Sequence[Access] = ()

    def come(self, scope: Scope) -> None:
        """Take over the request, once the router has it."""
        if not self.came:
            self.came = True
            self.scope = scope
            self.request = AsgiRequest(scope)

    def fail(self) -> None:
        """Note that something failed. A refusal that was on its way then goes out as our own."""
        first = self.dispatches[0] if self.dispatches else None
        if first is not None and first.refusing is not None:
            self._failed = first, first.refusing

    def end(self) -> None:
        """Let go of what knows each other: without this all of it would wait for the collector of garbage."""
        self.scope = {}
        self.came = self._passes_on = False
        self.forward = _over
        self.__dict__.pop("request", None)
        for dispatch in self.dispatches:
            dispatch.way.routing.dispatches = []
        self.dispatches = []

    def dispatch(self, way: Way, scope: Scope, send: Send) -> Dispatch:
        """Something that is dispatched: of a path that is what mounts on the way have matched, and what is left."""
        if not self.came:
            self.come(scope)
        request = self.request
        if way.path or not request.is_of(scope):
            own = way.path + own_path(scope)
            if own != request.own or method_of(scope) != request.method:
                request = AsgiRequest(scope, own, request.prefix)
        found = Dispatch(self.gates, request, way, scope, send)
        self.dispatches.append(found)
        way.routing.dispatches.append(found)
        return found

    def itself(self) -> Dispatch:
        """The request as it came, where nothing was dispatched for it: whatever mounts have made of its scope."""
        if not self.came:
            raise RuntimeError(_OVER)
        request = self.request
        scope = {**self.scope, "path": request.prefix + request.own, "root_path": request.prefix}
        dispatch = Dispatch(self.gates, request, Way(Routing(self)), scope, self.forward)
        self.dispatches.append(dispatch)
        return dispatch

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

    def send(self, message: Message) -> Awaitable[None]:
        """Pass a message on, or answer in the place of the response."""
        return self.forward(message) if self._passes_on else self._send(message)

    async def _send(self, message: Message) -> None:
        if self._replaced:
            return
        if not self.started:
            if message["type"] not in BEGINNINGS:
                self._early = [*self._early, message]
                return
            # What comes before the router answers without the policy.
            refused = self._failed
            if refused is None and self.came and not are_clear(self.dispatches):
                refused = await examined(self, self.dispatches, message)
            self.started = True
            if refused is not None:
                self._replaced = True
                dispatch, answer = refused
                dispatch.refuse(answer)
                dispatch.forward = self.forward
                await dispatch.answer_plainly(answer, dispatch.own)
                return
            dispatches = self.dispatches
            if dispatches and (let_leave(dispatches, message) is Keeping.ANYONE or len(dispatches) > 1):
                self._public = [each.access for each in dispatches if each.decided and each.access.public]
            for early in self._early:
                await self.forward(early)
            self._passes_on = not self._public
        await self.forward(message)
        if message["type"] == "http.response.body" and not message.get("more_body"):
            for access in self._public:
                access.public = False


_OVER = "the application has ended this request, and sends a message of it all the same"


async def _over(message: Message) -> None:  # noqa: ARG001
    raise RuntimeError(_OVER)


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
        answer = await dispatch.decide_without_route(dispatch.own, missing=False)
        if answer is not None:
            return dispatch, answer
        dispatches = [dispatch]
    return withheld(dispatches, status_of(message))


class Routing:
    """One time that a request is given to the router of an application. A handler may give it there again.

    Attributes:
        arrival: the request.
        dispatches: what the router has led to.
    """

    def __init__(self, arrival: Arrival, send: Send | None = None) -> None:
        self.arrival = arrival
        self.dispatches: list[Dispatch] = []
        self._send = send if send is not None else arrival.forward
        self._begun = False
        self._refused: tuple[Dispatch, Answer] | None = None

    async def run(self, stack: App, missing: App, scope: Scope, receive: Receive, send: Send) -> None:
        """Let the router choose a route, and see what comes of what it does by itself."""
        self.arrival.come(scope)
        if not self.arrival.request.readable and not self.arrival.gates.enforcement.reports(None):
            dispatch = self.arrival.dispatch(scope[WAY][self.arrival.gates], scope, send)
            answer = await dispatch.decide(None)
            assert answer is not None
            dispatch.refuse(answer)
            await dispatch.answer_plainly(answer, dispatch.own)
            return
        try:
            await stack(scope, receive, self.release)
        except Exception:
            if self._refused is None or self._begun:
                raise
        finally:
            self._send = _over  # what it sends to nearly always knows the scope, which knows this
        if self._refused is not None and not self._begun:
            self._begun = True
            dispatch, answer = self._refused
            await dispatch.answer_with(answer, scope, receive, send, missing)

    def released_by(self, dispatch: Dispatch) -> Send | None:
        """Where a response goes on that its only dispatch has let out, as nearly always; None for any other."""
        if self._refused is not None or len(self.dispatches) != 1 or self.dispatches[0] is not dispatch:
            return None
        self._begun = True
        return self._send

    async def release(self, message: Message) -> None:
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

    def __init__(self, gates: Application, request: AsgiRequest, way: Way, scope: Scope, send: Send) -> None:
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

    def run_placed(self, steps: Steps[Answer | None], scope: Scope) -> Steps[Answer | None]:
        """Run steps while the scope has the path that is decided: for whatever asks who the caller is, and for loaders.

        A mount leaves its own prefix there, and what is asked would take it for that of a server.
        """
        prefix = self.request.prefix
        path = prefix + self.request.own
        if scope["path"] == path and scope.get("root_path", "") == prefix:
            return steps
        return self._run_placed(steps, scope, path, prefix)

    async def _run_placed(self, steps: Steps[Answer | None], scope: Scope, path: str, prefix: str) -> Answer | None:
        before = {name: scope[name] for name in ("path", "root_path") if name in scope}
        scope["path"], scope["root_path"] = path, prefix
        try:
            return await steps
        finally:
            scope.pop("root_path")
            scope.update(before)

    def begin(self, message: Message) -> None:
        """A response begins to leave. What the router has led to directly is not asked there once more."""
        super().begin(message)
        routing = self.way.routing
        if self.forward == routing.release:
            self.forward = routing.released_by(self) or self.forward

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


def last_of_each(arrivals: tuple[Arrival, ...]) -> Iterable[Arrival]:
    """The arrivals that decide, the inner one first: of several at one application, the last."""
    if len(arrivals) == 1:
        return arrivals
    last: dict[Application, Arrival] = {}
    for arrival in reversed(arrivals):
        last.setdefault(arrival.gates, arrival)
    return last.values()


def way_to(scope: Scope, arrival: Arrival) -> Way:
    """How a request came from an arrival to a scope. What was never routed there began just here."""
    way: Way | None = scope.get(WAY, {}).get(arrival.gates)
    return way if way is not None else Way(Routing(arrival))
