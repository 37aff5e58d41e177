"""Flask: the policy between its URL map and its views."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

import flask
from werkzeug.datastructures import Headers
from werkzeug.exceptions import Forbidden, HTTPException, NotFound, Unauthorized
from werkzeug.routing import Rule

from ..core.answers import Answer
from ..core.paths import read_path
from ..core.policy import Policy
from ..request import WsgiRequest as Request
from ..request import encoded
from . import responses
from .access import _current
from .audit import Audit
from .enforcement import Enforcement, Identify, Loader, Page, Served
from .flask_routes import described, routes
from .pipeline import Call, Exchange, run
from .startup import StartUp, look_over
from .wsgi import acting, check_headers

__all__ = ["protect", "routes"]


def protect(
    app: flask.Flask,
    policy: Policy,
    *,
    identify: Identify,
    records: Mapping[str, Loader] | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
) -> StartUp:
    """Put a policy between the URL map of an application and its views, once all routes are declared.

    Each request is decided in Flask's own request context, after every ``before_request`` function and before the view,
    by the line of its action, which is what Flask calls an endpoint, or else by its path. Refusals go through the
    application's error handlers and ``after_request`` functions.

    Args:
        app: the application.
        policy: what decides.
        identify: as `Enforcement`; it gets ``flask.request``. Async functions run as Flask runs async views.
        records: as `Enforcement`.
        page: as `Enforcement`.
        audit: as `Enforcement`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
        SettingsError: ``identify`` trusts headers that WSGI cannot distinguish from others.
    """
    found = routes(app)
    bound = policy.bind(found)
    check_headers(identify)
    enforcement = Enforcement(
        bound,
        identify=identify,
        records=records,
        page=page,
        audit=audit,
        missing=lambda error: isinstance(error, NotFound),
    )
    started = look_over(bound, found, enforcement.records)
    started.tell()
    _Driver(app, enforcement).install()
    return started


class _Driver:
    """The policy between an application's URL map and its views, and before its responses leave."""

    def __init__(self, app: flask.Flask, enforcement: Enforcement) -> None:
        self.app = app
        self.enforcement = enforcement
        # With the rule itself, so that an id here is never that of another one.
        self._served: dict[int, tuple[Served, Rule]] = {}
        self._key = f"bloodroot.{id(self):x}"
        functions = [enforcement.identify, *(loader for loader, *_ in enforcement.records.values())]
        # As Flask runs views: what is async runs to its end.
        self._sync = {id(function): app.ensure_sync(function) for function in functions}

    def install(self) -> None:
        """Take the place of what dispatches requests and of what finishes responses."""
        self._dispatch: Callable[..., Any] = self.app.dispatch_request
        self._process: Callable[..., Any] = self.app.process_response
        self.app.dispatch_request = self.dispatch  # type: ignore[method-assign]
        self.app.process_response = self.process  # type: ignore[method-assign,assignment]

    def dispatch(self, *context: Any) -> Any:
        """Decide by what Flask has chosen, let it be served, and let what it gives out, or refuse.

        Args:
            context: what the version of Flask gives to what dispatches requests, to be passed on.
        """
        sent = flask.request._get_current_object()  # type: ignore[attr-defined]
        exchange = sent.environ[self._key] = _Exchange(self.enforcement, sent)
        answer = self._decide(exchange)
        if answer is None and exchange.unserved:
            return self._dispatch(*context)
        if answer is None:
            exchange.before = (_current.get(),)
            _current.set(exchange.access)
            try:
                found = self._dispatch(*context)
            except HTTPException as error:
                answer = exchange.responded(error.code) if error.code is not None else None
                if answer is None:
                    raise
            except Exception as error:
                answer = exchange.raised(error)
                if answer is None:
                    exchange.failed = True
                    raise
            else:
                if exchange.access.cleared:
                    return found
                answer = self._withheld(exchange, self.app.make_response(found))
                if answer is None:
                    return found
        return self._refuse(exchange, answer)

    def _withheld(self, exchange: _Exchange, response: flask.Response) -> Answer | None:
        """What the caller gets instead of a response, which is closed then."""
        answer = exchange.responded(response.status_code)
        if answer is not None:
            response.close()
        return answer

    def _decide(self, exchange: _Exchange) -> Answer | None:
        """Decide a request by its route; one that no route serves, by its path."""
        sent, rule = exchange.sent, exchange.sent.url_rule
        if rule is None:
            # A redirect to a route, or a method that it does not serve, is something that is there.
            missing = isinstance(sent.routing_exception, NotFound)
            return run(exchange.decide_without_route(sent, missing=missing), self._call)
        if sent.method == "OPTIONS" and getattr(rule, "provide_automatic_options", False):
            # This answer is Flask's own, and no action.
            return run(exchange.decide(sent), self._call)
        return run(exchange.decide(sent, self._served_by(rule), sent.view_args), self._call)

    def _served_by(self, rule: Rule) -> Served:
        found = self._served.get(id(rule))
        if found is None:
            found = self._served[id(rule)] = self.enforcement.serve(described(self.app, rule)), rule
        return found[0]

    def _call(self, asked: Call) -> Any:
        return self._sync[id(asked.function)](*asked.arguments)

    def _refuse(self, exchange: _Exchange, answer: Answer) -> flask.Response:
        """Answer in the place of the view: with the application's error handler, or by ourselves."""
        exchange.refuse(answer)
        if answer.hidden:
            # As if no route were there: the application's own missing page must look the same.
            exchange.sent.url_rule = None
            exchange.sent.view_args = None
            exchange.sent.routing_exception = NotFound()
            raise exchange.sent.routing_exception
        response = self._own_response(exchange, answer)
        kind = {401: Unauthorized, 403: Forbidden}.get(response.status_code)
        if kind is None:
            return response
        raise _with_response(kind, answer.message, response)

    def _own_response(self, exchange: _Exchange, answer: Answer) -> flask.Response:
        made = exchange.response(answer, exchange.sent)
        body = b"" if exchange.sent.method == "HEAD" else made.body
        return self.app.response_class(body, made.status, list(made.headers))

    def process(self, *arguments: Any) -> flask.Response:
        """Finish a response as the application does, and let it out.

        Args:
            arguments: what the version of Flask gives, the response last.
        """
        *context, response = arguments
        sent = flask.request._get_current_object()  # type: ignore[attr-defined]
        exchange: _Exchange | None = sent.environ.get(self._key)
        if exchange is _DONE:
            # A function after the request has failed: what is answered now is the application's own error.
            response = self.app.make_response(self._process(*context, response))
            _add(response, responses.caching(response.headers.items()))
            return response
        if exchange is None:
            # A function before the request has answered it.
            exchange = sent.environ[self._key] = _Exchange(self.enforcement, sent)
            response = self._answered_before(exchange, response)
        try:
            return self._let_out(exchange, self._process(*context, response))
        finally:
            # The request is over, and its caller acts no more in this thread; a stream has a context of its own.
            if exchange.before:
                _current.set(exchange.before[0])
            # The exchange knows the request: without this both would wait for the collector of garbage.
            sent.environ[self._key] = _DONE

    def _answered_before(self, exchange: _Exchange, response: flask.Response) -> flask.Response:
        try:
            answer = self._decide(exchange)
            if answer is None and not exchange.unserved:
                answer = self._withheld(exchange, response)
            return response if answer is None else self._refuse(exchange, answer)
        except HTTPException as error:
            return self.app.make_response(self.app.handle_http_exception(error))

    def _let_out(self, exchange: _Exchange, response: flask.Response) -> flask.Response:
        if exchange.decided and exchange.refusing is None:
            answer = self._withheld(exchange, response)
            if answer is not None:
                exchange.refuse(answer)
                return self._own_response(exchange, answer)
        streams = response.is_streamed
        sized = not streams or response.content_length is not None
        _add(response, exchange.leave(response.status_code, response.headers.items(), streams=streams, sized=sized))
        if streams and exchange.decided and exchange.refusing is None and not response.direct_passthrough:
            response.response = acting(exchange.access, response.response)
        return response


class _Exchange(Exchange):
    """One request on its way through an application.

    Attributes:
        before: who acted before it, once it is allowed.
    """

    before: tuple[Any, ...] = ()

    def __init__(self, enforcement: Enforcement, sent: flask.Request) -> None:
        request = Request(sent.environ)
        super().__init__(enforcement, request)
        self.sent = sent
        # Flask has chosen the route by what was in the environment at first.
        if request.method.upper() != sent.method:
            request.method = sent.method
        if request.path != sent.path and (path := encoded(sent.path)) != request.path and request.segments is not None:
            request.path, request.segments = path, read_path(path)


_DONE: Any = object()


def _with_response(kind: type[HTTPException], message: str, response: flask.Response) -> HTTPException:
    """An exception that the application's error handlers get, and that has a response for where there is none."""
    error = kind(message)
    error.get_response = lambda *_, **__: response  # type: ignore[method-assign]
    return error


def _add(response: flask.Response, more: Iterable[tuple[str, str]]) -> None:
    if not isinstance(response.headers, Headers):
        response.headers = Headers(response.headers)  # some views put a plain mapping there
    response.headers.extend(more)
