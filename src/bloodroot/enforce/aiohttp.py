"""aiohttp: the policy as the innermost middleware of an application."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, Iterator, Sequence
from typing import Any
from urllib.parse import urlsplit

from aiohttp import web

from ..core.binding import Route, RouteKind
from ..core.methods import WEBSOCKET
from ..core.policy import Policy
from ..file_changes import Watched
from ..language.errors import BloodrootError
from ..request import READERS, PlainRequest
from .audit import Audit
from .driver import Handling, driver_with
from .enforcement import EnforcementOptions, Identify, Page
from .guarded_classes import handlers_of
from .guards import guards_of, with_guards
from .loaders import Records
from .operations import operations_of
from .responses import Response
from .segments import is_one_segment
from .start_checks import mentions
from .startup import StartUp

__all__ = ["protect", "routes"]

_GROUP = re.compile(r"\(\?P<(\w+)>((?:[^()]|\([^()]*\))*)\)")
# Newer versions want a key with a type.
_KEY: Any = getattr(web, "RequestKey", None)
_HANDLING: Any = _KEY("bloodroot.handling", Handling) if _KEY is not None else "bloodroot.handling"


def routes(app: web.Application) -> list[Route]:
    """Every route of an application and of those added to it, its action named by ``name=``, or by its handler."""
    return [_described(route) for route in _without_heads(app.router.routes())]


def _without_heads(found: Any) -> Iterator[Any]:
    """Routes without those for HEAD that stand beside one for GET, as aiohttp adds them."""
    every = list(found)
    gets = {(id(each.resource), id(each.handler)) for each in every if each.method == "GET"}
    return (each for each in every if each.method != "HEAD" or (id(each.resource), id(each.handler)) not in gets)


def _described(route: Any) -> Route:
    resource, handler = route.resource, route.handler
    info = resource.get_info() if resource is not None else {}
    name = str((resource.name if resource is not None else None) or getattr(handler, "__name__", "handler"))
    if "directory" in info:
        path = f"{str(info['prefix']).rstrip('/')}/**"
        return Route(name, ("GET",), path, None, path, names=("filename",), handler=handler, kind=RouteKind.STATIC)
    path, exact = str(resource.canonical), True
    pattern = info.get("pattern")
    groups = {match[1]: match[2] for match in _GROUP.finditer(pattern.pattern)} if pattern is not None else {}
    long = [name for name, regex in groups.items() if not is_one_segment(regex)]
    if long:
        start = path[: path.index("{" + long[0])]
        exact = path.endswith("{" + long[0] + "}") and start.endswith("/")
        path = start[: start.rfind("/") + 1] + "**"
    methods: tuple[str, ...] = () if route.method == "*" else (route.method,)
    if isinstance(handler, type):
        methods = tuple(sorted(each.upper() for each in handlers_of(handler)))
    elif "GET" in methods and mentions(handler, ("WebSocketResponse",)):
        # A handler for handshakes is like one for pages, but for what it answers.
        both = mentions(handler, ("Response", "FileResponse", "json_response"))
        methods = ("GET", WEBSOCKET) if both else (WEBSOCKET,)
    found = Route(
        name,
        methods,
        path.rstrip("/") or "/",
        None,
        str(resource.canonical),
        exact,
        tuple(groups),
        handler,
        operations=operations_of(handler, name, methods),
    )
    return with_guards(found, guards_of(handler), handler)


def protect(
    app: web.Application,
    policy: Policy | Watched,
    *,
    identify: Identify,
    records: Records | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
    report_only: bool | Sequence[str] = False,
) -> StartUp:
    """Put a policy between the router of an application and its handlers, once all routes are declared.

    Each request is decided by the route that aiohttp has chosen, behind all middleware of the application: what these
    answer by themselves is answered without the policy. A WebSocket is a GET with a handshake, and is decided by the
    lines for ``WEBSOCKET``.

    Args:
        app: the application, not started yet.
        policy: what decides, or what `bloodroot.watched` gives, so that changes of its file take effect.
        identify: as `Driver`; it gets aiohttp's own request.
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
    found = routes(app)
    driver = driver_with(policy, found, options)
    described = {id(route): _described(route) for route in app.router.routes()}

    @web.middleware
    async def decide(request: web.Request, handler: Callable[[web.Request], Awaitable[Any]]) -> Any:
        with driver.handling(_request_of(request), request) as handling:
            request[_HANDLING] = handling
            match = request.match_info
            error = match.http_exception
            refused = await handling.enter_async(
                described.get(id(match.route)), dict(match) or None, missing=error is not None and error.status == 404
            )
            if refused is None:
                return await _handled(handling, request, handler)
            return _response(refused)

    app.middlewares.append(decide)
    app.on_response_prepare.append(_begins)
    return driver.started


async def _begins(request: web.Request, response: web.StreamResponse) -> None:
    """Where a handler has begun its response itself, that response leaves now, or does not."""
    handling = request.get(_HANDLING)
    if handling is not None and not handling.left:
        refused = handling.leave(response.status, response.headers.items(), streams=True)
        handling.left = True
        if refused is not None:
            raise _Refused(refused)
        response.headers.update(handling.headers_to_set)


class _Refused(BloodrootError):
    """A response that a handler has begun may not leave."""

    def __init__(self, refused: Response) -> None:
        self.refused = refused
        super().__init__("the response is withheld")


async def _handled(handling: Handling, request: web.Request, handler: Callable[[web.Request], Awaitable[Any]]) -> Any:
    try:
        response = await handler(request)
    except _Refused as error:
        # The response that had begun may have said that the body comes in pieces.
        vars(request)["_payload_writer"].chunked = False
        return _response(error.refused)
    except web.HTTPException as error:
        refused = handling.leave(error.status, error.headers.items())
        handling.left = True
        if refused is not None:
            return _response(refused)
        error.headers.update(handling.headers_to_set)
        raise
    except Exception as error:
        refused = handling.refused_by(error) if not handling.left else None
        if refused is None:
            raise
        handling.left = True
        return _response(refused)
    if not handling.left:
        refused = handling.leave(
            response.status, response.headers.items(), streams=not isinstance(response, web.Response)
        )
        handling.left = True
        if refused is not None:
            return _response(refused)
        response.headers.update(handling.headers_to_set)
    return response


def _request_of(request: web.Request) -> PlainRequest:
    raw = request.raw_path.split("?", 1)[0]
    if not raw.startswith("/"):
        raw = urlsplit(raw).path or "/"
    upgrade = request.headers.get("upgrade", "").lower() == "websocket" and request.method == "GET"
    return PlainRequest(
        WEBSOCKET if upgrade else request.method,
        raw,
        request.headers.items(),
        query_string=request.query_string,
        sender=request.remote,
        is_handshake=upgrade,
    )


READERS[web.Request] = _request_of


def _response(refused: Response) -> web.Response:
    return web.Response(status=refused.status, headers=dict(refused.headers), body=refused.body)


def _is_missing(error: Exception) -> bool:
    return isinstance(error, web.HTTPNotFound)
