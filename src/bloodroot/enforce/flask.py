"""Flask: the policy between its URL map and its views."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import flask
from werkzeug.datastructures import Headers
from werkzeug.exceptions import Forbidden, HTTPException, NotFound, Unauthorized
from werkzeug.routing import Rule

from ..core.answers import Answer
from ..core.paths import read_path
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import WsgiRequest as Request
from ..request import encoded
from . import responses
from .access import _current
from .audit import Audit
from .enforcement import Enforcement, EnforcementOptions, Identify, Page, Served
from .flask_routes import described, routes
from .following import opened
from .leaving import Keeping, keeping, with_headers_kept, withheld
from .loaders import Records
from .pipeline import Calls, Exchange, run
from .sessions import KeptSession
from .startup import StartUp, look_over, looked_over
from .wsgi import acting, check_headers, without_early_hints

__all__ = ["protect", "routes"]


def protect(
    app: flask.Flask,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the URL map of an application and its views, once all routes are declared.

    Each request is decided in Flask's own request context, after every ``before_request`` function and before the view,
    by the line of its action, which is what Flask calls an endpoint, or else by its path. Refusals go through the
    application's error handlers and ``after_request`` functions.

    Args:
        app: the application.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets ``flask.request``. Async functions run as Flask runs async views.
        records: as `Driver`.
        page: as `Driver`.
        audit: as `Driver`.
        report_only: as `Driver`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
        SettingsError: ``identify`` trusts headers that WSGI cannot distinguish from others.
    """
    found = routes(app)
    given, watched = opened(policy)
    bound = given.bind(found)
    check_headers(identify)
    options = EnforcementOptions(identify, records, page, audit, report_only, missing=_is_missing)
    enforcement = Enforcement(bound, options)
    started = look_over(bound, found, enforcement.records)
    started.tell()
    enforcement.follow(watched, lambda changed: looked_over(changed, found, enforcement.records))
    _Driver(app, enforcement).install()
    return started


def _is_missing(error: Exception) -> bool:
    return isinstance(error, NotFound)


