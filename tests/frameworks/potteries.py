"""One small application, written for frameworks that the adapters know beside the four with a driver of their own kind."""

import asyncio
import contextlib
import functools
import socket
import threading
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import aiohttp.web
import falcon
import falcon.asgi
import fastapi
import flask
import litestar
import litestar.handlers
import quart
import sanic
import sanic.response
import starlette.routing
from litestar.params import FromPath
from litestar.response import Response as LitestarResponse
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import aiohttp as for_aiohttp
from bloodroot.enforce import current, guard
from bloodroot.enforce import falcon as for_falcon
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import litestar as for_litestar
from bloodroot.enforce import quart as for_quart
from bloodroot.enforce import sanic as for_sanic
from bloodroot.enforce import starlette as for_starlette
from tests.servers import serving, serving_wsgi

TEXT = """
policy "Pottery"
roles
  member
  keeper  includes member
conditions
  own  record.owner == caller.id
endpoints
  GET        /open            anyone
  GET        /pieces          member
  GET        /pieces/{piece}  (member and own) or keeper
  PUT        /pieces/{piece}  keeper
  GET        /memos           guarded  accept guard-missing "found by its name"
  PATCH      /pieces/{piece}  member
  GET        /broken          keeper
  GET        /staff/kilns     keeper
  WEBSOCKET  /live            keeper
denials
  /staff/**  any  hide
fields piece
  *  change keeper
"""
POLICY = bloodroot.parse(TEXT, "pottery.bloodroot")
CALLERS = {"ash": Caller(1, {"member"}), "hazel": Caller(2, {"keeper"})}
PIECES = {"1": {"owner": 1}, "2": {"owner": 9}}
RECORDS = {"piece": PIECES.get}


def who(request: Any) -> Caller | None:
    """By a header, that each framework has somewhere else."""
    headers = request.headers
    return CALLERS.get(headers.get("x-who") or headers.get("X-WHO"))


@guard("keeper", policy=POLICY)
def memos() -> str:
    return "memos"


def changed(piece: str) -> str:
    current().change("piece", PIECES.get(piece, {}), {"name": "x"})
    return f"changed {piece}"


def broken() -> str:
    raise ZeroDivisionError("the kiln is cold")


# What serves each method and path; a parameter is given where the path has one.
SERVED: list[tuple[str, str, Callable[..., str]]] = [
    ("GET", "/open", lambda: "open"),
    ("GET", "/pieces", lambda: "pieces"),
    ("GET", "/pieces/{piece}", lambda piece: f"piece {piece}"),
    ("PUT", "/pieces/{piece}", lambda piece: f"put {piece}"),
    ("PATCH", "/pieces/{piece}", changed),
    ("GET", "/memos", memos),
    ("GET", "/broken", broken),
    ("GET", "/closed", lambda: "closed"),
    ("GET", "/staff/kilns", lambda: "kilns"),
]
HOW: dict[str, Any] = {"identify": who, "records": RECORDS}


class Made(NamedTuple):
    """An application, what says its routes, and what serves it on loopback."""

    app: Any
    routes: Any
    serve: Callable[[Any], contextlib.AbstractContextManager[int]]


def of_starlette(*, protected: bool = True) -> Made:
    def handler(work: Callable[..., str]) -> Any:
        async def view(request: Any) -> PlainTextResponse:
            return PlainTextResponse(work(**request.path_params))

        return view

    async def live(there: Any) -> None:
        await there.accept()
        await there.send_text("live")

    routes: list[Any] = [
        starlette.routing.Route(path, handler(work), methods=[method], name=_name(method, path))
        for method, path, work in SERVED
    ]
    app = Starlette(routes=[*routes, starlette.routing.WebSocketRoute("/live", live)])
    if protected:
        for_starlette.protect(app, POLICY, **HOW)
    return Made(app, for_starlette.routes, serving)


def of_fastapi(*, protected: bool = True) -> Made:
    app = fastapi.FastAPI(docs_url=None, redoc_url=None, openapi_url=None)

    def handler(path: str, work: Callable[..., str]) -> Any:
        async def one(piece: str) -> PlainTextResponse:
            return PlainTextResponse(work(piece=piece))

        async def plain() -> PlainTextResponse:
            return PlainTextResponse(work())

        return one if "{" in path else plain

    for method, path, work in SERVED:
        app.add_api_route(path, handler(path, work), methods=[method], name=_name(method, path))

    @app.websocket("/live")
    async def live(there: fastapi.WebSocket) -> None:
        await there.accept()
        await there.send_text("live")

    if protected:
        for_fastapi.protect(app, POLICY, **HOW)
    return Made(app, for_fastapi.routes, serving)


def of_flask(*, protected: bool = True) -> Made:
    app = flask.Flask("pottery", static_folder=None)

    def handler(work: Callable[..., str]) -> Any:
        return lambda **values: work(**values)

    for method, path, work in SERVED:
        rule = path.replace("{", "<").replace("}", ">")
        app.add_url_rule(rule, _name(method, path), handler(work), methods=[method], provide_automatic_options=False)
    if protected:
        for_flask.protect(app, POLICY, **HOW)
    return Made(app, for_flask.routes, serving_wsgi)


def of_aiohttp(*, protected: bool = True) -> Made:
    app = aiohttp.web.Application()

    def handler(work: Callable[..., str]) -> Any:
        async def view(request: aiohttp.web.Request) -> aiohttp.web.Response:
            return aiohttp.web.Response(text=work(**request.match_info))

        return view

    async def live(request: aiohttp.web.Request) -> aiohttp.web.WebSocketResponse:
        there = aiohttp.web.WebSocketResponse()
        await there.prepare(request)
        await there.send_str("live")
        await there.close()
        return there

    for method, path, work in SERVED:
        app.router.add_route(method, path, handler(work), name=_name(method, path))
    app.router.add_route("GET", "/live", live, name="live")
    if protected:
        for_aiohttp.protect(app, POLICY, **HOW)
    return Made(app, for_aiohttp.routes, serving_aiohttp)


