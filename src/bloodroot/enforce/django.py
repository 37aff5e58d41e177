"""Django: the policy as a middleware, under WSGI and ASGI, and the routes of its URL configuration.

In the settings of the project::

    MIDDLEWARE = [..., "django.contrib.sessions.middleware.SessionMiddleware",
                  "bloodroot.enforce.django.AccessMiddleware"]
    BLOODROOT = {
        "policy": "access.bloodroot",             # a file, or a policy that was loaded
        "identify": "seedbank.who.identify",      # a function, or where it is to be imported from; so the others:
        "records": {"trial_id": "seedbank.data.trial"},
        "page": None,
        "audit": None,
    }
"""

from __future__ import annotations

import asyncio
import contextvars
import inspect
import re
from collections.abc import AsyncIterator, Callable, Iterable, Iterator, Mapping
from typing import Any

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.http import HttpRequest, HttpResponse
from django.urls import URLPattern, URLResolver, get_resolver
from django.utils.module_loading import import_string

from ..core.answers import Answer
from ..core.binding import Route
from ..core.caller import Unidentified
from ..core.policy import Policy
from ..files import load
from . import answers, asgi, wsgi
from .access import Access, _current
from .enforcement import Enforcement
from .guards import guards_of
from .seen import Seen
from .startup import look_over

_KEYS = ("policy", "identify", "records", "page", "audit")
_CONVERTED = re.compile(r"<(?:[^<>:]*:)?([^<>:]*)>")
_REGULAR = re.compile(r"[\\()\[\]*+?|^$]").search
_NAMED_GROUP = re.compile(r"\(\?P<(\w+)>(?:[^()]|\([^()]*\))*\)")


class Request(Seen):
    """What `identify` gets to see of a request of Django's, under WSGI or ASGI.

    Attributes:
        django: the ``HttpRequest``, for everything that is not told here.
    """

    __slots__ = ("_meta", "django", "method", "path")

    def __init__(self, sent: HttpRequest) -> None:
        self.django = sent
        self.method = str(sent.method)
        scope = getattr(sent, "scope", None)
        self._meta = wsgi.Request(sent.META)
        self.path = asgi.Request(scope).path if scope is not None else self._meta.path

    @property
    def query_string(self) -> str:  # type: ignore[override]
        """As the client sent it."""
        return self._meta.query_string

    def headers(self, name: str) -> list[str]:
        """The value of a header; Django joins several with commas, so that there is one at the most."""
        return self._meta.headers(name)

    @property
    def session(self) -> Mapping[str, Any]:
        """The session; empty where no session middleware stands before this one."""
        session: Mapping[str, Any] = getattr(self.django, "session", None) or {}
        return session

    @property
    def sender(self) -> str | None:
        """The address of whoever is connected, as the server tells it; None where it does not."""
        return self._meta.sender


class AccessMiddleware:
    """Asks the policy before every request, and lets nothing pass that it did not allow.

    It stands behind the session middleware. What stands before it answers without the policy.
    """

    sync_capable = True
    async_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], Any]) -> None:
        self.get_response = get_response
        given = _settings()
        found = routes()
        policy = given.pop("policy").bind(found)
        self.enforcement = Enforcement(policy, **given)
        look_over(policy, found).tell()
        self._waits = iscoroutinefunction(get_response)
        if self._waits:
            markcoroutinefunction(self)

    def __call__(self, sent: HttpRequest) -> Any:
        """Serve one request, or say how it will be served."""
        if self._waits:
            return self._later(sent)
        seen = Request(sent)
        if seen.is_preflight:
            return self.get_response(sent)
        access, answer = wsgi.decide(self.enforcement, seen)
        if access is None or answer is not None:
            return self._answer(answer or answers.NO_CALLER, seen, access)
        token = _current.set(access)
        try:
            return self._let_out(self.get_response(sent), seen, access)
        finally:
            _current.reset(token)

    async def _later(self, sent: HttpRequest) -> HttpResponse:
        seen = Request(sent)
        if seen.is_preflight:
            response: HttpResponse = await self.get_response(sent)
            return response
        access, answer = await self._decide(seen)
        if access is None or answer is not None:
            return self._answer(answer or answers.NO_CALLER, seen, access)
        token = _current.set(access)
        try:
            return self._let_out(await self.get_response(sent), seen, access)
        finally:
            _current.reset(token)

    async def _decide(self, seen: Request) -> tuple[Access | None, Answer | None]:
        """The request under the policy; what asks a database does so in a thread."""
        enforcement = self.enforcement
        identify: Any = getattr(enforcement.identify, "asynchronous", enforcement.identify)
        unidentified = None
        try:
            try:
                caller = await _wait(identify, seen)
            except Unidentified as error:
                caller, unidentified = None, error
            access = enforcement.begin(seen, caller, unidentified)
        except Exception:
            return None, enforcement.failed(seen)
        wanted = enforcement.to_load(access)
        if wanted is not None:
            loader, text = wanted
            missing = enforcement.loaded(access, await _wait(loader, text))
            if missing is not None:
                return access, missing
        return access, access.decision.answer

    def process_exception(self, sent: HttpRequest, error: Exception) -> HttpResponse | None:
        """What a view raises, as Django hands it over: a refusal becomes an answer."""
        answer = self.enforcement.refusal_raised(error)
        access = _current.get(None)
        return self._response(answer, Request(sent), access) if answer is not None else None

    def _let_out(self, response: Any, seen: Request, access: Access) -> HttpResponse:
        """A response of the application, if it may go out; else the answer in its place."""
        answer = self.enforcement.refusal_after(access, response.status_code)
        if answer is not None:
            response.close()
            return self._answer(answer, seen, access)
        self.enforcement.note(access, None)
        if self.enforcement.extra_headers(access):
            before = f"{response['Vary']}, " if response.has_header("Vary") else ""
            response["Vary"] = before + answers.VARY
            if not response.has_header("Cache-Control"):
                response["Cache-Control"] = answers.PRIVATE
        if getattr(response, "streaming", False):
            _stream_with(response, access)
        found: HttpResponse = response
        return found

    def _answer(self, answer: Answer, seen: Request, access: Access | None) -> HttpResponse:
        if access is not None:
            self.enforcement.note(access, answer)
        return self._response(answer, seen, access)

    def _response(self, answer: Answer, seen: Request, access: Any) -> HttpResponse:
        made = self.enforcement.respond(answer, seen, access)
        body = b"" if seen.method == "HEAD" else made.body
        response = HttpResponse(body, status=made.status)
        for name, value in made.headers:
            response[name.title()] = value
        return response