class _Driver:
    """The policy between an application's URL map and its views, and before its responses leave."""

    def __init__(self, app: flask.Flask, enforcement: Enforcement) -> None:
        self.app = app
        self.enforcement = enforcement
        # With the rule itself, so that an id here is never that of another one.
        self._served: dict[int, tuple[Served, Rule]] = {}
        self._key = f"bloodroot.{id(self):x}"
        self._whole_key = f"{self._key}.whole"
        functions = [enforcement.identify, *(loading.function for loading in enforcement.records.values())]
        # As Flask runs views: what is async runs to its end.
        self._sync = {id(function): app.ensure_sync(function) for function in functions}

    def install(self) -> None:
        """Take the place of what serves a request, what dispatches it, and what finishes responses."""
        self._whole: Callable[..., Any] = self.app.wsgi_app
        self._dispatch: Callable[..., Any] = self.app.dispatch_request
        self._process: Callable[..., Any] = self.app.process_response
        self._teardown: Callable[..., Any] = self.app.do_teardown_request
        self.app.wsgi_app = self.serve  # type: ignore[method-assign]
        self.app.dispatch_request = self.dispatch  # type: ignore[method-assign]
        self.app.process_response = self.process  # type: ignore[method-assign,assignment]
        self.app.do_teardown_request = self.teardown  # type: ignore[method-assign,assignment]

    def serve(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Any:
        """One whole request: whatever becomes of it, no caller acts before it is decided who does, nor after it."""
        without_early_hints(environ)
        whole = environ[self._whole_key] = _Whole()
        exchanges = whole.exchanges
        token = _current.set(None)
        replaced = False

        def start(status: str, headers: list[tuple[str, str]], *rest: Any) -> Any:
            nonlocal replaced
            # Flask gives out what an error handler says where a function after the request fails again.
            number = int(status.split()[0])
            replaced = False
            for exchange in exchanges:
                replaced |= not exchange.may_leave(number)
            if whole.keeping is not None:
                headers = with_headers_kept(whole.keeping, number, headers, self.enforcement)
            return _write_nothing if replaced else start_response(status, headers, *rest)

        try:
            body = self._whole(environ, start)
            if not replaced:
                return body
            if hasattr(body, "close"):
                body.close()
            made = responses.response(responses.UNSETTLED, responses.RefusedRequest(self.enforcement.realm))
            start_response(f"{made.status} {made.phrase}", list(made.headers))
            return [made.body]
        finally:
            _current.reset(token)
            # An exchange knows its request: without this both would wait for the collector of garbage.
            exchanges.clear()
            environ.pop(self._key, None)

    def dispatch(self, *context: Any) -> Any:
        """Decide by what Flask has chosen, let it be served, and let what it gives out, or refuse.

        Args:
            context: what the version of Flask gives to what dispatches requests, to be passed on.
        """
        sent = flask.request._get_current_object()  # type: ignore[attr-defined]
        before = self._known(sent)
        exchange = self._begun(sent, before)
        answer = self._decide(exchange)
        if answer is None and exchange.unserved:
            return self._dispatch(*context)
        if answer is None:
            exchange.undo = _kept()
            _current.set(exchange.access)
            try:
                response = self._dispatch(*context)
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
                    return response
                answer = self._withheld(exchange, self.app.make_response(response))
                if answer is None:
                    return response
            finally:
                if before is not None:
                    # A view has dispatched again, and goes on.
                    _current.set(exchange.acted)
        return self._refuse(exchange, answer)

    def _begun(self, sent: flask.Request, before: _Exchange | None) -> _Exchange:
        exchange = sent.environ[self._key] = _Exchange(self.enforcement, self._call, sent, before)
        whole: _Whole | None = sent.environ.get(self._whole_key)
        if whole is not None:
            whole.exchanges.append(exchange)
        return exchange

    def _known(self, sent: flask.Request) -> _Exchange | None:
        """What was dispatched before for just this request; a copy of its environment is another one."""
        exchange: _Exchange | None = sent.environ.get(self._key)
        return exchange if exchange is not None and exchange.sent is sent else None

    def teardown(self, *arguments: Any) -> Any:
        """The request is over, however it ended: its caller acts no more. A stream has a context of its own."""
        sent = flask.request._get_current_object()  # type: ignore[attr-defined]
        exchange = self._known(sent)
        if exchange is not None:
            _current.set(exchange.all()[0].acted)
        return self._teardown(*arguments)

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
            return run(exchange.decide_without_route(sent, missing=missing))
        if sent.method == "OPTIONS" and getattr(rule, "provide_automatic_options", False):
            # This answer is Flask's own, and no action.
            return run(exchange.decide(sent))
        return run(exchange.decide(sent, self._served_by(rule), sent.view_args))

    def _served_by(self, rule: Rule) -> Served:
        served = self._served.get(id(rule))
        if served is None:
            served = self._served[id(rule)] = self.enforcement.serve(described(self.app, rule)), rule
        return served[0]

    def _call(self, function: Callable[..., Any], arguments: tuple[Any, ...], _: bool) -> Any:
        return self._sync[id(function)](*arguments)

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
        exchange = self._known(sent)
        if exchange is None:
            # A function before the request has answered it.
            exchange = self._begun(sent, None)
            response = self._answered_before(exchange, response)
        elif exchange.failed and exchange.refusing is not None:
            # Something failed while a refusal was on its way: what is answered to that is no refusal.
            response = self._own_response(exchange, exchange.refusing)
        try:
            response = self._process(*context, response)
        except Exception:
            # What is answered instead comes here again.
            exchange.failed = True
            raise
        return self._let_out(exchange, self.app.make_response(response))

    def _answered_before(self, exchange: _Exchange, response: flask.Response) -> flask.Response:
        try:
            answer = self._decide(exchange)
            if answer is None and not exchange.unserved:
                answer = self._withheld(exchange, response)
            return response if answer is None else self._refuse(exchange, answer)
        except HTTPException as error:
            return self.app.make_response(self.app.handle_http_exception(error))

    def _let_out(self, exchange: _Exchange, response: flask.Response) -> flask.Response:
        exchanges = exchange.all()
        for each in exchanges:
            each.left = True
        refused = withheld(exchanges, response.status_code)
        if refused is not None:
            response.close()
            response = self._own_response(*refused)
            # What was left for the response that is withheld, such as its session, goes out with this one.
            self._save_session(response)
        streams = response.is_streamed
        found = keeping(
            exchanges,
            response.status_code,
            streams=streams,
            sized=lambda: not streams or response.content_length is not None,
        )
        whole: _Whole | None = exchange.sent.environ.get(self._whole_key)
        if whole is not None:
            whole.keeping = found
        else:
            # A part of an application that is called by itself.
            headers = [(name, value) for name, value in response.headers.items()]
            response.headers = Headers(with_headers_kept(found, response.status_code, headers, self.enforcement))
        first = exchanges[0]
        if streams and first.decided and first.refusing is None and not response.direct_passthrough:
            here = request_context()

            def again() -> bool:
                with here:
                    return run(first.again(first.sent))

            response.response = acting(first, response.response, again)
        return response

    def _save_session(self, response: flask.Response) -> None:
        session = session_of(request_context())
        if not self.app.session_interface.is_null_session(session):
            self.app.session_interface.save_session(self.app, session, response)


class _Whole:
    """One whole request.

    Attributes:
        exchanges: all that is dispatched for it.
        keeping: who may keep the response that was let out last; None before.
    """

    def __init__(self) -> None:
        self.exchanges: list[_Exchange] = []
        self.keeping: Keeping | None = None


class _Exchange(Exchange):
    """One request on its way through an application.

    Attributes:
        before: what was dispatched before for the same request; None for nothing.
        acted: who acted before it.
        left: whether a response was let out.
    """

    left = False

    def __init__(
        self, enforcement: Enforcement, call: Calls, sent: flask.Request, before: _Exchange | None = None
    ) -> None:
        request = Request(sent.environ)
        super().__init__(enforcement, request, call)
        self.sent = sent
        self.before = before
        self.acted = _current.get()
        # Flask has chosen the route by what was in the environment at first.
        if request.method.upper() != sent.method:
            request.method = sent.method
        if request.path != sent.path and (path := encoded(sent.path)) != request.path and request.segments is not None:
            request.path, request.segments = path, read_path(path)

    def may_leave(self, status: int) -> bool:
        """Whether a response may leave that may not have been let out."""
        if self.left or not self.decided:
            return True
        return self.refusing is None and self.responded(status) is None

    def all(self) -> list[_Exchange]:
        """All that was dispatched for the request, in this order."""
        return [*(self.before.all() if self.before is not None else ()), self]


def _write_nothing(piece: bytes) -> None:
    """What the application writes of a response that is replaced."""


def _with_response(kind: type[HTTPException], message: str, response: flask.Response) -> HTTPException:
    """An exception that the application's error handlers get, and that has a response for where there is none."""
    error = kind(message)
    error.get_response = lambda *_, **__: response  # type: ignore[method-assign]
    return error


def _kept() -> Callable[[], None]:
    """Keep what goes with a response beside it: the session, with its messages, and functions after the request."""
    context = request_context()
    kept = KeptSession(session_of(context))
    functions = context._after_request_functions
    many = len(functions)

    def undo() -> None:
        kept.restore()
        del functions[many:]

    return undo


def request_context() -> Any:
    """The context of the request that Flask serves."""
    return flask.globals.request_ctx._get_current_object()  # type: ignore[attr-defined]


def session_of(context: Any) -> Any:
    """The session of a request, without noting that it was asked for."""
    session = getattr(context, "_session", None)
    return session if session is not None else context.session
