"""Flask: the policy between its URL map and its views."""

from __future__ import annotations

import contextvars
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import flask
from werkzeug.datastructures import Headers
from werkzeug.exceptions import Forbidden, HTTPException, NotFound, Unauthorized
from werkzeug.routing import Rule

from ..core.answers import Answer
from ..core.fields import FieldsRefused
from ..core.paths import read_path
from ..core.policy import Policy
from ..request import WsgiRequest as Request
from ..request import encoded
from . import answers
from .access import Access, Refused, _current
from .audit import Audit
from .flask_routes import described, routes
from .pipeline import Call, Enforcement, Identify, Loader, Page, Served, run
from .startup import StartUp, look_over
from .wsgi import check_headers

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
        PolicyError: the application has no such action, or a guard asks for what the policy does not know.
        StartUpError: something is declared that could never take effect.
        SettingsError: ``identify`` trusts headers that WSGI cannot tell from others.
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
        exchange = _Exchange(sent)
        sent.environ[self._key] = exchange
        self._admit(exchange)
        access = exchange.access
        if access is None:
            return self._dispatch(*context)  # nothing is served here that a caller may have or not
        answer = self.enforcement.refusal_before(access)
        if answer is None:
            exchange.before = (_current.get(),)
            _current.set(access)
            try:
                found = self._dispatch(*context)
            except (Refused, FieldsRefused) as error:
                answer = self.enforcement.refusal_raised(error)
                access.withheld = True
            except HTTPException as error:
                if access.cleared or error.code is None:
                    raise
                answer = self.enforcement.refusal_after(access, error.code)
            except Exception:
                exchange.failed = True
                raise
            else:
                answer = self._withheld(access, found)
                if answer is None:
                    return found
        assert answer is not None
        return self._refuse(exchange, answer)

    def _withheld(self, access: Access, found: Any) -> Answer | None:
        """What the caller gets instead of what a view has returned, which is closed then."""
        if access.cleared:
            return None
        response = self.app.make_response(found)
        answer = self.enforcement.refusal_after(access, response.status_code)
        if answer is not None:
            response.close()
        return answer

    def _admit(self, exchange: _Exchange) -> None:
        """Decide a request by its route; one that no route serves, by its path lines if there are any."""
        sent, policy = exchange.sent, self.enforcement.policy
        served = self._served_by(sent)
        line = None
        if served is None and exchange.request.readable:
            segments = exchange.request.segments or []
            line = policy.line_by_path(exchange.request.method, segments)
            if line is None and isinstance(sent.routing_exception, NotFound):
                exchange.unserved = True
                return
            if line is None and sent.routing_exception is not None:
                # A redirect to a route, or a method that it does not serve.
                line = policy.line_for(exchange.request.method, exchange.request.path)
        # The default answer to OPTIONS is Flask's own, and no action.
        rule = sent.url_rule
        own = sent.method == "OPTIONS" and rule is not None and getattr(rule, "provide_automatic_options", False)
        if own and served is not None:
            line, served = policy.line_by_path("OPTIONS", exchange.request.segments or []), None
        steps = self.enforcement.admit(exchange.request, sent, served, sent.view_args, line)
        exchange.access = run(steps, self._call)

    def _served_by(self, sent: flask.Request) -> Served | None:
        rule = sent.url_rule
        if rule is None:
            return None
        found = self._served.get(id(rule))
        if found is None:
            found = self._served[id(rule)] = self.enforcement.serve(described(self.app, rule)), rule
        return found[0]

    def _call(self, asked: Call) -> Any:
        return self._sync[id(asked.function)](*asked.arguments)

    def _refuse(self, exchange: _Exchange, answer: Answer) -> flask.Response:
        """Answer in the place of the view: with the application's error handler, or by ourselves."""
        if exchange.access is not None:
            self.enforcement.note(exchange.access, answer)
        exchange.refusing = answer
        if answer.hidden:
            # As if no route were there: the application's own missing page must look the same.
            exchange.sent.url_rule = None
            exchange.sent.view_args = None
            exchange.sent.routing_exception = NotFound()
            raise exchange.sent.routing_exception
        made = self.enforcement.respond(answer, exchange.request, exchange.access, exchange.sent)
        body = b"" if exchange.sent.method == "HEAD" else made.body
        response = self.app.response_class(body, made.status, list(made.headers))
        kind = {401: Unauthorized, 403: Forbidden}.get(made.status)
        if kind is None:
            return response
        raise _with_response(kind, answer.message, response)

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
            return _for_one_caller(self._process(*context, response))
        if exchange is None:
            # A function before the request has answered it.
            exchange = _Exchange(sent)
            exchange.sent.environ[self._key] = exchange
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
            self._admit(exchange)
            answer = self.enforcement.refusal_before(exchange.access) if exchange.access is not None else None
            if answer is None and exchange.access is not None:
                answer = self.enforcement.refusal_after(exchange.access, response.status_code)
            if answer is None:
                return response
            return self._refuse(exchange, answer)
        except HTTPException as error:
            return self.app.make_response(self.app.handle_http_exception(error))

    def _let_out(self, exchange: _Exchange, response: flask.Response) -> flask.Response:
        access = exchange.access
        if exchange.refusing is not None:
            if not exchange.refusing.hidden:
                response.headers = Headers(response.headers)
                response.headers.setdefault("Cache-Control", "no-store")
                asks_for = answers.challenge(response.status_code, self.enforcement.realm, None, ())
                if asks_for is not None:
                    response.headers.setdefault("WWW-Authenticate", asks_for)
            return _for_one_caller(response)
        if access is None:
            return _for_one_caller(response)
        if not access.cleared and not (exchange.failed and response.status_code >= 500):
            answer = self.enforcement.refusal_after(access, response.status_code)
            made = self.enforcement.respond(answer or answers.UNSETTLED, exchange.request, access, exchange.sent)
            response.close()
            return self.app.response_class(made.body, made.status, list(made.headers))
        self.enforcement.note(access, None)
        streams = response.is_streamed
        if self.enforcement.is_private(access, streamed=streams and response.content_length is None):
            _for_one_caller(response)
        else:
            access.public = streams
        if streams and not response.direct_passthrough:
            response.response = _acting(access, response.response)
        return response


class _Exchange:
    """One request on its way through an application."""

    access: Access | None = None
    before: tuple[Any, ...] = ()
    failed = False
    refusing: Answer | None = None
    unserved = False

    def __init__(self, sent: flask.Request) -> None:
        self.sent = sent
        self.request = request = Request(sent.environ)
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


def _for_one_caller(response: flask.Response) -> flask.Response:
    if not isinstance(response.headers, Headers):
        response.headers = Headers(response.headers)  # some views put a plain mapping there
    response.headers.extend(answers.caching(response.headers))
    return response


def _acting(access: Access, pieces: Any) -> Iterator[Any]:
    """The pieces of a body that is made while it is sent, each made with the request at hand."""
    context = contextvars.copy_context()
    context.run(_current.set, access)
    rest = iter(pieces)
    while True:
        try:
            piece = context.run(next, rest)
        except StopIteration:
            return
        yield piece
