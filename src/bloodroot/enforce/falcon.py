"""Falcon, under WSGI and ASGI: the policy between the router of an application and its responders."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import falcon
import falcon.asgi
from falcon.responders import path_not_found, path_not_found_async

from ..core.binding import Operation, Route, RouteKind
from ..core.policy import Policy
from ..file_changes import Watched
from ..request import READERS, AsgiRequest, WsgiRequest
from .audit import Audit
from .driver import Driver, Handling, driver_with
from .enforcement import EnforcementOptions, Identify, Page
from .guards import guards_of, with_guards
from .loaders import Records
from .responses import Response
from .startup import StartUp
from .wsgi import check_headers

__all__ = ["protect", "routes"]

_FIELD = re.compile(r"\{(\w+)(?::(\w+)(?:\([^()]*\))?)?\}")


def routes(app: Any) -> list[Route]:
    """Every route of an application, its action named after resource and responder: ``Piece.get`` for ``on_get``."""
    found = [route for node in app._router._roots for route in _nodes(node)]
    for static, *_ in getattr(app, "_static_routes", ()):
        prefix = str(getattr(static, "_prefix", "/")).rstrip("/")
        found.append(Route(f"{prefix}/**", ("GET",), f"{prefix}/**", None, f"{prefix}/...", kind=RouteKind.STATIC))
    for pattern, sink, *_ in getattr(app, "_sinks", ()):
        spelling = str(getattr(pattern, "pattern", pattern))
        name = str(getattr(sink, "__name__", "sink"))
        found.append(with_guards(Route(name, (), "/**", None, spelling, False, (), sink), guards_of(sink), sink))
    return found


def _nodes(node: Any) -> Iterator[Route]:
    if node.resource is not None and node.method_map:
        yield _described(str(node.uri_template), node.resource, node.method_map)
    for child in node.children:
        yield from _nodes(child)


def _described(template: str, resource: Any, method_map: dict[str, Any]) -> Route:
    names = tuple(match[1] for match in _FIELD.finditer(template))
    path, exact = _FIELD.sub(r"{\1}", template), True
    long = next((match for match in _FIELD.finditer(template) if match[2] == "path"), None)
    if long is not None:
        path = template[: long.start()]
        exact = path.endswith("/") and long.end() == len(template)
        path = _FIELD.sub(r"{\1}", path[: path.rfind("/") + 1]) + "**"
    name = type(resource).__name__
    own = {
        method: responder
        for method, responder in method_map.items()
        if method != "WEBSOCKET" and not str(getattr(responder, "__module__", "")).startswith("falcon.")
    }
    if "WEBSOCKET" in method_map and hasattr(resource, "on_websocket"):
        own["WEBSOCKET"] = method_map["WEBSOCKET"]
    # With a suffix, one resource has several functions for a method: ``on_get`` and ``on_get_piece``.
    operations = tuple(
        Operation(f"{name}.{getattr(each, '__name__', method.lower()).removeprefix('on_')}", (method,), each)
        for method, each in own.items()
    )
    methods = tuple(sorted(own))
    route = Route(name, methods, path.rstrip("/") or "/", None, template, exact, names, resource, operations=operations)
    return with_guards(route, (), resource)


def protect(
    app: Any,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the router of an application and its responders, once all routes are declared.

    Each request is decided by the responder that Falcon has chosen, behind all middleware; sinks, static files and
    what no route serves are decided by their paths.

    Args:
        app: a ``falcon.App`` or ``falcon.asgi.App``.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets Falcon's own request. Under WSGI it is a plain function.
        records: as `Driver`.
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
    found = routes(app)
    is_async = isinstance(app, falcon.asgi.App)
    if not is_async:
        check_headers(identify)
    driver = driver_with(policy, found, options)
    by_template = {(route.spelling, id(route.handler)): route for route in found}
    kind: Any = type(app)
    around = _around_async if is_async else _around

    class Guarded(kind):  # type: ignore[misc]
        """The application, with a gate around each responder that its router chooses."""

        __slots__ = ()

        def _get_responder(self, request: Any) -> Any:
            responder, params, resource, template = super()._get_responder(request)
            route = by_template.get((str(template), id(resource))) if resource is not None else None
            missing = resource is None and responder in (path_not_found, path_not_found_async)
            return around(driver, responder, route, missing), params, resource, template

    app.__class__ = Guarded
    return driver.started


def _around(driver: Driver, responder: Callable[..., Any], route: Route | None, missing: bool) -> Callable[..., Any]:
    def decided(request: Any, response: Any, **params: Any) -> Any:
        with driver.handling(WsgiRequest(request.env), request) as handling:
            refused = handling.enter(route, params or None, missing=missing)
            if refused is not None:
                return _answer(response, refused)
            try:
                result = responder(request, response, **params)
            except Exception as error:
                return _after(handling, response, error)
            _leave(handling, response)
            return result

    return decided


def _around_async(
    driver: Driver, responder: Callable[..., Any], route: Route | None, missing: bool
) -> Callable[..., Any]:
    async def decided(request: Any, response: Any, **params: Any) -> Any:
        with driver.handling(AsgiRequest(request.scope), request) as handling:
            refused = await handling.enter_async(route, params or None, missing=missing)
            if handling.socket:
                if refused is not None:
                    return await response.close(1008)
                return await responder(request, response, **params)
            if refused is not None:
                return _answer(response, refused)
            try:
                result = await responder(request, response, **params)
            except Exception as error:
                return _after(handling, response, error)
            _leave(handling, response)
            return result

    return decided


def _after(handling: Handling, response: Any, error: Exception) -> None:
    """Answer to an exception of a responder, or raise it again."""
    if isinstance(error, falcon.HTTPError | falcon.HTTPStatus):
        refused = handling.leave(falcon.http_status_to_code(error.status))
    else:
        refused = handling.refused_by(error)
    if refused is None:
        # What is made of the error keeps these.
        for name, value in handling.headers_to_set:
            response.set_header(name, value)
        raise error
    _answer(response, refused)


def _leave(handling: Handling, response: Any) -> None:
    status = falcon.http_status_to_code(response.status)
    refused = handling.leave(status, response.headers.items(), streams=response.stream is not None)
    if refused is not None:
        _answer(response, refused)
    else:
        for name, value in handling.headers_to_set:
            response.set_header(name, value)


def _answer(response: Any, refused: Response) -> None:
    """Answer in the place of a responder: nothing of what it has set goes out."""
    response.status = refused.status
    response._headers.clear()
    response._cookies = None
    response.media = response.text = response.stream = None
    response.data = refused.body
    for name, value in refused.headers:
        response.set_header(name, value)
    response.complete = True


def _is_missing(error: Exception) -> bool:
    return isinstance(error, falcon.HTTPNotFound)


READERS[falcon.Request] = lambda request: WsgiRequest(request.env)
READERS[falcon.asgi.Request] = lambda request: AsgiRequest(request.scope)
