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
        "report_only": False,
    }
"""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import AsyncIterator, Callable, Mapping
from typing import Any

from asgiref.sync import async_to_sync, iscoroutinefunction, markcoroutinefunction, sync_to_async
from django.core.exceptions import PermissionDenied
from django.core.handlers.exception import response_for_exception
from django.core.signals import got_request_exception
from django.db import connections, transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.urls import Resolver404, get_resolver

from ..core.answers import Answer
from ..core.caller import Caller
from ..core.paths import read_path
from ..request import DjangoRequest as Request
from ..request import encoded
from . import responses
from .access import _current, log, plain
from .django_identity import Identify, identify
from .django_routes import RouteTable, all_routes, leads_on, no_routes, redirecting, routes, without_format
from .django_settings import check_sessions, has_forbidden_page, read_settings
from .django_views import is_api
from .enforcement import Enforcement, EnforcementOptions, Served
from .following import opened
from .leaving import leaving, withheld
from .pipeline import Exchange, run
from .sessions import copied
from .startup import look_over, looked_over
from .wsgi import acting, check_headers, without_early_hints

__all__ = ["AccessMiddleware", "Identify", "identify", "routes"]

_MOST_ROUTES = 20_000


def _is_missing(error: Exception) -> bool:
    return isinstance(error, Http404)


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
        every = all_routes()
        found = [route for route in every if route.part_of is None]
        policy, watched = opened(given.pop("policy"))
        policy = policy.bind(found)
        if not self._waits:
            check_headers(given["identify"])
        self.enforcement = Enforcement(policy, EnforcementOptions(**given, missing=_is_missing))
        look_over(policy, found, self.enforcement.records).tell()
        self.enforcement.follow(watched, lambda changed: looked_over(changed, found, self.enforcement.records))
        self._routes = RouteTable(every)
        # With the view itself, so that an id here is never that of another one.
        self._served: dict[tuple[Any, Any, int], tuple[Served, Any, str | None, bool]] = {}
        self._has_forbidden_page = has_forbidden_page()
        self._no_routes = no_routes()
        self._redirects = redirecting()
        self._atomic = tuple(
            alias for alias, settings in connections.settings.items() if settings.get("ATOMIC_REQUESTS")
        )
        if self._waits:
            markcoroutinefunction(self)
            functions = [
                self.enforcement.identify,
                *(loading.function for loading in self.enforcement.records.values()),
            ]
            if any(iscoroutinefunction(function) for function in functions):
                self.process_view = self.process_view_async  # type: ignore[method-assign]

    # The request on its way in ------------------------------------------------------------------------------

    def __call__(self, sent: HttpRequest) -> Any:
        """Serve one request, or say how it will be served."""
        if self._waits:
            return self._later(sent)
        self._begin(sent)
        # No caller acts before it is decided who does, whichever acts around.
        before = _current.get()
        _current.set(None)
        try:
            if not self._atomic:
                return self._finished(sent, self._read(sent) or self.get_response(sent))
            with contextlib.ExitStack() as held:
                sent._bloodroot_held = held
                return self._finished(sent, self._read(sent) or self.get_response(sent))
        finally:
            _current.set(before)
            # The exchange knows the request: without this both would wait for the collector of garbage.
            del sent._bloodroot

    async def _later(self, sent: HttpRequest) -> HttpResponse:
        self._begin(sent)
        before = _current.get()
        _current.set(None)
        held = sent._bloodroot_held = contextlib.ExitStack()
        try:
            response = self._read(sent)
            if response is None:
                response = await self.get_response(sent)
            exchange: _Exchange = sent._bloodroot
            if exchange.is_clear and not exchange.holds:
                return self._let_out(exchange, response)
            # What is decided late, a page of the project's own, and the end of transactions may ask the database.
            return await sync_to_async(self._finished_within, thread_sensitive=True)(sent, response)
        except BaseException as error:
            if sent._bloodroot.holds:
                await sync_to_async(held.__exit__, thread_sensitive=True)(type(error), error, error.__traceback__)
            raise
        finally:
            _current.set(before)
            del sent._bloodroot

    def _finished_within(self, sent: HttpRequest, response: Any) -> HttpResponse:
        with sent._bloodroot_held:
            return self._finished(sent, response)

    def _begin(self, sent: HttpRequest) -> None:
        sent._bloodroot = _Exchange(self.enforcement, sent)
        without_early_hints(sent.META)

    def _read(self, sent: HttpRequest) -> HttpResponse | None:
        """What a request gets that can be read in more than one way; None for any other."""
        exchange: _Exchange = sent._bloodroot
        return None if exchange.request.readable or exchange.observes else self._refused_unread(exchange)

    def _finished(self, sent: HttpRequest, response: Any) -> HttpResponse:
        exchange: _Exchange = sent._bloodroot
        if not exchange.decided:
            response = self._decided_late(exchange, response)
        return self._let_out(exchange, response)

    def process_view(self, sent: HttpRequest, view: Any, args: Any, kwargs: Any) -> HttpResponse | None:  # noqa: ARG002
        """Decide by the view that Django has chosen, where its own code runs: with sessions and databases."""
        exchange = self._dispatched(sent)
        if not exchange.is_up_to_date():
            return self._refused_unread(exchange)
        answer = run(exchange.decide(sent, *self._chosen(exchange, sent.resolver_match)))
        if answer is None and self._atomic:
            _hold_transactions(sent, view, self._atomic)
        return self._enter(exchange, answer)

    async def process_view_async(self, sent: HttpRequest, view: Any, args: Any, kwargs: Any) -> HttpResponse | None:  # noqa: ARG002
        """The same where ``identify`` or a loader is async; what is not runs in Django's own thread for such work."""
        exchange = self._dispatched(sent)
        if not exchange.is_up_to_date():
            return self._refused_unread(exchange)
        exchange.call = _call_async
        try:
            answer = await exchange.decide(sent, *self._chosen(exchange, sent.resolver_match))
        finally:
            exchange.call = _call  # what is decided late is decided in a thread
        if answer is None and self._atomic:
            await sync_to_async(_hold_transactions, thread_sensitive=True)(sent, view, self._atomic)
        return self._enter(exchange, answer)

    def _dispatched(self, sent: HttpRequest) -> _Exchange:
        """What is decided for a view: middleware inside may have one chosen again, which is decided by itself."""
        exchange: _Exchange = sent._bloodroot
        if exchange.decided:
            exchange = sent._bloodroot = _Exchange(self.enforcement, sent, exchange)
        return exchange

    def _enter(self, exchange: _Exchange, answer: Answer | None) -> HttpResponse | None:
        if answer is not None:
            return self._refuse(exchange, answer)
        exchange.match = exchange.request.django.resolver_match
        exchange.given = dict(exchange.match.kwargs)
        exchange.undo = _kept(exchange.request.django)
        _current.set(exchange.access)
        return None

    def _chosen(self, exchange: _Exchange, match: Any) -> tuple[Served, Mapping[str, Any]]:
        """The route that Django has chosen, and what it gives to its view: that counts, wherever it comes from."""
        key = (match.view_name, match.route, id(match.func))
        served = self._served.get(key)
        if served is None:
            route, suffix = self._routes.chosen(match)
            api = is_api(match.func)
            if len(self._served) >= _MOST_ROUTES:
                self._served.clear()  # a project may make its routes anew for each request
            served = self._served[key] = self.enforcement.serve(route), match.func, suffix, api
        exchange.is_api = served[3]
        values = match.kwargs or {}
        if served[2] is not None:
            path, values = without_format(exchange.request.path, values, served[2])
            exchange.request.path, exchange.request.segments = path, read_path(path)
        return served[0], values

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
            # As if no route were there: the project's own missing page must look the same, and nothing may lead from
            # it to a route after all.
            sent.resolver_match = None
            # With DEBUG the page lists what was tried. Where that is nothing, it is the page of a new project, and 200.
            tried = [[pattern] for pattern in get_resolver().url_patterns]
            sent.urlconf = self._no_routes
            raise Resolver404({"tried": tried, "path": sent.path_info.lstrip("/")})
        made = exchange.response(answer, sent)
        if made.status == 403 and self._has_forbidden_page:
            raise PermissionDenied(answer.message)
        return _response(made, body=exchange.request.method != "HEAD")

    def _refused_unread(self, exchange: _Exchange) -> HttpResponse:
        answer = run(exchange.decide(None))
        assert answer is not None
        return self._refuse(exchange, answer)

    def _decided_late(self, exchange: _Exchange, response: Any) -> Any:
        """A response that was made before a view was asked: by Django itself, or by middleware inside."""
        sent = exchange.request.django
        try:
            if not exchange.is_up_to_date():
                return self._refused_unread(exchange)
            leads_to = None
            if getattr(sent, "resolver_match", None) is not None:
                steps = exchange.decide(sent, *self._chosen(exchange, sent.resolver_match))
            elif response.status_code == 404 and (leads_to := leads_on(sent, *self._redirects)) is not None:
                # Middleware outside makes a redirect of this, which says that there is something.
                path, match = leads_to
                exchange.request.path, exchange.request.segments = encoded(path), read_path(encoded(path))
                steps = exchange.decide(sent, *self._chosen(exchange, match))
            else:
                steps = exchange.decide_without_route(sent, missing=response.status_code == 404)
            answer = run(steps)
            if answer is None:
                if leads_to is not None and exchange.access.open:
                    # What it leads to is decided once it is asked for.
                    exchange.decided, exchange.unserved = False, True
                return response
            _close(response)
            return self._refuse(exchange, answer)
        except (Http404, PermissionDenied) as error:
            return response_for_exception(sent, error)

    # The response on its way out ------------------------------------------------------------------------------

    def _let_out(self, exchange: _Exchange, response: Any) -> HttpResponse:
        """A response of the application, if it may go out; else the answer in its place."""
        dispatches = exchange.all()
        if exchange.broken is not None:
            # Something failed while a refusal was on its way: what the project answers to that is no refusal.
            _close(response)
            made = exchange.response(exchange.broken, exchange.request.django)
            response = _response(made, body=exchange.request.method != "HEAD")
        refused = withheld(dispatches, response.status_code)
        if refused is not None:
            _close(response)
            try:
                response = self._refuse(*refused)
            except (Http404, PermissionDenied) as error:
                response = response_for_exception(exchange.request.django, error)
        if any(dispatch.decided and dispatch.access.withheld for dispatch in dispatches):
            _roll_back()
        streams = getattr(response, "streaming", False)
        headers = [(name.lower(), value) for name, value in response.items()]

        def has_length() -> bool:
            return bool(response.has_header("Content-Length"))

        for name, value in leaving(dispatches, response.status_code, headers, streams=streams, sized=has_length):
            response[name] = value
        if streams and exchange.decided and exchange.refusing is None:
            _stream_with(response, exchange)
        return response


