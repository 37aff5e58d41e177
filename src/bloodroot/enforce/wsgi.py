"""The policy in front of a WSGI application (PEP 3333)."""

from __future__ import annotations

import asyncio
import contextvars
import inspect
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.policy import Policy
from . import answers
from .access import Access, _current
from .answers import Response
from .audit import Audit
from .enforcement import Enforcement, Identify, Loader, Page
from .seen import Seen, encoded, same_path

Environ = dict[str, Any]
App = Callable[[Environ, Callable[..., Any]], Iterable[bytes]]
SessionOf = Callable[[Environ], Mapping[str, Any] | None]


class Request(Seen):
    """What `identify` gets to see of a WSGI request.

    Attributes:
        environ: the WSGI environment, for everything that is not told here.
    """

    __slots__ = ("_session", "_session_of", "environ", "method", "path")

    def __init__(self, environ: Environ, session_of: SessionOf | None = None) -> None:
        self.environ = environ
        self.method = str(environ["REQUEST_METHOD"])
        self.path = _path_as_sent(environ)
        self._session_of = session_of
        self._session: Mapping[str, Any] | None = None

    @property
    def query_string(self) -> str:  # type: ignore[override]
        """As the client sent it."""
        return str(self.environ.get("QUERY_STRING", ""))

    def headers(self, name: str) -> list[str]:
        """The value of a header. A server joins several with commas, so that there is one at the most."""
        key = name.upper().replace("-", "_")
        found = self.environ.get(key if key in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{key}")
        return [str(found)] if found is not None else []

    @property
    def session(self) -> Mapping[str, Any]:
        """The framework's session; empty where there is none."""
        if self._session is None:
            found = self._session_of(self.environ) if self._session_of is not None else None
            self._session = found if found is not None else {}
        return self._session

    @property
    def sender(self) -> str | None:
        """The address of whoever is connected, as the server tells it; None where it does not."""
        return self.environ.get("REMOTE_ADDR") or None


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow: the twin of the ASGI one.

    Args:
        app: the application.
        policy: what decides.
        identify: as `Enforcement`, a plain function.
        records: as `Enforcement`, plain functions.
        page: as `Enforcement`.
        audit: as `Enforcement`.
        session_of: gives the framework's session for an environment, where `identify` asks for it.
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
        session_of: SessionOf | None = None,
    ) -> None:
        for each in (identify, *(records or {}).values()):
            if inspect.iscoroutinefunction(each):
                raise TypeError(f"{each.__qualname__} is async, and WSGI waits for nothing; make it a plain function")
        self.app = app
        self.enforcement = Enforcement(policy, identify=identify, records=records, page=page, audit=audit)
        self._session_of = session_of

    @property
    def policy(self) -> Policy:
        """What decides."""
        return self.enforcement.policy

    def __call__(self, environ: Environ, start_response: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ, self._session_of)
        if request.is_preflight:
            return self.app(environ, start_response)
        access, answer = decide(self.enforcement, request)
        if access is None or answer is not None:
            return self.answer(answer or answers.NO_CALLER, request, access, start_response)
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
        response = self.enforcement.respond(answer, request, access)
        start_response(status_line(response), list(response.headers))
        return [b"" if request.method == "HEAD" else response.body]


def decide(enforcement: Enforcement, request: Seen) -> tuple[Access | None, Answer | None]:
    """A request under the policy, and the answer where there is one already; without waiting for an event loop."""
    try:
        caller, unidentified = _who(enforcement.identify, request)
        access = enforcement.begin(request, caller, unidentified)
    except Exception:
        return None, enforcement.failed(request)
    wanted = enforcement.to_load(access)
    if wanted is not None:
        loader, text = wanted
        missing = enforcement.loaded(access, loader(text))
        if missing is not None:
            return access, missing
    return access, access.decision.answer


def _who(identify: Identify, request: Seen) -> tuple[Caller | None, Unidentified | None]:
    try:
        caller = identify(request)
    except Unidentified as error:
        return None, error
    if asyncio.iscoroutine(caller):
        caller.close()
        raise TypeError("identify is async, and a WSGI application waits for nothing; make it a plain function")
    return caller, None  # type: ignore[return-value]


def status_line(response: Response) -> str:
    """The status as WSGI wants it: number and phrase."""
    return f"{response.status} {response.phrase}"


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
            body = self.context.run(self.middleware.app, self.request.environ, self._start)
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
        enforcement = self.middleware.enforcement
        enforcement.note(self.access, None)
        if enforcement.extra_headers(self.access):
            headers = [*headers, ("Vary", answers.VARY)]
            if not any(name.lower() == "cache-control" for name, _ in headers):
                headers.append(("Cache-Control", answers.PRIVATE))
        self.start_response(status, headers)

    def _after(self, error: Exception) -> list[bytes]:
        """What an exception of the application becomes."""
        answer = self.middleware.enforcement.refusal_raised(error)
        if answer is None:
            raise error
        return self._instead(answer)

    def _instead(self, answer: Answer) -> list[bytes]:
        return self.middleware.answer(answer, self.request, self.access, self.start_response)


class _Body:
    """The rest of a response, made with the request at hand."""

    def __init__(self, gate: _Gate, body: Iterable[bytes], first: list[bytes], rest: Iterator[bytes]) -> None:
        self._body = body
        self._first = first
        self._rest = gate._next(rest)

    def __iter__(self) -> Iterator[bytes]:
        yield from self._first
        yield from self._rest

    def close(self) -> None:
        """As PEP 3333 asks: what the application's own body has to close."""
        _close(self._body)


def _close(body: object) -> None:
    close = getattr(body, "close", None)
    if close is not None:
        close()


def _path_as_sent(environ: Mapping[str, Any]) -> str:
    """The path, percent-encoded, mount prefix included; an empty text where server and layers disagree on it.

    Servers that tell what the client sent do so as ``REQUEST_URI`` or ``RAW_URI``. With others the path has been
    decoded, once for the policy and the application alike.
    """
    mounted, inside = str(environ.get("SCRIPT_NAME", "")), str(environ.get("PATH_INFO", ""))
    served = _as_bytes(mounted + inside)
    raw = environ.get("REQUEST_URI") or environ.get("RAW_URI")
    if not raw:
        return encoded(served)
    sent = str(raw).split("?", 1)[0]
    if not sent.startswith("/"):
        sent = urlsplit(sent).path  # RFC 9112, section 3.2.2: a proxy may be sent a whole URL
    wire = sent.encode("latin-1", "replace")
    if same_path(wire, served.decode("utf-8", "replace")):
        return sent
    # A proxy has taken the prefix off that the application is mounted at, and told it beside.
    return encoded(_as_bytes(mounted)) + sent if same_path(wire, _as_bytes(inside).decode("utf-8", "replace")) else ""


def _as_bytes(text: str) -> bytes:
    """WSGI has the bytes of a path as text, one sign for each."""
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError:
        return text.encode()
