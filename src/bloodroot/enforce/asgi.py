"""The policy in front of an ASGI application without a framework that is known here."""

from __future__ import annotations

import inspect
from collections.abc import Awaitable, Callable, Sequence
from functools import partial
from typing import Any

from ..core.answers import Answer
from ..core.policy import Policy
from ..file_changes import Watched
from ..language.errors import BloodrootError
from ..request import AsgiRequest as Request
from ..threads import Threads
from . import responses
from .access import _current, log
from .asgi_messages import (
    BEGINNINGS,
    App,
    Message,
    Receive,
    Scope,
    Send,
    is_sized,
    private_headers,
    refuse_socket,
    send_response,
    status_of,
    texts_of,
    with_headers,
)
from .audit import Audit
from .enforcement import Enforcement, EnforcementOptions, Identify, Page
from .following import opened
from .leaving import Keeping, headers_kept, keeping
from .loaders import Records
from .pipeline import Exchange
from .sessions import KeptSession
from .startup import without_actions

__all__ = ["AccessMiddleware"]


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow.

    Args:
        app: the application.
        policy: what decides. It has lines for paths alone: there are no routes to find actions in.
        identify: as `Driver`. A plain function runs on the event loop and must not wait for anything; make it
            ``async`` where it asks a database.
        records: as `Driver`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Driver`.
        audit: as `Driver`.
        settles: patterns of lines, such as ``"PUT /trials/*"``, whose handlers settle what is left open.

    Raises:
        PolicyError: the policy has lines that name actions.
        PatternError: a pattern is for no line.

    A condition on the record is decided on what the loader finds, and the handler has it as ``current().record``.
    Where there is no loader the handler may decide it, with ``current().settle(record)``: for lines that ``settles``
    names. If it answers without having done so, its response is withheld. Elsewhere the handler does not run.
    """

    def __init__(
        self,
        app: App,
        policy: Policy | Watched,
        *,
        identify: Identify,
        records: Records | None = None,
        page: Page | None = None,
        audit: Audit | None = None,
        settles: Sequence[str] = (),
        report_only: bool | Sequence[str] = False,
    ) -> None:
        self.app = app
        given, watched = opened(policy)
        options = EnforcementOptions(identify, records, page, audit, report_only, settles)
        self.enforcement = Enforcement(without_actions(given), options)
        self.enforcement.follow(watched, without_actions)

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
        token = _current.set(None)
        try:
            await self._serve(scope, receive, send)
        finally:
            _current.reset(token)

    async def _serve(self, scope: Scope, receive: Receive, send: Send) -> None:
        root_path: str = scope.get("root_path", "")
        if root_path.endswith("/"):
            scope = {**scope, "root_path": root_path.rstrip("/")}
        gate = _Alone(self.enforcement, Request(scope), send)
        try:
            answer = await gate.decide(gate.request)
        except Exception:
            log.exception("%s failed before the handler; the request is refused", gate.request.method)
            answer = responses.NO_CALLER
        if answer is None:
            answer = await gate.run(self.app, gate.request.as_decided(), receive)
        if answer is not None:
            gate.refuse(answer)
            await gate.answer_plainly(answer, gate.request)


class Withheld(BloodrootError):
    """The response of a handler is withheld. Raised where the handler sends it, so that nothing of it goes on."""

    def __init__(self, answer: Answer) -> None:
        self.answer = answer
        super().__init__("the response is withheld, as it was left open whether the caller may have it")


class Gone(BloodrootError, ConnectionError):
    """The caller may not have any more of what is being sent. To the application it is a client that has left."""


class Gate(Exchange):
    """Lets a response out only if nothing is left open, and nothing was refused by the handler.

    Args:
        enforcement: what decides.
        request: the request.
        send: where messages go on to.
    """

    request: Request
    ended = False
    examines_all = False  # whether a response may be withheld that is cleared
    answer: Answer | None = None
    _early: Sequence[Message] = ()

    def __init__(self, enforcement: Enforcement, request: Request, send: Send) -> None:
        super().__init__(enforcement, request, call_async)
        self.forward = send
        self.started = False
        self._asks_again = enforcement.identify_again is not None
        self._passes_on = False  # whether nothing is to be done for what follows the beginning
        self.socket = request.scope["type"] == "websocket"

    @property
    def own(self) -> Any:
        """The request as the application knows it."""
        return self.request

    @property
    def own_again(self) -> Any:
        """The same while the handler runs."""
        return self.own

    async def run(self, app: App, scope: Scope, receive: Receive) -> Answer | None:
        """Run what serves the request; gives what the caller gets instead, if anything."""
        session = scope.get("session")
        if session is not None:
            self.undo = partial(_put_back, scope, KeptSession(session))
        if self.socket and self._asks_again:
            receive = self._received_from(receive)
        token = _current.set(self.access)
        try:
            await app(scope, receive, self.send)
        except Exception as error:
            if self.started:
                raise
            answer = self.answer or self.raised(error)
            if answer is None:
                self.failed = True
                raise
            return answer
        finally:
            _current.reset(token)
        if self.started:
            return None
        if self.answer is None and not self.socket:
            return self.responded(500)
        return self.answer  # the handler has gone on after its response was withheld

    async def answer_plainly(self, answer: Answer, own: Any) -> None:
        """Send a refusal of our own."""
        if self.socket:
            await refuse_socket(answer, self.forward)
        else:
            await send_response(self.response(answer, own), self.forward, body=self.request.method != "HEAD")

    def send(self, message: Message) -> Awaitable[None]:
        """Pass a message on, or withhold the response: nothing goes on before its beginning may."""
        return self.forward(message) if self._passes_on else self._send(message)

    async def _send(self, message: Message) -> None:
        if not self.started:
            if self.answer is not None:
                raise Withheld(self.answer)  # the handler goes on all the same
            if message["type"] not in BEGINNINGS:
                # Hints and pushes come before a response, and say what is in it.
                self._early = [*self._early, message]
                return
            if self.examines_all or not self.access.cleared:
                self.answer = self.examined(status_of(message))
                if self.answer is not None:
                    raise Withheld(self.answer)
            self.begin(message)
            if self._early:
                for early in self._early:
                    await self.forward(early)
        elif self.ended or (self.is_due and not await self._may_go_on()):
            raise Gone("the caller may have no more of this")
        await self.forward(message)

    def examined(self, status: int) -> Answer | None:
        """What the caller gets instead of a response that begins with a status, or None where it may go out."""
        return self.responded(status)

    def begin(self, message: Message) -> None:  # noqa: ARG002
        """A response begins to leave."""
        self.started = True
        self._passes_on = not self._asks_again

    async def _may_go_on(self) -> bool:
        """Whether the caller is still one who may have what goes on being sent; ends it where not."""
        try:
            allowed = await self.again(self.own_again)
        except Exception:
            log.exception("%s %s ends: it cannot be found out who has it", self.request.method, self.access.path)
            allowed = False
        if not allowed:
            self.ended = True
            if self.socket:
                await refuse_socket(_NO_MORE, self.forward)
        return allowed

    def _received_from(self, receive: Receive) -> Receive:
        async def received() -> Message:
            if self.ended:
                return {"type": "websocket.disconnect", "code": 1008}
            message = await receive()
            if self.started and message["type"] == "websocket.receive" and self.is_due and not await self._may_go_on():
                return {"type": "websocket.disconnect", "code": 1008}
            return message

        return received


def _put_back(scope: Scope, kept: KeptSession) -> None:
    kept.restore()
    scope["session"] = kept.session


_NO_MORE = Answer(403, "You do not have access to this any more.")


class _Alone(Gate):
    """A gate in front of a whole application: what passes it is what leaves."""

    examines_all = True

    def examined(self, status: int) -> Answer | None:
        """As `Gate.examined`. What a page that is missing looks like is known of our own page alone."""
        answer = super().examined(status)
        if answer is None and status == 404 and self.policy.hides and not self.observes:
            return responses.MISSING
        return answer

    def begin(self, message: Message) -> None:
        """A response begins to leave: write it down, and keep caches from giving it to other callers."""
        self.started = True
        let_leave([self], message)
        self._passes_on = not self._asks_again and not self.access.public

    async def _send(self, message: Message) -> None:
        """As `Gate.send`. Once all of a response has left, asking changes nothing of it."""
        await super()._send(message)
        if self.started and message["type"] == "http.response.body" and not message.get("more_body"):
            self.access.public = False


def let_leave(dispatches: Sequence[Exchange], beginning: Message) -> Keeping:
    """Write down that a response begins to leave, and keep caches from giving it to other callers.

    Args:
        dispatches: all that was dispatched for it.
        beginning: its first message, whose headers are changed.

    Returns:
        Who may keep it.
    """
    found = keeping(dispatches, status_of(beginning), streams=True, sized=partial(_is_sized, beginning))
    if found is Keeping.ANYONE or "status" not in beginning:
        return found
    headers = beginning.get("headers") or ()
    enforcement = dispatches[0].enforcement
    if found is Keeping.CALLER:
        # As nearly always: without turning headers into text and back.
        beginning["headers"] = private_headers(headers, enforcement.vary)
    else:
        more = headers_kept(found, beginning["status"], texts_of(headers), enforcement)
        beginning["headers"] = with_headers(headers, more)
    return found


def _is_sized(beginning: Message) -> bool:
    return "status" in beginning and is_sized(beginning["status"], beginning.get("headers") or ())


# Loaders have threads of their own: slow ones keep neither each other's requests nor the directory's for ever.
_LOADING = Threads(40)


def call_async(function: Callable[..., Any], arguments: tuple[Any, ...], blocks: bool) -> Any:
    """Call a function whose result may have to be awaited: a loader that is not async runs in a thread, as it may wait.

    What `bloodroot.identity.load` gives has another form of itself, which does not wait on the event loop.
    """
    return _in_thread(function, arguments) if blocks else getattr(function, "asynchronous", function)(*arguments)


async def _in_thread(function: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    result = await _LOADING.run(function, *arguments)
    return await result if inspect.isawaitable(result) else result  # an object whose call is async does not look it