async def _wait(function: Any, value: Any) -> Any:
    """What a function returns: an async one is awaited, a plain one runs in a thread as it may wait itself."""
    if iscoroutinefunction(function):
        return await function(value)
    found = await asyncio.to_thread(function, value)
    return await found if inspect.isawaitable(found) else found


def _stream_with(response: Any, access: Access) -> None:
    """Make the rest of a response with the request at hand."""
    content = response.streaming_content
    if response.is_async:

        async def later() -> AsyncIterator[bytes]:
            rest = aiter(content)
            while True:
                # Between two pieces whoever sends them does something else, for somebody else.
                token = _current.set(access)
                try:
                    piece = await anext(rest)
                except StopAsyncIteration:
                    return
                finally:
                    _current.reset(token)
                yield piece

        response.streaming_content = later()
        return
    context = contextvars.copy_context()
    context.run(_current.set, access)

    def pieces() -> Iterator[bytes]:
        rest = iter(content)
        while True:
            try:
                yield context.run(next, rest)
            except StopIteration:
                return

    response.streaming_content = pieces()


def _settings() -> dict[str, Any]:
    """The project's ``BLOODROOT``, with names imported.

    Raises:
        ImproperlyConfigured: it is missing, or has a key that is not known.
    """
    given = dict(getattr(settings, "BLOODROOT", {}))
    for key in given:
        if key not in _KEYS:
            raise ImproperlyConfigured(f"BLOODROOT has the unknown key {key!r}; known are {', '.join(_KEYS)}")
    if "policy" not in given or "identify" not in given:
        raise ImproperlyConfigured('BLOODROOT needs "policy", such as "access.bloodroot", and "identify"')
    policy = given["policy"]
    if not isinstance(policy, Policy):
        policy = load(policy)
    records = {name: _imported(each) for name, each in (given.get("records") or {}).items()}
    rest = {key: _imported(given.get(key)) for key in ("identify", "page", "audit")}
    return {"policy": policy, "records": records, **rest}


def _imported(value: Any) -> Any:
    return import_string(value) if isinstance(value, str) else value


def routes() -> list[Route]:
    """Every route of the project's URL configuration, its action named by ``name=``, ``app.name`` with a namespace, or
    by the function that serves it.
    """
    return list(_routes(get_resolver().url_patterns, "/", ""))


def _routes(patterns: Iterable[Any], prefix: str, namespace: str) -> Iterator[Route]:
    for each in patterns:
        path = prefix + _template(str(each.pattern))
        if isinstance(each, URLResolver):
            inner = f"{namespace}{each.namespace}." if each.namespace else namespace
            yield from _routes(each.url_patterns, path, inner)
        elif isinstance(each, URLPattern):
            view = getattr(each.callback, "view_class", each.callback)
            name = each.name or getattr(view, "__name__", type(view).__name__)
            yield Route(f"{namespace}{name}", (), path.rstrip("/") or "/", bool(guards_of(view)))


def _template(pattern: str) -> str:
    """Django's ``<converter:name>``, or a regular expression, as a policy writes it."""
    if pattern.startswith("^") or "(?P<" in pattern:
        named = _NAMED_GROUP.sub(r"{\1}", pattern.removeprefix("^").removesuffix("$").removesuffix("/?"))
        segments = named.replace("\\.", ".").replace("\\-", "-").split("/")
        # What a policy cannot write as a path is made wider: from there on, anything.
        odd = next((place for place, each in enumerate(segments) if _REGULAR(each)), None)
        return "/".join(segments if odd is None else [*segments[:odd], "**"])
    if re.search(r"<path:[^<>]*>\Z", pattern):
        return re.sub(r"<path:[^<>]*>\Z", "**", pattern)
    return _CONVERTED.sub(r"{\1}", pattern)
