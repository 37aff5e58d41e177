"""The policy in front of whatever no module here is for: a server or a framework says what it serves, and is answered.

For each request: `Driver.request`, then `Handling.enter` before the handler, `Handling.refused_by` for what it raises,
`Handling.leave` before its response goes out, and `Handling.close` at the end, whatever happens.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextvars import Token
from types import TracebackType
from typing import Any

from ..core.answers import Answer
from ..core.binding import Route
from ..core.caller import Caller
from ..core.decision import Decision
from ..core.methods import WEBSOCKET
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import PlainRequest
from . import active_policies, responses
from .access import _current, log
from .audit import Audit
from .enforcement import Enforcement, EnforcementOptions, Identify, Page, Served
from .following import opened
from .leaving import leaving
from .loaders import Records
from .pipeline import Exchange, Steps, run
from .responses import Response
from .startup import StartUp, look_over, looked_over, without_actions

__all__ = ["Driver", "Handling"]


class Driver:
    """A policy in front of an application, driven by the application itself.

    Args:
        policy: what decides, or what `bloodroot.watched` gives.
        routes: every route of the application; None where requests are decided by their paths alone.
        identify: who sends a request? Returns a `Caller`, or None for a signed-out one; raises
            `bloodroot.Unidentified` for credentials that are not accepted. What `bloodroot.identity.load` gives will
            do. It gets the framework's own request; without a framework, a `Request`. Its attribute ``vary``, a tuple,
            names the headers that it reads, by default ``Authorization`` and ``Cookie``; ``again``, a number of
            seconds, says how often it is asked again while a WebSocket or a stream is open, by default never.
        records: for path parameters, how to load the record one identifies: a function from the parameter's text to
            the record, or to None where there is none. It gets the request too, where it takes a second argument, and
            the caller as an argument of this name. One for a thing of the policy, by its name, loads what any of its
            parameters identifies, and the records that only another record leads to. One for a pair of an action, or
            what the names of actions begin with, and a parameter is for these alone: ``("piece", "pk")``.
        page: what people are shown instead of the small page of a refusal: a function from the answer and the request
            to HTML, or to None for the small page.
        audit: what is written down of decisions; None for refusals.
        missing: whether an exception of a loader says that there is no such record.
        report_only: whether nothing is refused, and what would be is only written down; or the path templates where
            that is so, as ``["/api/**"]``.

    Attributes:
        started: what the routes and the policy say of each other.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
    """

    def __init__(
        self,
        policy: Policy | Watched,
        *,
        routes: Iterable[Route] | None = None,
        identify: Identify,
        records: Records | None = None,
        page: Page | None = None,
        audit: Audit | None = None,
        missing: Callable[[Exception], bool] = lambda error: False,  # noqa: ARG005
        report_only: bool | Sequence[str] = False,
    ) -> None:
        options = EnforcementOptions(identify, records, page, audit, report_only, missing=missing)
        given, watched = opened(policy)
        self._routes = [*(routes or ())]
        self._has_routes = routes is not None
        bound = given.bind(self._routes) if self._has_routes else without_actions(given)
        self._enforcement = Enforcement(bound, options)
        self.started = StartUp(0, (), active_policies.guards(), ())
        if self._has_routes:
            self.started = look_over(bound, self._routes, self._enforcement.records)
            self.started.tell()
        self._enforcement.follow(watched, self._prepared)
        self._served: dict[tuple[str, str, int], Served] = {}

    def _prepared(self, changed: Policy) -> Policy:
        """A policy that has changed, as it is put in force."""
        if not self._has_routes:
            return without_actions(changed)
        return looked_over(changed, self._routes, self._enforcement.records)

    def request(
        self,
        method: str,
        path: str,
        headers: Iterable[tuple[str, str]] = (),
        *,
        query_string: str = "",
        own: Any = None,
        prefix: str = "",
        sender: str | None = None,
        socket: bool = False,
    ) -> Handling:
        """One request; use it with ``with``, or call `Handling.close` at its end.

        Args:
            method: as sent.
            path: as the client sent it, percent-encoded, without query and without the prefix.
            headers: names and values.
            query_string: as sent.
            own: the request as the application knows it, for `identify`, loaders and `page`; by default as
                `bloodroot.identity` knows it.
            prefix: what a server or a proxy puts before the path.
            sender: the address of the client.
            socket: whether it opens a WebSocket.
        """
        plain = PlainRequest(
            WEBSOCKET if socket else method,
            path,
            headers,
            query_string=query_string,
            prefix=prefix,
            sender=sender,
            is_handshake=socket,
        )
        return self.handling(plain, own)

    def handling(self, request: Any, own: Any = None) -> Handling:
        """The same for a request as `identify` gets it without a framework."""
        return Handling(self._enforcement, self._serve, request, own)

    def _serve(self, route: Route | str) -> Served:
        """What is known of a route, or of the first one that has an action of this name; worked out once."""
        if isinstance(route, str):
            found = next((each for each in self._routes if route in each.actions), None)
            if found is None:
                raise LookupError(f"no route has the action {route}")
            route = found
        served = self._served.get(route.key)
        if served is None:
            served = self._served[route.key] = self._enforcement.serve(route)
        return served


def driver_with(policy: Policy | Watched, routes: list[Route], options: EnforcementOptions) -> Driver:
    """A driver for a framework, made of the options of its ``protect``."""
    return Driver(
        policy,
        routes=routes,
        identify=options.identify,
        records=options.records,
        page=options.page,
        audit=options.audit,
        missing=options.missing,
        report_only=options.report_only,
    )


class Handling:
    """One request on its way through an application; `Driver.request` makes it.

    Attributes:
        headers_to_set: after `leave`, what the response is to have in the place of headers of the same names.
        left: for drivers: whether `leave` was asked.
        socket: whether it opens a WebSocket.
    """

    def __init__(
        self, enforcement: Enforcement, serve: Callable[[Route | str], Served], request: Any, own: Any = None
    ) -> None:
        self._exchange = Exchange(enforcement, request, _call)
        self._serve = serve
        self._own = request if own is None else own
        self._before: Token[Any] = _current.set(None)
        self._closed = False
        self.socket = self._exchange.socket = request.is_handshake
        self.headers_to_set: tuple[tuple[str, str], ...] = ()
        self.left = False

    def __enter__(self) -> Handling:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """The request is at its end: `current()` is no more this one."""
        if not self._closed:
            self._closed = True
            try:
                _current.reset(self._before)
            except ValueError:
                _current.set(None)  # it ends in another context than it began in

    @property
    def is_refused(self) -> bool:
        """Whether something was answered in the place of the application's response."""
        return self._exchange.refusing is not None

    @property
    def decision(self) -> Decision | None:
        """What was decided; None before `enter`, and where nothing had to be decided."""
        return self._exchange.access.decided if self._exchange.decided else None

    @property
    def caller(self) -> Caller | None:
        """Who asks, once that was decided; None for a signed-out caller."""
        return self._exchange.access.caller if self._exchange.decided else None

    def enter(
        self, route: Route | str | None = None, values: Mapping[str, Any] | None = None, *, missing: bool = False
    ) -> Response | None:
        """Decide the request, with its records, before its handler.

        Args:
            route: what serves it: a route, or the name of an action; None for what is decided by its path.
            values: the parameters of the path, as the application has read them.
            missing: whether nothing serves it: the application is going to answer 404, and nothing else may leave.

        Returns:
            What to answer in the place of the handler; None where that may run. `current()` is this request then.

        Raises:
            Exception: whatever ``identify`` or a loader raises; nothing may be served then.
        """
        return self._entered(run(self._steps(route, values, missing)))

    async def enter_async(
        self, route: Route | str | None = None, values: Mapping[str, Any] | None = None, *, missing: bool = False
    ) -> Response | None:
        """The same where ``identify`` or loaders may be async."""
        from .asgi import call_async  # with threads, which only async applications need

        self._exchange.call = call_async
        return self._entered(await self._steps(route, values, missing))

    def _steps(
        self, route: Route | str | None, values: Mapping[str, Any] | None, missing: bool
    ) -> Steps[Answer | None]:
        if missing and route is None:
            return self._exchange.decide_without_route(self._own, missing=True)
        return self._exchange.decide(self._own, self._serve(route) if route is not None else None, values)

    def _entered(self, answer: Answer | None) -> Response | None:
        if answer is not None:
            return self._instead(answer)
        if self._exchange.decided:
            _current.set(self._exchange.access)
        return None

    def refused_by(self, error: BaseException) -> Response | None:
        """What to answer to an exception of the handler; None for one that is no refusal, and the application's own."""
        answer = self._exchange.raised(error) if self._exchange.decided else None
        if answer is None:
            self._exchange.failed = True
            return None
        return self._instead(answer)

    def leave(
        self, status: int = 200, headers: Iterable[tuple[str, str]] = (), *, streams: bool = False
    ) -> Response | None:
        """Say that a response begins to leave. Nothing of it may have left before.

        Args:
            status: its status.
            headers: those that it has.
            streams: whether its body is still being made.

        Returns:
            What to answer in its place; None where it may leave, with `headers_to_set`.
        """
        exchange = self._exchange
        answer = self._in_place(status) if not self.is_refused else None
        if answer is not None:
            return self._instead(answer)
        lower = [(name.lower(), value) for name, value in headers]

        def sized() -> bool:
            return any(name == "content-length" for name, _ in lower)

        self.headers_to_set = tuple(leaving([exchange], status, lower, streams=streams, sized=sized))
        return None

    def _in_place(self, status: int) -> Answer | None:
        """What goes in the place of a response with a status; None where that may leave."""
        exchange = self._exchange
        if not exchange.decided and not (exchange.unserved and status == 404):
            log.error("%s %s was not decided, so nothing leaves", exchange.request.method, exchange.request.path)
            return responses.UNSETTLED
        answer = exchange.responded(status) if exchange.decided else None
        if answer is None and status == 404 and exchange.policy.hides and not exchange.observes:
            # What a page that is missing looks like is known of our own page alone.
            return responses.MISSING
        return answer

    def _instead(self, answer: Answer) -> Response:
        self._exchange.refuse(answer)
        response = self._exchange.response(answer, self._own)
        if self._exchange.request.method == "HEAD":
            return Response(response.status, response.headers, b"")
        return response


def _call(function: Callable[..., Any], arguments: tuple[Any, ...], _: bool) -> Any:
    result = function(*arguments)
    if inspect.iscoroutine(result):
        result.close()
        raise TypeError(f"{function!r} is async; call enter_async, or make it a plain function")
    return result
