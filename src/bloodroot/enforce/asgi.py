"""The policy in front of an ASGI application without a framework that is known here."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Callable, Mapping
from typing import Any

from ..core.answers import Answer
from ..core.policy import Policy
from ..language.errors import BloodrootError
from ..request import AsgiRequest as Request
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
    refuse_socket,
    send_response,
    with_caching,
)
from .audit import Audit
from .enforcement import Enforcement, Identify, Loader, Page
from .pipeline import Call, Exchange, run_async
from .startup import without_actions


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
        gate = Gate(self.enforcement, Request(scope), send)
        try:
            answer = await run_async(gate.decide(gate.request), call_async)
        except Exception:
            log.exception("%s failed before the handler; the request is refused", gate.request.method)
            answer = responses.NO_CALLER
        if answer is None:
            answer = await gate.run(self.app, scope, receive, gate.send)
        if answer is not None:
            gate.refuse(answer)
            await gate.answer_plainly(answer, gate.request, receive, send)


class Withheld(BloodrootError):
    """The response of a handler is withheld. Raised where the handler sends it, so that nothing of it goes on."""

    def __init__(self, answer: Answer) -> None:
        self.answer = answer
        super().__init__("the response is withheld, as it was left open whether the caller may have it")


class Gate(Exchange):
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    request: Request
    started = False
    answer: Answer | None = None

    def __init__(self, enforcement: Enforcement, request: Request, send: Send) -> None:
        super().__init__(enforcement, request)
        self.forward = send
        self.socket = request.scope["type"] == "websocket"

    async def run(self, app: App, scope: Scope, receive: Receive, send: Send) -> Answer | None:
        """Run what serves the request; gives what the caller gets instead, if anything."""
        token = _current.set(self.access)
        try:
            await app(scope, receive, send)
        except Exception as error:
            if self.started:
                raise
            answer = self.answer or self.raised(error)
            if answer is None:
                raise
            return answer
        finally:
            _current.reset(token)
        if self.started:
            return None
        if self.answer is None and not self.socket:
            return self.responded(500)
        return self.answer  # the handler has gone on after its response was withheld

    async def answer_plainly(self, answer: Answer, own: Any, receive: Receive, send: Send) -> None:
        """Send a refusal of our own."""
        if self.socket:
            await refuse_socket(answer, receive, send)
        else:
            await send_response(self.response(answer, own), send, body=self.request.method != "HEAD")

    async def send(self, message: Message) -> None:
        """Pass a message on, or withhold the response."""
        if not self.started:
            if message["type"] in BEGINNINGS:
                if "status" in message:
                    self.answer = self.responded(message["status"])
                if self.answer is None:
                    self.begin(message)
            if self.answer is not None:
                raise Withheld(self.answer)
        await self.forward(message)
        if self.access.public and not message.get("more_body"):
            self.end(message)

    def begin(self, message: Message) -> None:
        """A response begins to leave: write it down, and keep caches from giving it to other callers."""
        self.started = True
        if "status" not in message:
            self.let_out(streams=True, sized=False)
            return
        headers = message.get("headers") or ()
        if self.let_out(streams=True, sized=is_sized(message["status"], headers)):
            message["headers"] = with_caching(headers)

    def end(self, message: Message) -> None:
        """All of a response has left, and asking now changes nothing of it."""
        if message["type"] == "http.response.body":
            self.access.public = False


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
