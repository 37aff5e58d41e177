"""What enforcement promises beside its decisions: about time, threads, sockets, streams, transactions and caches."""

import asyncio
import contextlib
import logging
import tempfile
import threading
import time
import types
import unittest
from collections.abc import Iterator
from typing import Any

import django.db
import flask
import httpx
import pydantic
import trio
import websockets.sync.client
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import path
from django.views.decorators.cache import cache_page
from django.views.decorators.http import require_GET
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse, StreamingResponse
from starlette.routing import Route, WebSocketRoute

import bloodroot
from bloodroot import Caller
from bloodroot.core.fields import FieldsRefused
from bloodroot.enforce import asgi, current, on_behalf_of, wsgi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from bloodroot.enforce.django_checks import check_access
from bloodroot.identity import load
from tests.django_project import configure, project
from tests.program import InFolder
from tests.servers import ask, serving, serving_wsgi

POLICY = bloodroot.parse("""
roles
  keeper
conditions
  own  record.owner == caller.id
endpoints
  GET WEBSOCKET /live   signed-in
  GET /open             anyone
  GET /notes/{note_id}  own
  GET /slow/{slow_id}   signed-in
""")


class Members:
    """Callers by a header; one who is suspended is signed out from then on."""

    vary = ("X-Caller",)
    again = 0.2

    def __init__(self) -> None:
        self.suspended: set[str] = set()

    def __call__(self, request: Any) -> Caller | None:
        name = request.headers.get("x-caller") or ""
        if name in self.suspended:
            raise bloodroot.Unidentified(f"{name} is suspended")
        return Caller(int(name)) if name else None


class Silent(unittest.TestCase):
    def setUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        self.members = Members()


class GoesOn(Silent):
    """Whoever is suspended stops soon, in what was open before too."""

    def read(self, port: int) -> int:
        """How many pieces of a stream come, where its caller is suspended after the first."""
        count = 0
        with (
            contextlib.suppress(httpx.HTTPError),
            httpx.stream("GET", f"http://127.0.0.1:{port}/live", headers={"X-Caller": "3"}, timeout=20) as response,
        ):
            for _ in response.iter_raw():
                count += 1
                self.members.suspended.add("3")
        self.members.suspended.clear()
        return count

    def test_streams(self) -> None:
        def pieces() -> Iterator[bytes]:
            for _ in range(60):
                yield b"piece\n"
                time.sleep(0.05)

        async def pieces_later() -> Any:
            for _ in range(60):
                yield b"piece\n"
                await asyncio.sleep(0.05)

        async def live(request: Any) -> Any:
            return StreamingResponse(pieces_later())

        async def bare(scope: Any, receive: Any, send: Any) -> None:
            await StreamingResponse(pieces_later())(scope, receive, send)

        def bare_wsgi(environ: Any, start_response: Any) -> Any:
            start_response("200 OK", [])
            return pieces()

        bottle = flask.Flask("tarn", static_folder=None)
        bottle.add_url_rule("/live", "live", lambda: flask.Response(pieces()))
        for_flask.protect(bottle, POLICY, identify=self.members)
        app = Starlette(routes=[Route("/live", live)])
        for_starlette.protect(app, POLICY, identify=self.members)
        for name, server in (
            ("asgi", serving(asgi.AccessMiddleware(bare, POLICY, identify=self.members))),
            ("starlette", serving(app)),
            ("wsgi", serving_wsgi(wsgi.AccessMiddleware(bare_wsgi, POLICY, identify=self.members))),
            ("flask", serving_wsgi(bottle)),
        ):
            with self.subTest(name), server as port:
                self.assertLess(self.read(port), 20)

    def test_sockets(self) -> None:
        heard: list[str] = []

        async def live(socket: Any) -> None:
            await socket.accept()
            async for text in socket.iter_text():
                heard.append(text)
                await socket.send_text(text)

        app = Starlette(routes=[WebSocketRoute("/live", live)])
        for_starlette.protect(app, POLICY, identify=self.members)

        async def bare(scope: Any, receive: Any, send: Any) -> None:
            await receive()
            await send({"type": "websocket.accept"})
            while (message := await receive())["type"] == "websocket.receive":
                heard.append(message["text"])
                await send({"type": "websocket.send", "text": message["text"]})

        for each in (app, asgi.AccessMiddleware(bare, POLICY, identify=self.members)):
            heard.clear()
            with serving(each) as port:
                with self.assertRaises(websockets.exceptions.InvalidStatus):
                    websockets.sync.client.connect(f"ws://127.0.0.1:{port}/live")
                with websockets.sync.client.connect(
                    f"ws://127.0.0.1:{port}/live", additional_headers={"X-Caller": "3"}
                ) as line:
                    line.send("one")
                    self.assertEqual(line.recv(5), "one")
                    self.members.suspended.add("3")
                    time.sleep(0.3)
                    with self.assertRaises(websockets.exceptions.ConnectionClosed) as caught:
                        line.send("two")
                        line.recv(5)
                    self.assertEqual(caught.exception.rcvd.code, 1008)
                self.assertEqual(heard, ["one"])
                self.members.suspended.clear()

    def test_14_a_refused_socket_is_closed_and_nothing_is_waited_for(self) -> None:
        sent: list[Any] = []

        async def never() -> Any:
            await asyncio.Event().wait()

        async def send(message: Any) -> None:
            sent.append(message["type"])

        async def bare(scope: Any, receive: Any, send: Any) -> None:
            sent.append("reached")

        app = Starlette(routes=[WebSocketRoute("/live", bare)])
        for_starlette.protect(app, POLICY, identify=self.members)
        scope = {"type": "websocket", "path": "/live", "headers": [], "query_string": b""}
        for each in (app, asgi.AccessMiddleware(bare, POLICY, identify=self.members)):
            sent.clear()
            asyncio.run(asyncio.wait_for(each(dict(scope), never, send), 5))
            self.assertEqual(sent, ["websocket.close"])

    def test_a_refusal_over_a_socket_is_final(self) -> None:
        async def swallows(socket: Any) -> None:
            with contextlib.suppress(Exception):
                current().pass_guard(POLICY.guard("keeper"), None)
            await socket.accept()
            await socket.send_text("secret")
            await socket.close()

        app = Starlette(routes=[WebSocketRoute("/live", swallows)])
        for_starlette.protect(app, POLICY, identify=self.members)
        with serving(app) as port, self.assertRaises(websockets.exceptions.InvalidStatus):
            websockets.sync.client.connect(f"ws://127.0.0.1:{port}/live", additional_headers={"X-Caller": "3"})


