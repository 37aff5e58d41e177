"""The policy in front of an ASGI application."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Awaitable, Callable, Iterable, Mapping, MutableMapping
from typing import Any

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.decision import Outcome
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


_VARY = (b"vary", answers.VARY.encode())
_PRIVATE = (b"cache-control", answers.PRIVATE.encode())


class Request(Seen):
    """What `identify` gets to see of an ASGI request.

    Attributes:
        scope: the ASGI scope, for everything that is not told here.
    """

    __slots__ = ("method", "path", "query_string", "scope")

    def __init__(self, scope: Scope) -> None:
        self.scope = scope
        self.method = scope.get("method", "GET")
        path: str = scope["path"]
        # As nearly always: nothing was encoded, and every layer has the same.
        plain = path.isascii() and "%" not in path and scope.get("raw_path") == path.encode()
        self.path = path if plain else _path_as_sent(scope)
        query = scope.get("query_string")
        self.query_string = query.decode("latin-1") if query else ""

    def header(self, name: str) -> str | None:
        """The value of a header, the first one where there are several; None where there is none."""
        wanted = name.lower().encode("latin-1")
        for key, value in self.scope.get("headers", ()):
            if key == wanted:
                found: str = value.decode("latin-1")
                return found
        return None

    def headers(self, name: str) -> list[str]:
        """The values of a header, one for each time it was sent."""
        wanted = name.lower().encode("latin-1")
        return [value.decode("latin-1") for key, value in self.scope.get("headers", ()) if key == wanted]

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
        kind = scope["type"]
        if kind == "lifespan":
            await self.app(scope, receive, send)
            return
        if kind != "http" and kind != "websocket":
            log.error("a connection of the unknown type %r is not let in", kind)
            return
        request = Request(scope)
        if kind == "http" and request.method == "OPTIONS" and request.is_preflight:
            await self.app(scope, receive, send)
            return
        enforcement = self.enforcement
        try:
            caller = self._identify(request)
            if caller is not None and not isinstance(caller, Caller):
                caller = await caller
            access = enforcement.begin(request, caller, None)
        except Unidentified as error:
            access = enforcement.begin(request, None, error)
        except Exception:
            await self._answer(enforcement.failed(request), request, None, receive, send)
            return
        if access.decision.outcome is not Outcome.ALLOW or enforcement.records:
            answer = await self._with_record(access, request)
            if answer is not None:
                await self._answer(answer, request, access, receive, send)
                return
        token = _current.set(access)
        try:
            if kind == "websocket":
                enforcement.note(access, None)
                await self.app(scope, receive, send)
            else:
                gate = _Gate(self, access, request, send, receive)
                await self.app(scope, receive, gate.send)
                if not gate.started:
                    await gate.end()
        except Exception as error:
            answer = enforcement.refusal_raised(error)
            if answer is None or kind == "websocket":
                raise
            await gate.refuse(answer)
        finally:
            _current.reset(token)

    async def _with_record(self, access: Access, request: Request) -> Answer | None:
        """Decide again with the record, and give the answer where there is one already."""
        enforcement = self.enforcement
        wanted = enforcement.to_load(access)
        if wanted is not None:
            loader, text = wanted
            waits = inspect.iscoroutinefunction(loader)
            record = await loader(text) if waits else await asyncio.to_thread(loader, text)
            if inspect.isawaitable(record):
                record = await record  # an object whose call is async does not look it
            missing = enforcement.loaded(access, record)
            if missing is not None:
                return missing
        if access.open and request.scope["type"] == "websocket":
            # What goes over a WebSocket cannot be withheld any more.
            return enforcement.refusal_after(access, 0)
        return access.decision.answer

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

    # Defaults stand with the class: one is made for every request.
    started = False
    withheld = False

    def __init__(
        self, middleware: AccessMiddleware, access: Access, request: Request, send: Send, receive: Receive
    ) -> None:
        self.middleware = middleware
        self.access = access
        self.request = request
        self.forward = send
        self.receive = receive

    async def send(self, message: Message) -> None:
        """Pass a message on, or drop it."""
        if not self.started:
            if self.withheld or message["type"] != "http.response.start":
                return
            enforcement = self.middleware.enforcement
            if not self.access.cleared:
                await self.refuse(enforcement.refusal_after(self.access, message["status"]) or answers.UNSETTLED)
                return
            self.started = True
            if enforcement.audit.allowed:
                enforcement.note(self.access, None)
            if enforcement.extra_headers(self.access):
                message["headers"] = _with_caching(message.get("headers") or ())
        await self.forward(message)

    async def end(self) -> None:
        """The application has ended, and no response has gone out."""
        answer = self.middleware.enforcement.refusal_after(self.access, 500)
        if answer is not None:
            await self.refuse(answer)

    async def refuse(self, answer: Answer) -> None:
        """Answer in the application's place, unless something has gone out already."""
        if not self.started and not self.withheld:
            self.withheld = True
            await self.middleware._answer(answer, self.request, self.access, self.receive, self.forward)


def _with_caching(headers: Iterable[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """The headers of a response that is for one caller alone."""
    found = [*headers, _VARY]
    for name, _ in found:
        if name == b"cache-control":
            return found
    found.append(_PRIVATE)
    return found


def _path_as_sent(scope: Scope) -> str:
    """The path as the client sent it; an empty text, which nothing matches, where servers and layers disagree."""
    path: str = scope["path"]
    raw = scope.get("raw_path")
    if not raw:
        return encoded(path)
    sent = raw.split(b"?", 1)[0]
    return str(sent.decode("latin-1")) if same_path(sent, path, scope.get("root_path", "") + path) else ""