class _Exchange(Exchange):
    """One request on its way through the project."""

    request: Request
    match: Any = None  # what Django has chosen
    given: Mapping[str, Any] | None = None  # what the view is to get, as it was decided
    holds = False  # whether transactions wait for the response
    broken: Answer | None = None  # the refusal that something has failed on

    def __init__(self, enforcement: Enforcement, sent: HttpRequest, before: _Exchange | None = None) -> None:
        super().__init__(enforcement, Request(sent), _call)
        self._seen = (sent.path_info, sent.method)
        self._before = before

    def responded(self, status: int) -> Answer | None:
        """As `Exchange.responded`; what the view has got must be what was decided."""
        if self.given is not None and self.match.kwargs != self.given and not self.observes:
            self.access.withheld = True
            log.error(
                "%s %s: middleware inside has changed the arguments of the view after they were decided; the response "
                "is withheld. Put it before AccessMiddleware",
                self.access.method,
                plain(self.access.path),
            )
            return responses.UNSETTLED
        return super().responded(status)

    @property
    def is_clear(self) -> bool:
        """Whether a response may go out as it is."""
        if self._before is not None or not self.decided or self.refusing is not None:
            return False
        return self.access.cleared and (self.given is None or self.match.kwargs == self.given or self.observes)

    def all(self) -> list[_Exchange]:
        """All that was dispatched for the request, in this order."""
        return [*(self._before.all() if self._before is not None else ()), self]

    def is_up_to_date(self) -> bool:
        """Take over what middleware further in has made of path and method; whether they can be read in one way."""
        sent = self.request.django
        if self._seen != (sent.path_info, sent.method):
            self.request = Request(sent)
            self._seen = (sent.path_info, sent.method)
        return self.request.readable or self.enforcement.reports(None)