class Threads(InFolder):
    def test_slow_loaders_keep_nobody_from_the_directory(self) -> None:
        free = threading.Event()
        self.addCleanup(free.set)
        waiting: list[str] = []

        def slow(text: str) -> Any:
            waiting.append(text)
            free.wait(60)
            return types.SimpleNamespace(owner=1)

        class Looks:
            """As the directory does: what is not remembered is asked for in a thread."""

            def __init__(self) -> None:
                from bloodroot.threads import Threads

                self.threads = Threads(8)

            async def __call__(self, request: Any) -> Caller | None:
                return await self.threads.run(Caller, 1)

        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        app = Starlette(routes=[Route("/slow/{slow_id}", serve), Route("/open", serve)])
        for_starlette.protect(app, POLICY, identify=Looks(), records={"slow_id": slow})
        with serving(app) as port:
            threads = [threading.Thread(target=ask, args=(port, "GET", f"/slow/{n}"), daemon=True) for n in range(60)]
            for each in threads:
                each.start()
            for _ in range(600):
                if len(waiting) >= 40:
                    break
                time.sleep(0.05)
            self.assertEqual(len(waiting), 40)
            self.assertEqual(ask(port, "GET", "/open")[0], 200)
            free.set()
            for each in threads:
                each.join(20)
            self.assertEqual(len(waiting), 60)

    def test_trio(self) -> None:
        settings = self.write(
            "bloodroot.toml",
            """
            [identity]
            from = "header"
            id = "XUser"
            senders = ["127.0.0.1"]
            [directory]
            url = "sqlite:///members.db"
            """,
        )
        self.write("access.bloodroot", "roles\n  keeper\nendpoints\n  GET / anyone\n")
        self.write("members.toml", '[[members]]\nlogin = "tess"\nroles = ["keeper"]\n')
        done = self.bloodroot("seed", "members.toml")
        self.assertEqual(done.status, 0, done.err)
        identify = load(settings)
        self.addCleanup(identify.directory.engine.dispose)

        async def serve(request: Any) -> Any:
            return PlainTextResponse(f"{current().record.owner} for {sorted(current().caller.roles)}")

        app = Starlette(routes=[Route("/notes/{note_id}", serve)])
        notes = {"1": types.SimpleNamespace(owner=1)}
        for_starlette.protect(app, POLICY, identify=identify, records={"note_id": notes.get})

        async def main() -> tuple[int, str]:
            async with httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://x") as client:
                found = await client.get("/notes/1", headers={"XUser": "1"})
            return found.status_code, found.text

        self.assertEqual(trio.run(main), (200, "1 for ['keeper']"))


