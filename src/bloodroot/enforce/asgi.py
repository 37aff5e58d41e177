"""The policy in front of an ASGI application."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Awaitable, Callable, Mapping, MutableMapping
from dataclasses import dataclass
from http.cookies import CookieError, SimpleCookie
from typing import Any
from urllib.parse import parse_qs, quote, unquote_to_bytes

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.policy import Policy
from . import answers
from .access import Access, Refused, _current, log

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]


@dataclass(frozen=True, slots=True)
class Request:
    """What `identify` gets to see of a request.

    Attributes:
        method: in capitals.
        path: as the client sent it, still percent-encoded.
        scope: the ASGI scope, for everything else.
    """

    method: str
    path: str
    scope: Scope

    def header(self, name: str) -> str | None:
        """The value of a header, the first one where there are several; None where there is none."""
        return next(iter(self.headers(name)), None)

    def headers(self, name: str) -> list[str]:
        """The values of a header, one for each time it was sent."""
        wanted = name.lower().encode("latin-1")
        return [value.decode("latin-1") for key, value in self.scope.get("headers", ()) if key.lower() == wanted]

    @property
    def cookies(self) -> Mapping[str, str]:
        """The cookies by name; none where the header cannot be read."""
        try:
            return {name: morsel.value for name, morsel in SimpleCookie(self.header("cookie") or "").items()}
        except CookieError:
            return {}

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


Identify = Callable[[Request], Caller | None | Awaitable[Caller | None]]
Loader = Callable[[str], Any]


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow.

    Args:
        app: the application.
        policy: what decides.
        identify: who sends this request? Returns a `Caller`, or None for a signed-out one; raises
            `bloodroot.Unidentified` for one who is not to be believed. A plain function runs on the event loop and
            must not wait for anything; make it ``async`` where it asks a database. What `bloodroot.identity.load`
            gives is both.
        records: for path parameters, how to load the record one stands for: a function from the parameter's text to
            the record, or to None where there is none. A plain function runs in a thread, an ``async`` one is awaited.

    A condition on the record is decided on what the loader finds. Where there is no loader the handler decides it with
    ``current().settle(record)``; if the handler answers without having done so, its response is withheld.
    """

    def __init__(
        self,
        app: App,
        policy: Policy,
        *,
        identify: Identify,
        records: Mapping[str, Loader] | None = None,
    ) -> None:
        self.app = app
        self.policy = policy
        self.identify: Identify = getattr(identify, "asynchronous", identify)
        self.records = dict(records or {})
        self.realm = policy.title or "application"

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self.app(scope, receive, send)
            return
        if scope["type"] not in ("http", "websocket"):
            log.error("a connection of the unknown type %r is not let in", scope["type"])
            return
        if scope["type"] == "http" and _is_preflight(scope):
            await self.app(scope, receive, send)
            return
        access = await self._decide(scope, receive, send)
        if access is None:
            return
        token = _current.set(access)
        try:
            if scope["type"] == "websocket":
                await self.app(scope, receive, send)
            else:
                await _Gate(self, access, scope, send).run(receive)
        finally:
            _current.reset(token)

    async def _decide(self, scope: Scope, receive: Receive, send: Send) -> Access | None:
        """The request under the policy, or None where it has been answered already."""
        method = scope.get("method", "GET")
        path = _path_as_sent(scope)
        try:
            query = _query(scope)
        except ValueError:
            # More parameters than any page asks for.
            query, path = {}, ""
        try:
            caller, unidentified = await self._who(Request(method, path, scope))
            access = Access(self.policy, caller, method, path, query, unidentified)
        except Exception:
            log.exception("identify failed for %s %s; the request is refused", method, path)
            await self.answer(answers.NO_CALLER, scope, receive, send)
            return None
        parameter = access.parameter_with(self.records) if access.open else None
        if parameter is not None:
            record = await self._load(parameter, access.decision.path_values[parameter])
            if record is None:
                await self.answer(answers.MISSING, scope, receive, send)
                return None
            access.decide_with(record)
        refused = access.decision.answer
        if refused is not None or (access.open and scope["type"] == "websocket"):
            answer = refused or answers.UNSETTLED
            await self.answer(answer, scope, receive, send, _asked_for(access, scope), access.invalid_token)
            return None
        return access

    async def _who(self, request: Request) -> tuple[Caller | None, Unidentified | None]:
        """The caller of a request; or why whoever the request speaks of is not to be believed."""
        try:
            caller = self.identify(request)
            return (await caller if inspect.isawaitable(caller) else caller), None
        except Unidentified as error:
            return None, error

    async def _load(self, parameter: str, text: str) -> Any:
        loader = self.records[parameter]
        if inspect.iscoroutinefunction(loader):
            return await loader(text)
        return await asyncio.to_thread(loader, text)

    async def answer(
        self,
        answer: Answer,
        scope: Scope,
        receive: Receive,
        send: Send,
        asked_for: str | None = None,
        invalid_token: str | None = None,
    ) -> None:
        """Send a refusal: a response, or the refusal of a WebSocket handshake."""
        if scope["type"] == "websocket":
            await receive()
            # 1008: policy violation (RFC 6455, section 7.4.1). Before acceptance, servers turn it into a 403.
            await send({"type": "websocket.close", "code": 1008, "reason": answer.message})
            return
        accept = Request(scope["method"], "", scope).header("accept") or ""
        response = answers.response(answer, accept, self.realm, asked_for, invalid_token)
        headers = [(name.encode("latin-1"), value.encode("latin-1")) for name, value in response.headers]
        await send({"type": "http.response.start", "status": response.status, "headers": headers})
        body = b"" if scope["method"] == "HEAD" else response.body
        await send({"type": "http.response.body", "body": body})


