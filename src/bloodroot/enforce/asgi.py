"""The policy in front of an ASGI application without a framework that is known here."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Awaitable, Callable, Iterable, Mapping, MutableMapping
from typing import Any

from ..core.answers import Answer
from ..core.policy import Policy
from ..request import AsgiRequest as Request
from . import answers
from .access import Access, _current, log
from .audit import Audit
from .pipeline import Call, Enforcement, Identify, Loader, Page, run_async
from .startup import without_actions

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow.

    Args:
        app: the application.
        policy: what decides. It has lines for paths alone: there are no routes to find actions in.
        identify: as `Enforcement`. A plain function runs on the event loop and must not wait for anything; make it
            ``async`` where it asks a database.
        records: as `Enforcement`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Enforcement`.
        audit: as `Enforcement`.

    Raises:
        PolicyError: the policy has lines that name actions.

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
        self.enforcement = Enforcement(
            without_actions(policy), identify=identify_async(identify), records=records, page=page, audit=audit
        )

    @property
    def policy(self) -> Policy:
        """What decides."""
        return self.enforcement.policy

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        kind = scope["type"]
        if kind == "lifespan":
            await self.app(scope, receive, send)
            return
        if kind not in ("http", "websocket"):
            log.error("a connection of the unknown type %r is not let in", kind)
            return
        request = Request(scope)
        try:
            access = await run_async(self.enforcement.admit(request, request), call_async)
        except Exception:
            log.exception("%s failed before the handler; the request is refused", request.method)
            await self._answer(answers.NO_CALLER, request, None, receive, send)
            return
        socket = kind == "websocket"
        answer = self.enforcement.refusal_of_socket(access) if socket else self.enforcement.refusal_before(access)
        if answer is None:
            gate = Gate(self.enforcement, access, send)
            answer = await gate.run(self.app, scope, receive)
        if answer is not None:
            await self._answer(answer, request, access, receive, send)

    async def _answer(
        self, answer: Answer, request: Request, access: Access | None, receive: Receive, send: Send
    ) -> None:
        if access is not None:
            self.enforcement.note(access, answer)
        if request.scope["type"] == "websocket":
            await refuse_socket(answer, receive, send)
            return
        response = self.enforcement.respond(answer, request, access, request)
        await send_response(response, send, body=request.method != "HEAD")


class Withheld(Exception):
    """The response of a handler is withheld. Raised where the handler sends it, so that nothing of it goes on."""

    def __init__(self, answer: Answer) -> None:
        self.answer = answer
        super().__init__("the response is withheld, as it was left open whether the caller may have it")


class Gate:
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    started = False
    answer: Answer | None = None

    def __init__(self, enforcement: Enforcement, access: Access, send: Send) -> None:
        self.enforcement = enforcement
        self.access = access
        self.forward = send

    async def run(self, app: App, scope: Scope, receive: Receive) -> Answer | None:
        """Run what serves the request; gives what the caller gets instead, if anything."""
        token = _current.set(self.access)
        try:
            await app(scope, receive, self.send)
        except Exception as error:
            if self.started:
                raise
            answer = self.answer or self.enforcement.refusal_raised(error)
            if answer is None:
                raise
            self.access.withheld = True
            return answer
        finally:
            _current.reset(token)
        if self.started or scope["type"] == "websocket":
            return None
        return self.answer or self.enforcement.refusal_after(self.access, 500)

    async def send(self, message: Message) -> None:
        """Pass a message on, or withhold the response."""
        if not self.started:
            kind = message["type"]
            if kind == "http.response.start":
                self.answer = self.enforcement.refusal_after(self.access, message["status"])
                if self.answer is not None:
                    raise Withheld(self.answer)
                self.begin(message)
            elif kind == "websocket.accept":
                self.started = True
                self.enforcement.note(self.access, None)
            elif self.answer is not None:
                raise Withheld(self.answer)
        await self.forward(message)
        if self.access.public and not message.get("more_body"):
            self.end(message)

    def end(self, message: Message) -> None:
        """All of a response has left, and asking now changes nothing of it."""
        if message["type"] == "http.response.body":
            self.access.public = False

    def begin(self, message: Message) -> None:
        """A response begins to leave: write it down, and keep caches from giving it to other callers."""
        self.started = True
        enforcement, access = self.enforcement, self.access
        if enforcement.audit.allowed:
            enforcement.note(access, None)
        line = access.decision.line
        if access.consulted or line is None or not line.open_to_anyone:
            message["headers"] = with_caching(message.get("headers") or ())
            return
        streamed = is_streamed(message["status"], message.get("headers") or ())
        if enforcement.is_private(access, streamed=streamed):
            message["headers"] = with_caching(message.get("headers") or ())
        else:
            access.public = True


def identify_async(identify: Identify) -> Identify:
    """The form of ``identify`` that does not keep an event loop waiting, where it has one."""
    found: Identify = getattr(identify, "asynchronous", identify)
    if found is not identify and hasattr(identify, "by_token"):
        return _Asynchronous(identify)
    return found


class _Asynchronous:
    """What `bloodroot.identity.load` gives, without waiting on the event loop."""

    def __init__(self, identification: Any) -> None:
        self._call = identification.asynchronous
        self.by_token = identification.by_token

    def __call__(self, request: Any) -> Any:
        return self._call(request)


def call_async(call: Call) -> Any:
    """Make a call, whose result may have to be awaited: a loader that is not async runs in a thread, as it may wait."""
    function, arguments, blocks = call
    return _in_thread(function, arguments) if blocks else function(*arguments)


async def _in_thread(function: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    found = await asyncio.to_thread(function, *arguments)
    return await found if inspect.isawaitable(found) else found  # an object whose call is async does not look it


async def send_response(response: answers.Response, send: Send, *, body: bool) -> None:
    """Send a refusal."""
    headers = [(name.encode("latin-1"), value.encode("latin-1", "replace")) for name, value in response.headers]
    await send({"type": "http.response.start", "status": response.status, "headers": headers})
    await send({"type": "http.response.body", "body": response.body if body else b""})


async def refuse_socket(answer: Answer, receive: Receive, send: Send) -> None:
    """Refuse a WebSocket handshake."""
    await receive()
    # 1008: policy violation (RFC 6455, section 7.4.1). Before acceptance, servers turn it into a 403. A reason has
    # 123 bytes at the most (section 5.5).
    reason = answer.message.encode()[:123].decode("utf-8", "ignore")
    await send({"type": "websocket.close", "code": 1008, "reason": reason})


_WHOLE_VARY = (b"vary", ", ".join(answers.VARY).encode())
_PRIVATE = (b"cache-control", answers.PRIVATE.encode())


def with_caching(headers: Iterable[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """The headers of a response that is for one caller alone."""
    found = [*headers]
    has_vary = has_caching = False
    for name, _ in found:
        lower = name.lower()
        if lower == b"vary":
            has_vary = True
        elif lower == b"cache-control":
            has_caching = True
    if not has_vary:
        found.append(_WHOLE_VARY)
    else:
        more = answers.varied([value.decode("latin-1") for name, value in found if name.lower() == b"vary"])
        if more:
            found.append((b"vary", more.encode()))
    if not has_caching:
        found.append(_PRIVATE)
    return found


def is_streamed(status: int, headers: Iterable[tuple[bytes, bytes]]) -> bool:
    """Whether a body is made while it is sent: one whose length is not known when it begins."""
    if status < 200 or status in (204, 304):
        return False
    return not any(name.lower() == b"content-length" for name, _ in headers)