class Transactions(Silent):
    def database(self) -> None:
        """A database of its own beside Django's others, with a transaction for each request."""
        configure()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        kept = {"ENGINE": "django.db.backends.sqlite3", "NAME": f"{folder.name}/kept.db", "ATOMIC_REQUESTS": True}
        settings = django.db.connections.settings
        settings["kept"] = {**settings["default"], **kept}
        self.addCleanup(settings.pop, "kept")
        self.addCleanup(django.db.connections.__delitem__, "kept")
        self.addCleanup(lambda: django.db.connections["kept"].close())

    def test_atomic_requests_roll_back_behind_a_withheld_response(self) -> None:
        self.database()
        connection = django.db.connections["kept"]

        def write(request: Any, note_id: str) -> Any:
            with django.db.connections["kept"].cursor() as cursor:
                cursor.execute("insert into kept values (%s)", [note_id])
            if note_id == "2":
                current().settle({"owner": 3})
            if note_id == "3":
                with contextlib.suppress(Exception):
                    current().settle({"owner": 4})
            return HttpResponse("written")

        urls = [path("notes/<note_id>", write)]
        given = {"policy": POLICY, "identify": self.members}
        ours = ["bloodroot.enforce.django.AccessMiddleware"]
        with project(urls, BLOODROOT=given, MIDDLEWARE=ours):
            with connection.cursor() as cursor:
                cursor.execute("create table kept (note varchar(9))")
            for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
                with server() as port:
                    for note, status, kept in (("1", 500, []), ("3", 403, []), ("2", 200, ["2"])):
                        self.assertEqual(ask(port, "GET", f"/notes/{note}", X_Caller="3")[0], status)
                        with connection.cursor() as cursor:
                            cursor.execute("select note from kept")
                            self.assertEqual([row[0] for row in cursor.fetchall()], kept, note)
                with connection.cursor() as cursor:
                    cursor.execute("delete from kept")

    def test_a_cache_within_a_view_is_said_at_start(self) -> None:
        configure()

        def page(request: Any) -> Any:
            return HttpResponse("page")

        urls = [
            path("live", require_GET(cache_page(60)(page)), name="live"),
            path("open", cache_page(60)(page), name="open"),
        ]
        given = {"policy": POLICY, "identify": self.members}
        logging.disable(logging.NOTSET)
        with (
            project(urls, BLOODROOT=given, MIDDLEWARE=["bloodroot.enforce.django.AccessMiddleware"]),
            self.assertLogs("bloodroot.enforce", "WARNING") as caught,
        ):
            WSGIHandler()
            said = check_access()
        self.assertEqual([each.id for each in said if "live" in each.msg], ["bloodroot.cached-for-all"])
        told = [each for each in caught.output if "A cache is around" in each]
        self.assertEqual(len(told), 1)
        self.assertIn("A cache is around live", told[0])


class Answers(Silent):
    def test_vary_names_what_identifies_callers_and_next_is_bounded(self) -> None:
        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        policy = bloodroot.parse("endpoints\n  any /** signed-in\n  GET /in anyone\ndenials\n  signed-out go /in\n")
        app = Starlette(routes=[Route("/live", serve), Route("/in", serve)])
        for_starlette.protect(app, policy, identify=self.members)
        with serving(app) as port:
            self.assertEqual(ask(port, "GET", "/live", X_Caller="3")[1]["vary"], "X-Caller")
            headers = ask(port, "GET", "/live?a=b", Accept="text/html")[1]
            self.assertEqual(headers["vary"], "Accept, X-Caller")
            self.assertEqual(headers["location"], "/in?next=/live%3Fa%3Db")
            headers = ask(port, "GET", f"/live?{'a' * 3000}", Accept="text/html")[1]
            self.assertEqual(headers["location"], "/in")

    def test_14_fields_that_a_model_does_not_write_out(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nfields lot\n  pin  change keeper\n  *  change signed-in\nendpoints\n  GET / anyone\n"
        )

        class Change(pydantic.BaseModel):
            name: str = ""
            pin: str = pydantic.Field("", exclude=True, serialization_alias="p")

        class Written(Change):
            @pydantic.model_serializer
            def written(self) -> dict[str, Any]:
                return {"name": self.name}

        for kind in (Change, Written):
            with on_behalf_of(Caller(3), policy) as acting:
                self.assertEqual(acting.change("lot", {}, kind(name="x")), {"name": "x"})
                with self.assertRaises(FieldsRefused):
                    acting.change("lot", {}, kind(name="x", pin="4711"))
