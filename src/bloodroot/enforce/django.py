"""Django: the policy as a middleware, under WSGI and ASGI.

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

import contextvars
import inspect
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from typing import Any

from asgiref.sync import async_to_sync, iscoroutinefunction, markcoroutinefunction, sync_to_async
from django.conf import settings
from django.core.exceptions import ImproperlyConfigured, PermissionDenied
from django.core.handlers.exception import response_for_exception
from django.http import Http404, HttpRequest, HttpResponse
from django.template import TemplateDoesNotExist, loader
from django.urls import Resolver404, get_resolver
from django.utils.module_loading import import_string
from django.views import defaults

from ..core.answers import Answer
from ..core.binding import Route
from ..core.caller import Caller
from ..core.policy import Policy
from ..files import load
from ..request import DjangoRequest as Request
from . import answers
from .access import Access, _current
from .django_routes import action_of, routes
from .pipeline import Call, Enforcement, Served, run, run_async
from .startup import look_over
from .wsgi import check_headers

__all__ = ["AccessMiddleware", "routes"]

_MOST_ROUTES = 20_000
_KEYS = ("policy", "identify", "records", "page", "audit")
_SESSIONS = "django.contrib.sessions.middleware.SessionMiddleware"


class AccessMiddleware:
    """Decides each request once Django has chosen the view, and before the view runs.

    It comes after the session middleware, and after whatever else `identify` needs. What comes before it answers
    without the policy.
    """

    sync_capable = True
    async_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], Any]) -> None:
        self.get_response = get_response
        self._waits = iscoroutinefunction(get_response)
        given = _settings()
        _check_sessions()
        found = routes()
        policy = given.pop("policy").bind(found)
        if not self._waits:
            check_headers(given["identify"])
        self.enforcement = Enforcement(policy, missing=lambda error: isinstance(error, Http404), **given)
        look_over(policy, found, self.enforcement.records).tell()
        self._routes = {(route.action, route.spelling, id(route.handler)): route for route in reversed(found)}
        # With the view itself, so that an id here is never that of another one.
        self._served: dict[tuple[Any, Any, int], tuple[Served, Any]] = {}
        self._has_forbidden_page = _has_forbidden_page()
        if self._waits:
            markcoroutinefunction(self)
            asked = [self.enforcement.identify, *(each for each, *_ in self.enforcement.records.values())]
            if any(iscoroutinefunction(each) for each in asked):
                self.process_view = self.process_view_async  # type: ignore[method-assign]

    # The request on its way in ------------------------------------------------------------------------------

    def __call__(self, sent: HttpRequest) -> Any:
        """Serve one request, or say how it will be served."""
        if self._waits:
            return self._later(sent)
        exchange = sent._bloodroot = _Exchange(sent)
        before = _current.get()
        try:
            if not exchange.request.readable:
                return self._refused_unread(exchange)
            response = self.get_response(sent)
            if exchange.access is None:
                response = self._decided_late(exchange, response)
            return self._let_out(exchange, response)
        finally:
            _current.set(before)
            # The exchange knows the request: without this both would wait for the collector of garbage.
            del sent._bloodroot

    async def _later(self, sent: HttpRequest) -> HttpResponse:
        exchange = sent._bloodroot = _Exchange(sent)
        before = _current.get()
        try:
            if not exchange.request.readable:
                return self._refused_unread(exchange)
            response = await self.get_response(sent)
            if exchange.access is None:
                response = await sync_to_async(self._decided_late, thread_sensitive=True)(exchange, response)
            return self._let_out(exchange, response)
        finally:
            _current.set(before)
            del sent._bloodroot

    def process_view(self, sent: HttpRequest, view: Any, args: Any, kwargs: Any) -> HttpResponse | None:  # noqa: ARG002
        """Decide by the view that Django has chosen, where its own code runs: with sessions and databases."""
        exchange: _Exchange = sent._bloodroot
        if not exchange.is_up_to_date():
            return self._refused_unread(exchange)
        served, values = self._chosen(sent)
        exchange.access = run(self.enforcement.admit(exchange.request, sent, served, values), _call)
        return self._enter(exchange)

    async def process_view_async(self, sent: HttpRequest, view: Any, args: Any, kwargs: Any) -> HttpResponse | None:  # noqa: ARG002
        """The same where ``identify`` or a loader is async; what is not runs in Django's own thread for such work."""
        exchange: _Exchange = sent._bloodroot
        if not exchange.is_up_to_date():
            return self._refused_unread(exchange)
        served, values = self._chosen(sent)
        exchange.access = await run_async(self.enforcement.admit(exchange.request, sent, served, values), _call_async)
        return self._enter(exchange)

    def _enter(self, exchange: _Exchange) -> HttpResponse | None:
        assert exchange.access is not None
        answer = self.enforcement.refusal_before(exchange.access)
        if answer is not None:
            return self._refuse(exchange, answer)
        _current.set(exchange.access)
        return None

    def _chosen(self, sent: HttpRequest) -> tuple[Served, Mapping[str, Any]]:
        """The route that Django has chosen, and the parameters of its path."""
        match = sent.resolver_match
        key = (match.view_name, match.route, id(match.func))
        served = self._served.get(key)
        if served is None:
            action = action_of(match.namespaces, match.url_name, match.func)
            view = getattr(match.func, "view_class", match.func)
            route = self._routes.get((action, str(match.route), id(view)))
            if route is None:
                # One that is not in the project's own URL configuration, such as that of ``request.urlconf``.
                route = Route(action, (), "/**", spelling=str(match.route), exact=False)
            if route.names is None:
                names = tuple(match.captured_kwargs or ())
                route = Route(route.action, route.methods, route.path, None, route.spelling, route.exact, names)
            if len(self._served) >= _MOST_ROUTES:
                self._served.clear()  # a project may make its routes anew for each request
            served = self._served[key] = self.enforcement.serve(route), match.func
        return served[0], match.captured_kwargs or {}

    # Refusals ------------------------------------------------------------------------------

    def process_exception(self, sent: HttpRequest, error: Exception) -> HttpResponse | None:
        """What a view raises, as Django hands it over: a refusal becomes an answer."""
        exchange: _Exchange = sent._bloodroot
        answer = self.enforcement.refusal_raised(error)
        access = exchange.access
        if answer is None:
            if access is not None and not access.cleared and isinstance(error, Http404):
                answer = answers.MISSING
            else:
                exchange.failed = True
                return None
        if access is not None:
            access.withheld = True
        return self._refuse(exchange, answer)

    def _refuse(self, exchange: _Exchange, answer: Answer) -> HttpResponse:
        """Answer in the place of the view: with the project's own page, or by ourselves."""
        if exchange.access is not None:
            self.enforcement.note(exchange.access, answer)
        exchange.refusing = answer
        sent = exchange.request.django
        if answer.hidden:
            # As if no route were there: the project's own missing page must look the same.
            sent.resolver_match = None
            raise Resolver404({"tried": [], "path": sent.path_info.lstrip("/")})
        made = self.enforcement.respond(answer, exchange.request, exchange.access, sent)
        if made.status == 403 and self._has_forbidden_page:
            raise PermissionDenied(answer.message)
        return _response(made, body=exchange.request.method != "HEAD")

    def _refused_unread(self, exchange: _Exchange) -> HttpResponse:
        exchange.access = run(self.enforcement.admit(exchange.request, None), _call)
        answer = exchange.access.decision.answer
        assert answer is not None
        return self._refuse(exchange, answer)

    def _decided_late(self, exchange: _Exchange, response: Any) -> Any:
        """A response that was made before a view was asked: by Django itself, or by middleware inside."""
        sent, policy, request = exchange.request.django, self.enforcement.policy, exchange.request
        served = values = line = None
        if getattr(sent, "resolver_match", None) is not None:
            served, values = self._chosen(sent)
        else:
            line = policy.line_by_path(request.method, request.segments or [])
            if line is None and response.status_code == 404:
                return _for_one_caller(response)  # nothing is served here that a caller may have or not
            line = line or policy.line_for(request.method, request.path)
        try:
            if not exchange.is_up_to_date():
                return self._refused_unread(exchange)
            exchange.access = run(self.enforcement.admit(exchange.request, sent, served, values, line), _call)
            answer = self.enforcement.refusal_before(exchange.access)
            if answer is None:
                return response
            _close(response)
            return self._refuse(exchange, answer)
        except (Http404, PermissionDenied) as error:
            return response_for_exception(sent, error)

    # The response on its way out ------------------------------------------------------------------------------

    def _let_out(self, exchange: _Exchange, response: Any) -> HttpResponse:
        """A response of the application, if it may go out; else the answer in its place."""
        access = exchange.access
        if exchange.refusing is not None:
            if not exchange.refusing.hidden:
                response.headers.setdefault("Cache-Control", "no-store")
            return _for_one_caller(response)
        if access is None:
            found: HttpResponse = response
            return found
        if not access.cleared and not (exchange.failed and response.status_code >= 500):
            answer = self.enforcement.refusal_after(access, response.status_code) or answers.UNSETTLED
            _close(response)
            try:
                return _for_one_caller(self._refuse(exchange, answer))
            except (Http404, PermissionDenied) as error:
                return _for_one_caller(response_for_exception(exchange.request.django, error))
        self.enforcement.note(access, None)
        streams = getattr(response, "streaming", False)
        if self.enforcement.is_private(access, streamed=streams and not response.has_header("Content-Length")):
            _for_one_caller(response)
        else:
            access.public = streams
        if streams:
            _stream_with(response, access)
        return response


