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

import inspect
from collections.abc import AsyncIterator, Callable, Mapping
from typing import Any

from asgiref.sync import async_to_sync, iscoroutinefunction, markcoroutinefunction, sync_to_async
from django.core.exceptions import PermissionDenied
from django.core.handlers.exception import response_for_exception
from django.http import Http404, HttpRequest, HttpResponse
from django.urls import Resolver404

from ..core.answers import Answer
from ..core.binding import Route
from ..core.caller import Caller
from ..request import DjangoRequest as Request
from . import responses
from .access import Access, _current
from .django_routes import action_of, routes
from .django_settings import check_sessions, has_forbidden_page, read_settings
from .enforcement import Enforcement, Served
from .pipeline import Call, Exchange, run, run_async
from .startup import look_over
from .wsgi import acting, check_headers

__all__ = ["AccessMiddleware", "routes"]

_MOST_ROUTES = 20_000


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
        given = read_settings()
        check_sessions()
        found = routes()
        policy = given.pop("policy").bind(found)
        if not self._waits:
            check_headers(given["identify"])
        self.enforcement = Enforcement(policy, missing=lambda error: isinstance(error, Http404), **given)
        look_over(policy, found, self.enforcement.records).tell()
        self._routes = {(route.action, route.spelling, id(route.handler)): route for route in reversed(found)}
        # With the view itself, so that an id here is never that of another one.
        self._served: dict[tuple[Any, Any, int], tuple[Served, Any]] = {}
        self._has_forbidden_page = has_forbidden_page()
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
        exchange = sent._bloodroot = _Exchange(self.enforcement, sent)
        before = _current.get()
        try:
            if not exchange.request.readable:
                return self._refused_unread(exchange)
            response = self.get_response(sent)
            if not exchange.decided:
                response = self._decided_late(exchange, response)
            return self._let_out(exchange, response)
        finally:
            _current.set(before)
            # The exchange knows the request: without this both would wait for the collector of garbage.
            del sent._bloodroot

    async def _later(self, sent: HttpRequest) -> HttpResponse:
        exchange = sent._bloodroot = _Exchange(self.enforcement, sent)
        before = _current.get()
        try:
            if not exchange.request.readable:
                return self._refused_unread(exchange)
            response = await self.get_response(sent)
            if not exchange.decided:
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
        return self._enter(exchange, run(exchange.decide(sent, *self._chosen(sent)), _call))

    async def process_view_async(self, sent: HttpRequest, view: Any, args: Any, kwargs: Any) -> HttpResponse | None:  # noqa: ARG002
        """The same where ``identify`` or a loader is async; what is not runs in Django's own thread for such work."""
        exchange: _Exchange = sent._bloodroot
        if not exchange.is_up_to_date():
            return self._refused_unread(exchange)
        return self._enter(exchange, await run_async(exchange.decide(sent, *self._chosen(sent)), _call_async))

    def _enter(self, exchange: _Exchange, answer: Answer | None) -> HttpResponse | None:
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
        answer = exchange.raised(error)
        if answer is None and isinstance(error, Http404) and exchange.decided:
            answer = exchange.responded(404)
        if answer is None:
            exchange.failed = True
            return None
        return self._refuse(exchange, answer)

    def _refuse(self, exchange: _Exchange, answer: Answer) -> HttpResponse:
        """Answer in the place of the view: with the project's own page, or by ourselves."""
        exchange.refuse(answer)
        sent = exchange.request.django
        if answer.hidden:
            # As if no route were there: the project's own missing page must look the same.
            sent.resolver_match = None
            raise Resolver404({"tried": [], "path": sent.path_info.lstrip("/")})
        made = exchange.response(answer, sent)
        if made.status == 403 and self._has_forbidden_page:
            raise PermissionDenied(answer.message)
        return _response(made, body=exchange.request.method != "HEAD")

    def _refused_unread(self, exchange: _Exchange) -> HttpResponse:
        answer = run(exchange.decide(None), _call)
        assert answer is not None
        return self._refuse(exchange, answer)

    def _decided_late(self, exchange: _Exchange, response: Any) -> Any:
        """A response that was made before a view was asked: by Django itself, or by middleware inside."""
        sent = exchange.request.django
        try:
            if not exchange.is_up_to_date():
                return self._refused_unread(exchange)
            if getattr(sent, "resolver_match", None) is not None:
                steps = exchange.decide(sent, *self._chosen(sent))
            else:
                steps = exchange.decide_without_route(sent, missing=response.status_code == 404)
            answer = run(steps, _call)
            if answer is None:
                return response
            _close(response)
            return self._refuse(exchange, answer)
        except (Http404, PermissionDenied) as error:
            return response_for_exception(sent, error)

    # The response on its way out ------------------------------------------------------------------------------

    def _let_out(self, exchange: _Exchange, response: Any) -> HttpResponse:
        """A response of the application, if it may go out; else the answer in its place."""
        if exchange.decided and exchange.refusing is None:
            answer = exchange.responded(response.status_code)
            if answer is not None:
                _close(response)
                try:
                    response = self._refuse(exchange, answer)
                except (Http404, PermissionDenied) as error:
                    response = response_for_exception(exchange.request.django, error)
        streams, sized = getattr(response, "streaming", False), response.has_header("Content-Length")
        for name, value in exchange.leave(response.status_code, response.items(), streams=streams, sized=sized):
            response[name] = f"{response[name]}, {value}" if response.has_header(name) else value
        if streams and exchange.decided and exchange.refusing is None:
            _stream_with(response, exchange.access)
        return response


class _Exchange(Exchange):
    """One request on its way through the project."""

    request: Request

    def __init__(self, enforcement: Enforcement, sent: HttpRequest) -> None:
        super().__init__(enforcement, Request(sent))
        self._seen = (sent.path_info, sent.method)

    def is_up_to_date(self) -> bool:
        """Take over what middleware further in has made of path and method; whether they can be read in one way."""
        sent = self.request.django
        if self._seen != (sent.path_info, sent.method):
            self.request = Request(sent)
            self._seen = (sent.path_info, sent.method)
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


def _response(made: responses.Response, *, body: bool) -> HttpResponse:
    response = HttpResponse(made.body if body else b"", status=made.status)
    for name, value in made.headers:
        response[name.title()] = value
    return response


def _close(response: Any) -> None:
    """Close what a withheld response has open. Closing the response itself would signal the end of the request."""
    for close in getattr(response, "_resource_closers", ()):
        close()
    response._resource_closers = []


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
    response.streaming_content = acting(access, content)