def of_quart(*, protected: bool = True) -> Made:
    app = quart.Quart("pottery", static_folder=None)

    def handler(work: Callable[..., str]) -> Any:
        async def view(**values: str) -> str:
            return work(**values)

        return view

    for method, path, work in SERVED:
        rule = path.replace("{", "<").replace("}", ">")
        app.add_url_rule(rule, _name(method, path), handler(work), methods=[method])

    @app.websocket("/live")
    async def live() -> None:
        await quart.websocket.send("live")

    if protected:
        for_quart.protect(app, POLICY, **HOW)
    return Made(app, for_quart.routes, serving)


def _resources(wrap: Callable[[Callable[..., str]], Any]) -> dict[str, Any]:
    by_path: dict[str, dict[str, Any]] = {}
    for method, path, work in SERVED:
        by_path.setdefault(path, {})[f"on_{method.lower()}"] = wrap(work)
    names = {
        path: "".join(part.title() for part in path.strip("/").split("/")).replace("{", "").replace("}", "One")
        for path in by_path
    }
    return {path: type(names[path], (), members)() for path, members in by_path.items()}


def of_falcon(*, protected: bool = True) -> Made:
    app = falcon.App()

    def handler(work: Callable[..., str]) -> Any:
        def on_method(self: Any, request: Any, response: Any, **values: str) -> None:
            response.text = work(**values)

        return on_method

    for path, resource in _resources(handler).items():
        app.add_route(path, resource)
    if protected:
        for_falcon.protect(app, POLICY, **HOW)
    return Made(app, for_falcon.routes, serving_wsgi)


def of_falcon_asgi(*, protected: bool = True) -> Made:
    app = falcon.asgi.App()

    def handler(work: Callable[..., str]) -> Any:
        async def on_method(self: Any, request: Any, response: Any, **values: str) -> None:
            response.text = work(**values)

        return on_method

    class Live:
        async def on_websocket(self, request: Any, there: Any) -> None:
            await there.accept()
            await there.send_text("live")

    for path, resource in _resources(handler).items():
        app.add_route(path, resource)
    app.add_route("/live", Live())
    if protected:
        for_falcon.protect(app, POLICY, **HOW)
    return Made(app, for_falcon.routes, serving)


def of_sanic(*, protected: bool = True) -> Made:
    app = sanic.Sanic(f"pottery-{len(sanic.Sanic._app_registry)}")
    app.config.TOUCHUP = False  # it can be done to one application in a process

    def handler(work: Callable[..., str]) -> Any:
        async def view(request: Any, **values: str) -> Any:
            return sanic.response.text(work(**values))

        return view

    for method, path, work in SERVED:
        rule = path.replace("{", "<").replace("}", ":str>")
        app.add_route(handler(work), rule, methods=[method], name=_name(method, path))

    @app.websocket("/live")
    async def live(request: Any, there: Any) -> None:
        await there.send("live")

    if protected:
        for_sanic.protect(app, POLICY, **HOW)
    return Made(app, for_sanic.routes, functools.partial(serving, lifespan="on"))


def of_litestar(*, protected: bool = True) -> Made:
    def handler(method: str, path: str, work: Callable[..., str]) -> Any:
        async def view() -> Any: ...

        if "{" in path:

            async def view(piece: FromPath[str]) -> Any:
                return LitestarResponse(work(piece=piece), media_type="text/plain")
        else:

            async def view() -> Any:
                return LitestarResponse(work(), media_type="text/plain")

        kind = litestar.handlers.route
        return kind(path.replace("}", ":str}"), http_method=[method], name=_name(method, path))(view)

    @litestar.handlers.websocket("/live")
    async def live(socket: litestar.WebSocket) -> None:
        await socket.accept()
        await socket.send_text("live")
        await socket.close()

    app = litestar.Litestar(
        [*(handler(*each) for each in SERVED), live], openapi_config=None, debug=False, logging_config=None
    )
    if protected:
        for_litestar.protect(app, POLICY, settles=["GET /memos"], **HOW)
    return Made(app, for_litestar.routes, serving)


# Those that are served under WSGI, which has no sockets.
WSGI = ("Falcon", "Flask")


def _name(method: str, path: str) -> str:
    return f"{method.lower()}_" + "_".join(part.strip("{}") for part in path.strip("/").split("/"))


@contextlib.contextmanager
def serving_aiohttp(app: Any) -> Iterator[int]:
    """An application of aiohttp on loopback; gives its port."""
    loop, listener = asyncio.new_event_loop(), socket.socket()
    listener.bind(("127.0.0.1", 0))

    async def begin() -> aiohttp.web.AppRunner:
        runner = aiohttp.web.AppRunner(app, access_log=None)
        await runner.setup()
        await aiohttp.web.SockSite(runner, listener).start()
        return runner

    runner = loop.run_until_complete(begin())
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield listener.getsockname()[1]
    finally:
        asyncio.run_coroutine_threadsafe(runner.cleanup(), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)
        loop.close()


ALL: dict[str, Callable[..., Made]] = {
    "FastAPI": of_fastapi,
    "Flask": of_flask,
    "Starlette": of_starlette,
    "aiohttp": of_aiohttp,
    "Falcon": of_falcon,
    "Falcon on ASGI": of_falcon_asgi,
    "Litestar": of_litestar,
    "Quart": of_quart,
    "Sanic": of_sanic,
}
