"""The policy in front of a WSGI application (PEP 3333) without a framework that is known here."""

from __future__ import annotations

import contextvars
import inspect
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from ..core.answers import Answer
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import WsgiRequest as Request
from . import responses
from .access import _current, log
from .audit import Audit
from .enforcement import Enforcement, EnforcementOptions, Identify, Page
from .following import opened
from .leaving import keeping, with_headers_kept
from .loaders import Records
from .pipeline import Exchange, run
from .startup import without_actions

__all__ = ["AccessMiddleware"]

Environ = dict[str, Any]
App = Callable[[Environ, Callable[..., Any]], Iterable[bytes]]


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow: the twin of the ASGI one.

    Args:
        app: the application.
        policy: what decides. It has lines for paths alone: there are no routes to find actions in.
        identify: as `Driver`, a plain function.
        records: as `Driver`, plain functions.
        page: as `Driver`.
        audit: as `Driver`.
        settles: patterns of lines, such as ``"PUT /trials/*"``, whose handlers settle what is left open.

    Raises:
        PolicyError: the policy has lines that name actions.
        PatternError: a pattern is for no line.
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
        for function in (identify, *(records or {}).values()):
            if inspect.iscoroutinefunction(function):
                raise TypeError(
                    f"{function.__qualname__} is async, and WSGI waits for nothing; make it a plain function"
                )
        check_headers(identify)
        self.app = app
        given, watched = opened(policy)
        options = EnforcementOptions(identify, records, page, audit, report_only, settles)
        self.enforcement = Enforcement(without_actions(given), options)
        self.enforcement.follow(watched, without_actions)

    @property
    def policy(self) -> Policy:
        """What decides."""
        return self.enforcement.policy

    def __call__(self, environ: Environ, start_response: Callable[..., Any]) -> Iterable[bytes]:
        return _Gate(self.enforcement, Request(environ), start_response).serve(self.app)


def call(function: Callable[..., Any], arguments: tuple[Any, ...], _: bool) -> Any:
    """Call a function, at once."""
    result = function(*arguments)
    if inspect.iscoroutine(result):
        result.close()
        raise TypeError(f"{function!r} is async, and WSGI waits for nothing; make it a plain function")
    return result


def check_headers(identify: Any) -> None:
    """See that no other header has the name of a trusted one: WSGI takes ``-`` and ``_`` for one character.

    Raises:
        SettingsError: they cannot.
    """
    check = getattr(identify, "check_for_wsgi", None)
    if check is not None:
        check()


def acting(exchange: Exchange, pieces: Iterable[Any], again: Callable[[], bool]) -> Iterator[Any]:
    """The pieces of a body that is made while it is sent, each made with the request at hand.

    Args:
        exchange: the request.
        pieces: the body.
        again: identifies the caller again, and says whether there may be more of it.
    """
    context = contextvars.copy_context()
    context.run(_current.set, exchange.access)
    return within(context, iter(pieces), exchange, again)


def within(
    context: contextvars.Context, pieces: Iterator[Any], exchange: Exchange, again: Callable[[], bool]
) -> Iterator[Any]:
    """The pieces of a body, each made in a context."""
    while True:
        try:
            piece = context.run(next, pieces)
        except StopIteration:
            return
        if exchange.is_due and not again():
            # The server ends the connection, so that what was sent is not taken for the whole.
            raise ConnectionError("the caller may not have any more of this")
        yield piece


def without_early_hints(environ: Environ) -> None:
    """Let nothing of a response leave before it is seen whether it may: what servers give for hints does nothing."""
    if "wsgi.early_hints" in environ:
        environ["wsgi.early_hints"] = lambda headers: None  # noqa: ARG005


class _Gate(Exchange):
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    request: Request
    held: tuple[str, list[tuple[str, str]]] | None = None

    def __init__(self, enforcement: Enforcement, request: Request, start_response: Callable[..., Any]) -> None:
        super().__init__(enforcement, request, call)
        self.start_response = start_response
        self.early: list[bytes] = []

    def serve(self, app: App) -> Iterable[bytes]:
        """Decide, run the application up to its first piece of body, and answer in its place where it may not."""
        # The body may be made while it is sent: what belongs to this request must be known there as well.
        self.context = contextvars.copy_context()
        # No caller acts before it is decided who does, even where one acts around.
        self.context.run(_current.set, None)
        try:
            answer = self.context.run(run, self.decide(self.request))
        except Exception:
            log.exception("%s failed before the handler; the request is refused", self.request.method)
            answer = responses.NO_CALLER
        if answer is not None:
            return self._instead(answer)
        self.context.run(_current.set, self.access)
        environ = dict(self.request.environ)
        without_early_hints(environ)
        try:
            body = self.context.run(app, environ, self._start)
        except Exception as error:
            return self._after(error)
        pieces = iter(body)
        first: list[bytes] = []
        try:
            # Until now nothing has left: a body that is made in steps may settle, or refuse, in its first one.
            for piece in within(self.context, pieces, self, self.may_go_on):
                first.append(piece)
                if piece:
                    break
        except Exception as error:
            _close(body)
            return self._after(error)
        return self._send(body, first, pieces)

    def _send(self, body: Iterable[bytes], first: list[bytes], pieces: Iterator[bytes]) -> Iterable[bytes]:
        """Let the response leave whose first pieces are there, or what the caller gets in its place."""
        if self.held is None:
            _close(body)
            raise RuntimeError("the application has returned without calling start_response")
        status, headers = self.held
        number = int(status.split()[0])
        answer = self.responded(number)
        if answer is None and number == 404 and self.policy.hides and not self.observes:
            # What a page that is missing looks like is known of our own page alone.
            answer = responses.MISSING
        if answer is not None:
            _close(body)
            return self._instead(answer)

        def sized() -> bool:
            return number in (204, 304) or any(name.lower() == "content-length" for name, _ in headers)

        kept = keeping([self], number, streams=True, sized=sized)
        self.start_response(status, with_headers_kept(kept, number, headers, self.enforcement))
        return _Body(self, body, [*self.early, *first], pieces)

    def may_go_on(self) -> bool:
        """Whether the caller may have more of a body that is being sent."""
        return run(self.again(self.request))

    def _start(self, status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Callable[[bytes], None]:  # noqa: ARG002
        """What the application sees as ``start_response``; nothing is sent yet, so that it may be called again."""
        self.held = (status, headers)
        return self.early.append

    def _after(self, error: Exception) -> list[bytes]:
        """What an exception of the application becomes."""
        answer = self.raised(error)
        if answer is None:
            raise error
        return self._instead(answer)

    def _instead(self, answer: Answer) -> list[bytes]:
        """Send a refusal."""
        self.refuse(answer)
        response = self.response(answer, self.request)
        self.start_response(f"{response.status} {response.phrase}", list(response.headers))
        return [b"" if self.request.method == "HEAD" else response.body]


class _Body:
    """The rest of a response, made with the request at hand."""

    def __init__(self, gate: _Gate, body: Iterable[bytes], first: list[bytes], rest: Iterator[bytes]) -> None:
        self._body = body
        self._first = first
        self._rest = within(gate.context, rest, gate, gate.may_go_on)
        self._access = gate.access

    def __iter__(self) -> Iterator[bytes]:
        yield from self._first
        yield from self._rest

    def close(self) -> None:
        """As PEP 3333 asks: what the application's own body has to close."""
        self._access.public = False
        _close(self._body)


def _close(body: object) -> None:
    close = getattr(body, "close", None)
    if close is not None:
        close()