class _Gate:
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    def __init__(self, middleware: AccessMiddleware, access: Access, scope: Scope, send: Send) -> None:
        self.middleware = middleware
        self.access = access
        self.scope = scope
        self.forward = send
        self.started = False
        self.withheld = False

    async def run(self, receive: Receive) -> None:
        """Run the application, and answer in its place where it may not answer itself."""
        try:
            await self.middleware.app(self.scope, receive, self.send)
        except Refused:
            # A framework may have answered already, with an error that has been replaced.
            if not self.started and not self.withheld:
                await self._answer_instead(403)
            return
        if not self.started and not self.withheld and not self.access.cleared:
            await self._answer_instead(500)

    async def send(self, message: Message) -> None:
        """Pass a message on, or drop it."""
        if not self.started and not self.withheld and message["type"] == "http.response.start":
            if self.access.cleared:
                self.started = True
            else:
                await self._answer_instead(message["status"])
        if self.started:
            await self.forward(message)

    async def _answer_instead(self, status: int) -> None:
        self.withheld = True
        asked_for = None
        if self.access.refusal is not None:
            answer = self.access.refusal.answer or answers.UNSETTLED
            asked_for = _asked_for(self.access, self.scope)
        elif status == 404:
            # A handler that finds no record has nothing to settle. What it says of that is left out.
            answer = answers.MISSING
        else:
            answer = answers.UNSETTLED
            line = self.access.decision.line
            remains = self.access.decision.remainder
            log.error(
                "%s %s: nobody settled %s, which %s asks for; the response is withheld. "
                "Register a loader for the path parameter, or call current().settle(record)",
                self.access.method,
                self.access.path,
                remains.words() if remains is not None else "the condition",
                line.place.at if line is not None else "the policy",
            )
        await self.middleware.answer(answer, self.scope, _nothing_more, self.forward, asked_for)


def _asked_for(access: Access, scope: Scope) -> str | None:
    """The page to come back to after a redirect. One for visitors alone is none to come back to."""
    if scope.get("method") not in ("GET", "HEAD") or access.decision.reason == "signed-in":
        return None
    query = scope.get("query_string", b"").decode("latin-1")
    return access.path + (f"?{query}" if query else "")


async def _nothing_more() -> Message:
    return {"type": "http.disconnect"}


def _path_as_sent(scope: Scope) -> str:
    """The path as the client sent it; an empty text, which nothing matches, where servers and layers disagree."""
    path: str = scope["path"]
    raw = scope.get("raw_path")
    if not raw:
        return quote(path, safe="/-._~!$&'()*+,=:@")
    sent = raw.split(b"?", 1)[0]
    seen = unquote_to_bytes(sent).decode("utf-8", "replace")
    if seen not in (path, scope.get("root_path", "") + path):
        # Some layer has rewritten the path: the policy would decide one page, and the application serve another.
        return ""
    return str(sent.decode("latin-1"))


def _query(scope: Scope) -> dict[str, Any]:
    """The parameters of the query: text, or a list where one is given more than once, which equals nothing."""
    text = scope.get("query_string", b"").decode("latin-1")
    if not text:
        return {}
    values = parse_qs(text, keep_blank_values=True, max_num_fields=1000)
    return {name: found[0] if len(found) == 1 else found for name, found in values.items()}


def _is_preflight(scope: Scope) -> bool:
    """Whether this asks, before a cross-origin request, if it may be sent (Fetch standard, section 4.9)."""
    if scope["method"] != "OPTIONS":
        return False
    names = {name.lower() for name, _ in scope["headers"]}
    return b"origin" in names and b"access-control-request-method" in names