class _Exchange:
    """One request on its way through the project."""

    access: Access | None = None
    failed = False
    refusing: Answer | None = None

    def __init__(self, sent: HttpRequest) -> None:
        self.request = Request(sent)
        self._seen = (sent.path_info, sent.method)

    def is_up_to_date(self) -> bool:
        """Take over what middleware further in has made of path and method; whether they can be read in one way."""
        sent = self.request.django
        if self._seen != (sent.path_info, sent.method):
            self.__init__(sent)  # type: ignore[misc]
        return self.request.readable


def _call(asked: Call) -> Any:
    """Make a call, at once; what is async runs to its end."""
    function, arguments, _ = asked
    if iscoroutinefunction(function):
        return async_to_sync(function)(*arguments)
    found = function(*arguments)
    if found is None or type(found) is Caller or not inspect.isawaitable(found):
        return found

    async def wait() -> Any:
        return await found

    return async_to_sync(wait)()


async def _call_async(asked: Call) -> Any:
    """Make a call: one that is not async runs in the thread that Django has for work that may wait."""
    function, arguments, _ = asked
    if iscoroutinefunction(function):
        return await function(*arguments)
    found = await sync_to_async(function, thread_sensitive=True)(*arguments)
    return await found if inspect.isawaitable(found) else found


