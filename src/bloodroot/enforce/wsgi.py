"""The policy in front of a WSGI application (PEP 3333) without a framework that is known here."""

from __future__ import annotations

import contextvars
import inspect
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from ..core.answers import Answer
from ..core.policy import Policy
from ..request import WsgiRequest as Request
from . import answers
from .access import Access, _current, log
from .audit import Audit
from .pipeline import Call, Enforcement, Identify, Loader, Page, run
from .startup import without_actions

Environ = dict[str, Any]
App = Callable[[Environ, Callable[..., Any]], Iterable[bytes]]


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow: the twin of the ASGI one.

    Args:
        app: the application.
        policy: what decides. It has lines for paths alone: there are no routes to find actions in.
        identify: as `Enforcement`, a plain function.
        records: as `Enforcement`, plain functions.
        page: as `Enforcement`.
        audit: as `Enforcement`.

    Raises:
        PolicyError: the policy has lines that name actions.
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
        for each in (identify, *(records or {}).values()):
            if inspect.iscoroutinefunction(each):
                raise TypeError(f"{each.__qualname__} is async, and WSGI waits for nothing; make it a plain function")
        check_headers(identify)
        self.app = app
        self.enforcement = Enforcement(
            without_actions(policy), identify=identify, records=records, page=page, audit=audit
        )

    @property
    def policy(self) -> Policy:
        """What decides."""
        return self.enforcement.policy

    def __call__(self, environ: Environ, start_response: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ)
        try:
            access = run(self.enforcement.admit(request, request), call)
        except Exception:
            log.exception("%s failed before the handler; the request is refused", request.method)
            return self.answer(answers.NO_CALLER, request, None, start_response)
        answer = self.enforcement.refusal_before(access)
        if answer is not None:
            return self.answer(answer, request, access, start_response)
        # The body may be made while it is sent: what belongs to this request must be known there as well.
        context = contextvars.copy_context()
        context.run(_current.set, access)
        return _Gate(self, access, request, context).run(start_response)

    def answer(
        self, answer: Answer, request: Request, access: Access | None, start_response: Callable[..., Any]
    ) -> list[bytes]:
        """Send a refusal."""
        if access is not None:
            self.enforcement.note(access, answer)
        response = self.enforcement.respond(answer, request, access, request)
        start_response(f"{response.status} {response.phrase}", list(response.headers))
        return [b"" if request.method == "HEAD" else response.body]


def call(asked: Call) -> Any:
    """Make a call, at once."""
    found = asked.function(*asked.arguments)
    if inspect.iscoroutine(found):
        found.close()
        raise TypeError(f"{asked.function!r} is async, and WSGI waits for nothing; make it a plain function")
    return found


def check_headers(identify: Any) -> None:
    """See that no other header has the name of a trusted one: WSGI takes ``-`` and ``_`` for one sign.

    Raises:
        SettingsError: they cannot.
    """
    check = getattr(identify, "check_for_wsgi", None)
    if check is not None:
        check()


class _Gate:
    """Lets a response out only if nothing is left open, and nothing was refused by the handler."""

    def __init__(
        self, middleware: AccessMiddleware, access: Access, request: Request, context: contextvars.Context
    ) -> None:
        self.middleware = middleware
        self.access = access
        self.request = request
        self.context = context
        self.held: tuple[str, list[tuple[str, str]]] | None = None
        self.early: list[bytes] = []

    def run(self, start_response: Callable[..., Any]) -> Iterable[bytes]:
        """Run the application up to its first piece of body, and answer in its place where it may not answer."""
        self.start_response = start_response
        try:
            body = self.context.run(self.middleware.app, dict(self.request.environ), self._start)
        except Exception as error:
            return self._after(error)
        pieces = iter(body)
        first: list[bytes] = []
        try:
            # Until now nothing has left: a body that is made in steps may settle, or refuse, in its first one.
            for piece in self._next(pieces):
                first.append(piece)
                if piece:
                    break
        except Exception as error:
            _close(body)
            return self._after(error)
        if self.held is None:
            _close(body)
            raise RuntimeError("the application has returned without calling start_response")
        status, headers = self.held
        answer = self.middleware.enforcement.refusal_after(self.access, int(status.split()[0]))
        if answer is not None:
            _close(body)
            return self._instead(answer)
        self._let_out(status, headers)
        return _Body(self, body, [*self.early, *first], pieces)

    def _next(self, pieces: Iterator[bytes]) -> Iterator[bytes]:
        """The pieces of a body, each made with the request at hand."""
        while True:
            try:
                yield self.context.run(next, pieces)
            except StopIteration:
                return

    def _start(self, status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Callable[[bytes], None]:  # noqa: ARG002
        """What the application sees as ``start_response``; nothing is sent yet, so that it may be called again."""
        self.held = (status, headers)
        return self.early.append

    def _let_out(self, status: str, headers: list[tuple[str, str]]) -> None:
        enforcement, access = self.middleware.enforcement, self.access
        enforcement.note(access, None)
        number = int(status.split()[0])
        known = number in (204, 304) or any(name.lower() == "content-length" for name, _ in headers)
        if enforcement.is_private(access, streamed=not known):
            headers = [*headers, *answers.caching(headers)]
        else:
            access.public = True
        self.start_response(status, headers)

    def _after(self, error: Exception) -> list[bytes]:
        """What an exception of the application becomes."""
        answer = self.middleware.enforcement.refusal_raised(error)
        if answer is None:
            raise error
        self.access.withheld = True
        return self._instead(answer)

    def _instead(self, answer: Answer) -> list[bytes]:
        return self.middleware.answer(answer, self.request, self.access, self.start_response)


class _Body:
    """The rest of a response, made with the request at hand."""

    def __init__(self, gate: _Gate, body: Iterable[bytes], first: list[bytes], rest: Iterator[bytes]) -> None:
        self._body = body
        self._first = first
        self._rest = gate._next(rest)
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
