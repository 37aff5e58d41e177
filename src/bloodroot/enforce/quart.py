"""Quart: the policy between the URL map of an application and its views."""

from __future__ import annotations

import functools
from collections.abc import Awaitable, Callable, Sequence
from typing import Any

import quart
from werkzeug.exceptions import HTTPException, NotFound

from ..core.binding import Route
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import AsgiRequest
from .audit import Audit
from .driver import Driver, Handling, driver_with
from .enforcement import EnforcementOptions, Identify, Page
from .flask_routes import described
from .loaders import Records
from .responses import Response
from .startup import StartUp

__all__ = ["protect", "routes"]


def routes(app: quart.Quart) -> list[Route]:
    """Every route of an application, its action named as Quart names the endpoint: ``view`` or ``blueprint.view``."""
    return [described(app, rule) for rule in app.url_map.iter_rules()]


def protect(
    app: quart.Quart,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the URL map of an application and its views, once all routes are declared.

    Each request, and each WebSocket, is decided in Quart's own context, after every ``before_request`` function and
    before the view. What these functions answer by themselves is answered without the policy.

    Args:
        app: the application.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets ``quart.request``, or ``quart.websocket``.
        records: as `Driver`. A plain function runs in a thread, an ``async`` one is awaited.
        page: as `Driver`.
        audit: as `Driver`.
        report_only: as `Driver`.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard requires what the policy does not know.
        StartUpError: something is declared that could never take effect.
    """
    options = EnforcementOptions(identify, records, page, audit, report_only, missing=_is_missing)
    driver = driver_with(policy, routes(app), options)
    gate = _Gate(app, driver)
    http, socket = gate.dispatch(app.dispatch_request, lambda: quart.request), app.dispatch_websocket
    vars(app).update(dispatch_request=http, dispatch_websocket=gate.dispatch(socket, lambda: quart.websocket))
    return driver.started


class _Gate:
    def __init__(self, app: quart.Quart, driver: Driver) -> None:
        self._app = app
        self._driver = driver
        self._described: dict[int, tuple[Any, Route]] = {}

    def dispatch(self, inner: Callable[..., Awaitable[Any]], proxy: Callable[[], Any]) -> Callable[..., Awaitable[Any]]:
        """Decide before the view is called, and see whether what it gives may leave."""

        async def dispatch(*context: Any) -> Any:
            sent = proxy()._get_current_object()
            with self._driver.handling(AsgiRequest(sent.scope), sent) as handling:
                rule, error = sent.url_rule, sent.routing_exception
                is_own = sent.scope["type"] == "http" and sent.method == "OPTIONS" and rule is not None
                if rule is None or (is_own and getattr(rule, "provide_automatic_options", False)):
                    refused = await handling.enter_async(missing=isinstance(error, NotFound))
                else:
                    refused = await handling.enter_async(self._route(rule), sent.view_args)
                if refused is not None:
                    return _response(refused)
                return await self._handled(handling, inner, context)

        return dispatch

    def _route(self, rule: Any) -> Route:
        known = self._described.get(id(rule))
        if known is None:
            known = self._described[id(rule)] = rule, described(self._app, rule)
        return known[1]

    async def _handled(self, handling: Handling, inner: Callable[..., Awaitable[Any]], context: Any) -> Any:
        try:
            result = await inner(*context)
        except HTTPException as error:
            refused = handling.leave(error.code or 500)
            if refused is None:
                headers = dict(handling.headers_to_set)
                if not handling.socket:
                    quart.after_this_request(functools.partial(_with_headers, headers))
                raise
            return _response(refused)
        except Exception as error:
            refused = handling.refused_by(error)
            if refused is None:
                raise
            return _response(refused)
        if handling.socket:
            return result
        response = await self._app.make_response(result)
        streams = not isinstance(getattr(response, "response", None), quart.wrappers.response.DataBody)
        refused = handling.leave(response.status_code, response.headers.items(), streams=streams)
        if refused is not None:
            return _response(refused)
        response.headers.update(dict(handling.headers_to_set))
        return response


def _with_headers(headers: dict[str, str], response: Any) -> Any:
    response.headers.update(headers)
    return response


def _response(refused: Response) -> quart.Response:
    return quart.Response(refused.body, refused.status, dict(refused.headers))


def _is_missing(error: Exception) -> bool:
    return isinstance(error, NotFound)