def _failed(request: Any = None, **_: Any) -> None:
    """Note that something of a project failed while a refusal was on its way out."""
    exchange: _Exchange | None = getattr(request, "_bloodroot", None)
    if exchange is not None:
        exchange.broken = exchange.refusing


got_request_exception.connect(_failed)


def _call(function: Callable[..., Any], arguments: tuple[Any, ...], _: bool) -> Any:
    """Call a function, at once; what is async runs to its end."""
    result = function(*arguments)
    if result is None or type(result) is Caller or not inspect.isawaitable(result):
        return result

    async def wait() -> Any:
        return await result

    return async_to_sync(wait)()


async def _call_async(function: Callable[..., Any], arguments: tuple[Any, ...], _: bool) -> Any:
    """Call a function: one that is not async runs in the thread that Django has for work that may wait."""
    if iscoroutinefunction(function):
        return await function(*arguments)
    result = await sync_to_async(function, thread_sensitive=True)(*arguments)
    return await result if inspect.isawaitable(result) else result


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


def _kept(sent: HttpRequest) -> Callable[[], None]:
    """Keep what goes with a response beside it: the session, and messages for the next page."""
    kept = []
    for attribute in ("session", "_messages"):
        each = getattr(sent, attribute, None)
        if each is not None and hasattr(each, "__dict__"):
            values = dict(vars(each))
            values.pop("request", None)
            for name, value in values.items():
                if isinstance(value, dict):
                    values[name] = copied(value)
                elif isinstance(value, list):
                    values[name] = list(value)
            kept.append((attribute, each, values))

    def undo() -> None:
        for attribute, value, before in kept:
            setattr(sent, attribute, value)
            for name in [name for name in vars(value) if name not in before and name != "request"]:
                del value.__dict__[name]
            value.__dict__.update(before)

    return undo


