"""What handlers of other frameworks do that could get past a policy: parts, classes, streams, sinks, later routes."""

import logging
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import falcon
import quart
import quart.views
import sanic
from aiohttp import web
from sanic.response import text
from sanic.views import HTTPMethodView

import bloodroot
from bloodroot.enforce import aiohttp as for_aiohttp
from bloodroot.enforce import falcon as for_falcon
from bloodroot.enforce import quart as for_quart
from bloodroot.enforce import sanic as for_sanic
from tests.frameworks.potteries import serving_aiohttp, who
from tests.servers import ask, serving, serving_wsgi

ran: list[str] = []
FORGETS = 'own accept record-not-settled "forgets to settle"'
# What a signed-out caller, a member and a keeper get, and whether the handler has run for them.
NO, MEMBER, KEEPER = ((403, 403, 403), ""), ((401, 200, 200), " mk"), ((401, 403, 200), " -k")
OPEN = ((401, 500, 500), " mk")


def policy(lines: str) -> bloodroot.Policy:
    head = "roles\n  member\n  keeper includes member\nconditions\n  own record.owner == caller.id\nendpoints\n"
    return bloodroot.parse(head + "".join(f"  {line}\n" for line in map(str.strip, lines.strip().splitlines())))


def note(name: str) -> str:
    ran.append(name)
    return f"secret {name}"


class Inside(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)

    def hold(self, serve: Callable[[Any], Any], app: Any, cells: dict[str, tuple[tuple[int, int, int], str]]) -> None:
        with serve(app) as port:
            for asked, (statuses, runs) in cells.items():
                method, path = asked.split()
                for number, name in enumerate((None, "ash", "hazel")):
                    with self.subTest(asked, name=name):
                        ran.clear()
                        status, headers, body = ask(port, method, path, **({"x_who": name} if name else {}))
                        self.assertEqual(status, statuses[number])
                        self.assertEqual(bool(ran), number > 0 and runs[number : number + 1] in ("m", "k"))
                        self.assertEqual("secret" in body, status == 200 and method != "HEAD")
                        self.assertNotIn("x-secret", headers)

    def test_aiohttp(self) -> None:
        class View(web.View):
            async def get(self) -> Any:
                return web.Response(text=note("get"))

            async def put(self) -> Any:
                return web.Response(text=note("put"))

        async def plain(request: web.Request) -> Any:
            return web.Response(text=note("plain"))

        async def stream(request: web.Request) -> Any:
            note("stream")
            response = web.StreamResponse(headers={"x-secret": "1"} if request.path == "/own" else {})
            await response.prepare(request)
            await response.write(b"secret")
            return response

        inner = web.Application()
        inner.router.add_get("/x", plain, name="inner")
        inner.router.add_get("/{tail:.*}", plain, name="tail")
        app = web.Application()
        app.router.add_view("/v", View, name="v")
        app.router.add_route("*", "/any", plain, name="any")
        app.router.add_get("/stream", stream, name="stream")
        app.router.add_get("/own", stream, name="own")
        app.add_subapp("/sub/", inner)
        lines = f"""
            action v.get member
            action v.put keeper
            GET /any member
            action stream member
            action own {FORGETS}
            action inner keeper
        """
        for_aiohttp.protect(app, policy(lines), identify=who)
        cells = {"GET /v": MEMBER, "PUT /v": KEEPER, "POST /v": NO, "GET /any": MEMBER, "POST /any": NO}
        cells |= {
            "GET /stream": MEMBER,
            "GET /own": OPEN,
            "GET /sub/x": KEEPER,
            "HEAD /sub/x": KEEPER,
            "GET /sub/y": NO,
        }
        self.hold(serving_aiohttp, app, cells)

    def test_falcon(self) -> None:
        class Piece:
            def on_get(self, request: Any, response: Any) -> None:
                response.text = note("list")

            def on_get_one(self, request: Any, response: Any, piece: int) -> None:
                response.media = note("one")

            def on_put_one(self, request: Any, response: Any, piece: int) -> None:
                response.text = note("put")

            def on_get_own(self, request: Any, response: Any) -> None:
                response.set_header("x-secret", "1")
                response.stream = iter([note("own").encode()])

        def sink(request: Any, response: Any) -> None:
            response.text = note("sink")

        app = falcon.App()
        for path, suffix in (("/pieces", None), ("/pieces/{piece:int}", "one"), ("/own", "own")):
            app.add_route(path, Piece(), suffix=suffix)
        app.add_sink(sink, "/sink")
        app.add_static_route("/static", Path(__file__).parent)
        lines = f"""
            action Piece.get member
            action Piece.get_one keeper
            action Piece.get_own {FORGETS}
            GET /sink/** keeper
        """
        for_falcon.protect(app, policy(lines), identify=who)
        cells = {"GET /pieces": MEMBER, "GET /pieces/3": KEEPER, "PUT /pieces/3": NO, "GET /own": OPEN}
        self.hold(
            serving_wsgi,
            app,
            {**cells, "GET /sink/a": KEEPER, "POST /sink/a": NO, "GET /sinkhole": NO, "GET /static/test_inside.py": NO},
        )

    def test_quart(self) -> None:
        app = quart.Quart("inside", static_folder=None)

        class View(quart.views.MethodView):
            async def get(self) -> str:
                return note("get")

            async def put(self) -> str:
                return note("put")

        @app.get("/own")
        async def own() -> Any:
            async def pieces() -> Any:
                yield "secret"

            note("own")
            return pieces(), 200, {"x-secret": "1"}

        app.add_url_rule("/v", view_func=View.as_view("v"))
        for_quart.protect(app, policy(f"action v.get member\naction v.put keeper\naction own {FORGETS}"), identify=who)
        cells = {
            "GET /v": MEMBER,
            "HEAD /v": MEMBER,
            "PUT /v": KEEPER,
            "OPTIONS /v": NO,
            "GET /own": OPEN,
            "POST /own": NO,
        }
        self.hold(serving, app, cells)

    def test_sanic(self) -> None:
        app = sanic.Sanic("inside")
        app.config.TOUCHUP = False  # it can be done to one application in a process

        class View(HTTPMethodView):
            async def get(self, request: Any) -> Any:
                return text(note("get"))

            async def put(self, request: Any) -> Any:
                return text(note("put"))

        async def plain(request: Any, **values: str) -> Any:
            return text(note("plain"))

        async def stream(request: Any) -> None:
            note("stream")
            response = await request.respond(headers={"x-secret": "1"} if request.path == "/own" else {})
            await response.send("secret")

        app.add_route(View.as_view(), "/v")
        app.add_route(stream, "/stream", name="stream")
        app.add_route(stream, "/own", name="own")
        app.add_route(plain, "/files/<rest:path>", name="files")
        lines = f"""
            action View.get member
            action View.put keeper
            action stream member
            action own {FORGETS}
            GET /files/** keeper
            GET /late keeper accept line-without-endpoint "added later"
        """
        for_sanic.protect(app, policy(lines), identify=who)
        app.add_route(plain, "/late", name="late")
        app.add_route(plain, "/later", name="later")
        cells = {"GET /v": MEMBER, "PUT /v": KEEPER, "POST /v": NO, "GET /stream": MEMBER, "GET /own": OPEN}
        cells |= {"GET /files/a/b": KEEPER, "GET /late": KEEPER, "GET /later": NO}
        self.hold(lambda served: serving(served, lifespan="on"), app, cells)