def _response(made: answers.Response, *, body: bool) -> HttpResponse:
    response = HttpResponse(made.body if body else b"", status=made.status)
    for name, value in made.headers:
        response[name.title()] = value
    return response


def _for_one_caller(response: Any) -> Any:
    for name, value in answers.caching(response.items()):
        response[name] = f"{response[name]}, {value}" if response.has_header(name) else value
    return response


def _close(response: Any) -> None:
    """Close what a response that does not leave has open; the request itself is not over, which closing would tell."""
    for close in getattr(response, "_resource_closers", ()):
        close()
    response._resource_closers = []


def _has_forbidden_page() -> bool:
    """Whether the project has a page of its own for what is forbidden."""
    if get_resolver().resolve_error_handler(403) is not defaults.permission_denied:
        return True
    try:
        loader.get_template("403.html")
    except (TemplateDoesNotExist, ImproperlyConfigured):
        return False
    return True


def _check_sessions() -> None:
    """See that sessions are there when callers are identified.

    Raises:
        ImproperlyConfigured: the session middleware comes after this one.
    """
    order = list(settings.MIDDLEWARE)
    ours = next((number for number, name in enumerate(order) if name.endswith("django.AccessMiddleware")), None)
    if ours is not None and _SESSIONS in order[ours:]:
        raise ImproperlyConfigured(
            f"MIDDLEWARE has {order[ours]} before {_SESSIONS}, so no caller would have a session; put it behind"
        )


def _stream_with(response: Any, access: Access) -> None:
    """Make the rest of a response with the request at hand."""
    content = response.streaming_content
    if response.is_async:

        async def later() -> AsyncIterator[bytes]:
            rest = aiter(content)
            while True:
                # Between two pieces the server does other work, for other callers.
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
        ImproperlyConfigured: it is missing, has a key that is not known, or names what cannot be imported.
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
    records = {name: _imported(each, f"records.{name}") for name, each in (given.get("records") or {}).items()}
    rest = {key: _imported(given.get(key), key) for key in ("identify", "page", "audit")}
    return {"policy": policy, "records": records, **rest}


def _imported(value: Any, key: str) -> Any:
    if not isinstance(value, str):
        return value
    try:
        return import_string(value)
    except ImportError as error:
        raise ImproperlyConfigured(f"BLOODROOT[{key!r}]: {value} cannot be imported: {error}") from error