def _hold_transactions(sent: HttpRequest, view: Any, databases: tuple[str, ...]) -> None:
    """Begin the transactions of ``ATOMIC_REQUESTS`` around the view's own: they end once it is seen what leaves."""
    apart: set[str] = getattr(view, "_non_atomic_requests", set())
    for alias in databases:
        if alias not in apart:
            sent._bloodroot.holds = True
            sent._bloodroot_held.enter_context(transaction.atomic(using=alias))


def _roll_back() -> None:
    """Take back what was written behind a response that is withheld, where the project has ``ATOMIC_REQUESTS``."""
    for connection in connections.all(initialized_only=True):
        if connection.settings_dict["ATOMIC_REQUESTS"] and connection.in_atomic_block:
            transaction.set_rollback(True, using=connection.alias)


def _stream_with(response: Any, exchange: _Exchange) -> None:
    """Make the rest of a response with the request at hand."""
    content, access, sent = response.streaming_content, exchange.access, exchange.request.django
    if response.is_async:
        exchange.call = _call_async

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
                if exchange.is_due and not await exchange.again(sent):
                    raise ConnectionError("the caller may not have any more of this")
                yield piece

        response.streaming_content = later()
        return
    response.streaming_content = acting(exchange, content, lambda: run(exchange.again(sent)))
