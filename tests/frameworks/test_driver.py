"""The driver for any other framework, as docs/frameworks.md has it for Tornado and gRPC; and guards within GraphQL."""

import asyncio
import concurrent.futures
import json
import logging
import re
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import fastapi
import grpc
import strawberry.fastapi
import tornado.httpserver
import tornado.netutil
import tornado.web
from starlette.testclient import TestClient

import bloodroot
from bloodroot import Caller, Route
from bloodroot.enforce import Driver, current, guard, use
from bloodroot.enforce import fastapi as for_fastapi
from tests.servers import ask

BLOCKS = re.findall(
    r"```python\n(.*?)```", (Path(__file__).parents[2] / "docs" / "frameworks.md").read_text("utf-8"), re.S
)
CALLERS = {"ash": Caller(1, {"member"}), "hazel": Caller(2, {"keeper"})}
PIECES = {"1": {"owner": 1}, "2": {"owner": 9}}
TEXT = """
roles
  member
  keeper  includes member
conditions
  own  record.owner == caller.id
denials
  /staff/**  any  hide
fields piece
  *  change keeper
endpoints
"""


def who(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-who"))


def written(part: str) -> dict[str, Any]:
    """What the block of the document defines that has a text in it."""
    names: dict[str, Any] = {"__name__": __name__}
    (block,) = [block for block in BLOCKS if part in block]
    exec(compile(block, "docs/frameworks.md", "exec"), names)
    return names


class Quiet(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)


class Tornado(Quiet):
    POLICY = bloodroot.parse(
        TEXT
        + "  action Pieces member\n  action Piece member and own, keeper\n".replace(", ", " or ")
        + "  action Change member\n  action Fails keeper\n  action Kilns keeper\n  GET /memos member\n"
    )

    def serve(self) -> int:
        names = written("class Guarded")
        guarded: Any = names["Guarded"]

        def handler(name: str, work: Callable[..., Any], methods: tuple[str, ...] = ("GET",)) -> Any:
            async def serve(handler: Any, **values: str) -> None:
                handler.write(work(**values))

            return type(name, (guarded,), {"METHODS": methods, methods[0].lower(): serve})

        def change(piece: str) -> str:
            current().change("piece", PIECES[piece], {"name": "x"})
            return "changed"

        @guard("keeper", policy=self.POLICY)
        def memos() -> str:
            return "memos"

        rules = [
            ("/pieces", r"/pieces", handler("Pieces", lambda: "pieces"), "Pieces"),
            ("/pieces/{piece}", r"/pieces/(?P<piece>[^/]+)", handler("Piece", lambda piece: f"piece {piece}"), "Piece"),
            ("/change/{piece}", r"/change/(?P<piece>[^/]+)", handler("Change", change, ("POST",)), "Change"),
            ("/fails", r"/fails", handler("Fails", lambda: 1 / 0), "Fails"),
            ("/staff/kilns", r"/staff/kilns", handler("Kilns", lambda: "kilns"), "Kilns"),
            ("/memos", r"/memos", handler("Memos", memos), "Memos"),
            ("/closed", r"/closed", handler("Closed", lambda: "closed"), "Closed"),
        ]
        routes = names["routes_of"](rules)
        driver = Driver(self.POLICY, routes=routes, identify=who, records={"piece": PIECES.get})
        ready, found = threading.Event(), []

        def run() -> None:
            async def main() -> None:
                app = tornado.web.Application([(rule, handler) for _, rule, handler, _ in rules], driver=driver)
                sockets = tornado.netutil.bind_sockets(0, "127.0.0.1")
                server = tornado.httpserver.HTTPServer(app)
                server.add_sockets(sockets)
                stop = asyncio.Event()
                found.append((sockets[0].getsockname()[1], asyncio.get_running_loop(), stop))
                ready.set()
                await stop.wait()
                server.stop()

            asyncio.run(main())

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        ready.wait(10)
        port, loop, stop = found[0]
        self.addCleanup(thread.join, 10)
        self.addCleanup(loop.call_soon_threadsafe, stop.set)
        return port

    def test_every_cell(self) -> None:
        port = self.serve()
        for method, path, statuses in (
            ("GET", "/pieces", (401, 200, 200)),
            ("GET", "/pieces/1", (401, 200, 200)),
            ("GET", "/pieces/2", (401, 403, 200)),
            ("GET", "/pieces/7", (401, 404, 200)),
            ("POST", "/change/1", (401, 403, 200)),
            ("GET", "/fails", (401, 403, 500)),
            ("GET", "/staff/kilns", (404, 404, 200)),
            ("GET", "/memos", (401, 403, 200)),
            ("GET", "/closed", (403, 403, 403)),
            ("PUT", "/pieces/1", (403, 403, 403)),
            ("GET", "/pieces/%32", (401, 403, 200)),
        ):
            for name, status in zip((None, "ash", "hazel"), statuses, strict=True):
                with self.subTest(f"{method} {path}", name=name):
                    found, headers, body = ask(
                        port, method, path, content_length="0", **({"x_who": name} if name else {})
                    )
                    self.assertEqual(found, status)
                    if status != 200:
                        self.assertNotRegex(body, "^(piece|kilns|memos|closed|changed)")
                    else:
                        self.assertEqual(headers["cache-control"], "private, no-cache")


class Grpc(Quiet):
    def test_every_cell(self) -> None:
        policy = bloodroot.parse(
            TEXT + "  POST /pots.Pots/List member\n  POST /pots.Pots/Fire keeper\n  POST /pots.Pots/Change member\n"
        )

        def change(request: bytes, context: Any) -> bytes:
            current().change("piece", {}, {"name": "x"})
            return b"changed"

        methods = {
            name: grpc.unary_unary_rpc_method_handler(work)
            for name, work in {
                "List": lambda request, context: b"listed",
                "Fire": lambda request, context: b"fired",
                "Change": change,
                "Closed": lambda request, context: b"closed",
            }.items()
        }
        methods["Watch"] = grpc.unary_stream_rpc_method_handler(lambda request, context: iter([b"seen"]))

        def caller(context: Any) -> Caller | None:
            return CALLERS.get(dict(context.invocation_metadata()).get("x-who"))

        interceptor = written("class AccessInterceptor")["AccessInterceptor"](Driver(policy, identify=caller))
        server = grpc.server(concurrent.futures.ThreadPoolExecutor(4), interceptors=[interceptor])
        server.add_generic_rpc_handlers([grpc.method_handlers_generic_handler("pots.Pots", methods)])
        port = server.add_insecure_port("127.0.0.1:0")
        server.start()
        self.addCleanup(server.stop, None)
        channel = grpc.insecure_channel(f"127.0.0.1:{port}")
        self.addCleanup(channel.close)
        denied, unknown = "PERMISSION_DENIED", "UNAUTHENTICATED"
        for name, expected in (
            ("List", (unknown, b"listed", b"listed")),
            ("Fire", (unknown, denied, b"fired")),
            ("Change", (unknown, denied, b"changed")),
            ("Closed", (denied, denied, denied)),
            ("Watch", ("UNIMPLEMENTED",) * 3),
        ):
            for who_asks, wanted in zip((None, "ash", "hazel"), expected, strict=True):
                with self.subTest(name, who=who_asks):
                    metadata = [("x-who", who_asks)] if who_asks else []
                    try:
                        found: Any = channel.unary_unary(f"/pots.Pots/{name}")(b"", metadata=metadata, timeout=10)
                    except grpc.RpcError as error:
                        found = error.code().name
                    self.assertEqual(found, wanted)


class GraphQL(Quiet):
    def setUp(self) -> None:
        self.known = bloodroot.parse(TEXT + "  GET / member\n")  # what the guards require
        use(self.known)

    def test_a_refused_field_is_an_error_beside_the_rest(self) -> None:
        app = fastapi.FastAPI()
        app.include_router(strawberry.fastapi.GraphQLRouter(written("part=True")["schema"]), prefix="/graphql")
        policy = bloodroot.parse(
            TEXT
            + '  GET POST /graphql signed-in\n  WEBSOCKET /graphql nobody\n  any /docs/** nobody accept line-without-endpoint "x"\n'
        )
        for_fastapi.protect(app, policy, identify=who)
        client = TestClient(app)

        def answer(name: str | None) -> Any:
            headers = {"x-who": name} if name else {}
            response = client.post("/graphql", json={"query": "{ pieces takings }"}, headers=headers)
            return response.status_code, response.json()

        self.assertEqual(answer(None)[0], 401)
        status, found = answer("ash")
        self.assertEqual((status, found["data"]), (200, {"pieces": ["bowl", "vase"], "takings": None}))
        self.assertEqual([error["path"] for error in found["errors"]], [["takings"]])
        self.assertNotIn("712", json.dumps(found))
        self.assertEqual(found["errors"][0]["message"], "You do not have access to this.")
        self.assertEqual(answer("hazel")[1], {"data": {"pieces": ["bowl", "vase"], "takings": 712}})


class Drivers(unittest.TestCase):
    def test_what_was_not_decided_does_not_leave(self) -> None:
        driver = Driver(
            bloodroot.parse(TEXT + "  GET /a member and own\n"), routes=[Route("a", ("GET",), "/a")], identify=who
        )
        asked = driver.request("GET", "/a", [("X-Who", "ash")])
        with asked as handling, self.assertLogs("bloodroot.enforce", "ERROR"):
            self.assertEqual(handling.leave().status, 500)
        with driver.request("GET", "/a", [("X-Who", "ash")]) as handling:
            self.assertIsNone(handling.enter("a"))
            with self.assertLogs("bloodroot.enforce", "ERROR"):
                self.assertEqual(handling.leave().status, 500)  # nothing was settled
        with driver.request("GET", "/a", [("X-Who", "ash")]) as handling:
            self.assertIsNone(handling.enter("a"))
            current().settle({"owner": 1})
            self.assertIsNone(handling.leave())
            self.assertIn(("Cache-Control", "private, no-cache"), handling.headers_to_set)
        with driver.request("GET", "/b") as handling, self.assertLogs("bloodroot.enforce", "ERROR"):
            self.assertIsNone(handling.enter(missing=True))
            self.assertEqual(handling.leave(200).status, 500)  # it was said that nothing is there
        with self.assertRaises(LookupError):
            driver.request("GET", "/a").enter("b")
        for method, path in (("get", "/a"), ("GET", "/./a"), ("GET", "//a"), ("WEBSOCKET", "/a")):
            with driver.request(method, path) as handling:
                self.assertEqual(handling.enter("a").status, 400)
