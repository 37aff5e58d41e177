"""The policy in front of an ASGI application."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Awaitable, Callable, Mapping, MutableMapping
from typing import Any

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.policy import Policy
from . import answers
from .access import Access, _current, log
from .audit import Audit
from .enforcement import Enforcement, Identify, Loader, Page
from .seen import Seen, encoded, same_path

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]


class Request(Seen):
    """What `identify` gets to see of an ASGI request.

    Attributes:
        scope: the ASGI scope, for everything that is not told here.
    """

    __slots__ = ("method", "path", "scope")

    def __init__(self, scope: Scope) -> None:
        self.scope = scope
        self.method = scope.get("method", "GET")
        self.path = _path_as_sent(scope)

    @property
    def query_string(self) -> str:  # type: ignore[override]
        """As the client sent it."""
        return str(self.scope.get("query_string", b"").decode("latin-1"))

    def headers(self, name: str) -> list[str]:
        """The values of a header, one for each time it was sent."""
        wanted = name.lower().encode("latin-1")
        return [value.decode("latin-1") for key, value in self.scope.get("headers", ()) if key.lower() == wanted]

    @property
    def session(self) -> Mapping[str, Any]:
        """The session that a session middleware outside of this one has put into the scope; empty without one."""
        session: Mapping[str, Any] = self.scope.get("session", {})
        return session

    @property
    def sender(self) -> str | None:
        """The address of whoever is connected, as the server tells it; None where it does not."""
        client = self.scope.get("client")
        return str(client[0]) if client else None


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow.

    Args:
        app: the application.
        policy: what decides.
        identify: as `Enforcement`. A plain function runs on the event loop and must not wait for anything; make it
            ``async`` where it asks a database.
        records: as `Enforcement`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Enforcement`.
        audit: as `Enforcement`.

    A condition on the record is decided on what the loader finds, and the handler has it as ``current().record``.
    Where there is no loader the handler decides it with ``current().settle(record)``; if it answers without having
    done so, its response is withheld.
    """

    def __init__(
        self,
        app: App,
        policy: Policy,
        *,
        identify: Identify,
        records: Mapping[str, Loader] | None = None,
        page: Page | None = None,
        audit: Audit | None = None,
    ) -> None:
        self.app = app
        self.enforcement = Enforcement(policy, identify=identify, records=records, page=page, audit=audit)
        self._identify: Identify = getattr(identify, "asynchronous", identify)

    @property
    def policy(self) -> Policy:
        """What decides."""
        return self.enforcement.policy

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self.app(scope, receive, send)
            return
        if scope["type"] not in ("http", "websocket"):
            log.error("a connection of the unknown type %r is not let in", scope["type"])
            return
        request = Request(scope)
        if request.is_preflight and scope["type"] == "http":
            await self.app(scope, receive, send)
            return
        access, answer = await self._decide(request)
        if access is None or answer is not None:
            await self._answer(answer or answers.NO_CALLER, request, access, receive, send)
            return
        token = _current.set(access)
        try:
            if scope["type"] == "websocket":
                self.enforcement.note(access, None)
                await self.app(scope, receive, send)
            else:
                await _Gate(self, access, request, send).run(receive)
        finally:
            _current.reset(token)

    async def _decide(self, request: Request) -> tuple[Access | None, Answer | None]:
        """The request under the policy, and the answer where there is one already."""
        enforcement = self.enforcement
        try:
            caller, unidentified = await self._who(request)
            access = enforcement.begin(request, caller, unidentified)
        except Exception:
            return None, enforcement.failed(request)
        wanted = enforcement.to_load(access)
        if wanted is not None:
            loader, text = wanted
            waits = inspect.iscoroutinefunction(loader)
            record = await loader(text) if waits else await asyncio.to_thread(loader, text)
            missing = enforcement.loaded(access, record)
            if missing is not None:
                return access, missing
        answer = enforcement.refusal_before(access)
        if answer is None and access.open and request.scope["type"] == "websocket":
            # What goes over a WebSocket cannot be withheld any more.
            answer = enforcement.refusal_after(access, 0)
        return access, answer

    async def _who(self, request: Request) -> tuple[Caller | None, Unidentified | None]:
        """The caller of a request; or why whoever the request speaks of is not to be believed."""
        try:
            caller = self._identify(request)
            return (await caller if inspect.isawaitable(caller) else caller), None
        except Unidentified as error:
            return None, error

    async def _answer(
        self, answer: Answer, request: Request, access: Access | None, receive: Receive, send: Send
    ) -> None:
        """Send a refusal: a response, or the refusal of a WebSocket handshake."""
        if access is not None:
            self.enforcement.note(access, answer)
        if request.scope["type"] == "websocket":
            await receive()
            # 1008: policy violation (RFC 6455, section 7.4.1). Before acceptance, servers turn it into a 403.
            await send({"type": "websocket.close", "code": 1008, "reason": answer.message})
            return
        response = self.enforcement.respond(answer, request, access)
        headers = [(name.encode("latin-1"), value.encode("latin-1")) for name, value in response.headers]
        await send({"type": "http.response.start", "status": response.status, "headers": headers})
        body = b"" if request.method == "HEAD" else response.body
        await send({"type": "http.response.body", "body": body})


class _Gate:
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    __slots__ = ("access", "forward", "middleware", "receive", "request", "started", "withheld")

    def __init__(self, middleware: AccessMiddleware, access: Access, request: Request, send: Send) -> None:
        self.middleware = middleware
        self.access = access
        self.request = request
        self.forward = send
        self.started = False
        self.withheld = False

    async def run(self, receive: Receive) -> None:
        """Run the application, and answer in its place where it may not answer itself."""
        self.receive = receive
        enforcement = self.middleware.enforcement
        try:
            await self.middleware.app(self.request.scope, receive, self.send)
        except Exception as error:
            answer = enforcement.refusal_raised(error)
            if answer is None:
                raise
            # A framework may have answered already, with an error that has been replaced.
            if not self.started and not self.withheld:
                await self._answer_instead(answer)
            return
        if not self.started and not self.withheld:
            answer = enforcement.refusal_after(self.access, 500)
            if answer is not None:
                await self._answer_instead(answer)

    async def send(self, message: Message) -> None:
        """Pass a message on, or drop it."""
        if not self.started and not self.withheld and message["type"] == "http.response.start":
            enforcement = self.middleware.enforcement
            answer = enforcement.refusal_after(self.access, message["status"])
            if answer is None:
                self.started = True
                enforcement.note(self.access, None)
                self._add_headers(message)
            else:
                await self._answer_instead(answer)
        if self.started:
            await self.forward(message)

    def _add_headers(self, message: Message) -> None:
        headers = message.get("headers") or ()
        has_cache_control = any(name.lower() == b"cache-control" for name, _ in headers)
        extra = self.middleware.enforcement.extra_headers(self.access, has_cache_control)
        if extra:
            message["headers"] = [*headers, *((name.encode(), value.encode()) for name, value in extra)]

    async def _answer_instead(self, answer: Answer) -> None:
        self.withheld = True
        await self.middleware._answer(answer, self.request, self.access, self.receive, self.forward)


def _path_as_sent(scope: Scope) -> str:
    """The path as the client sent it; an empty text, which nothing matches, where servers and layers disagree."""
    path: str = scope["path"]
    raw = scope.get("raw_path")
    if not raw:
        return encoded(path)
    sent = raw.split(b"?", 1)[0]
    return str(sent.decode("latin-1")) if same_path(sent, path, scope.get("root_path", "") + path) else ""
