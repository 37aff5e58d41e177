"""The routes of a Starlette application, as a policy is bound to them."""

import asyncio
import gc
import unittest
from typing import Any

import httpx
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route, WebSocketRoute

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import current, starlette
from bloodroot.enforce.asgi import AccessMiddleware


def show(request):  # type: ignore[no-untyped-def]
    return PlainTextResponse(f"{request.url.path} {current().may('lot:edit')}")


def lists(request):  # type: ignore[no-untyped-def]
    return PlainTextResponse("list")


def application() -> Starlette:
    return Starlette(routes=ROUTES)


ROUTES = [
    Route("/lots", lists),
    Route("/lots/{lot_id:int}", show),
    Route("/lots/{lot_id:int}", show, methods=["PATCH"], name="change"),
    Route("/files/{path:path}", lists, name="files"),
    Mount(
        "/office",
        routes=[Route("/", lists, name="office"), Mount("/deep", routes=[Route("/{x}", show, name="deep")])],
    ),
    Mount("/static", app=PlainTextResponse("static"), name="static"),
    WebSocketRoute("/live", lists),
]
APP = application()


def settles(request):  # type: ignore[no-untyped-def]
    current().settle({"by": int(request.path_params["owner"])})
    return PlainTextResponse("settled")


async def settles_twice(request):  # type: ignore[no-untyped-def]
    for owner in (1, int(request.path_params["owner"])):
        current().settle({"by": owner})
    return PlainTextResponse("settled")


class Settling(unittest.IsolatedAsyncioTestCase):
    async def test_a_refusal_in_the_handler_is_one_answer(self) -> None:
        policy = bloodroot.parse(
            'roles\n  keeper\nconditions\n  own record.by == caller.id "It is not yours."\nendpoints\n'
            "  GET /once/{owner} own\n  GET /twice/{owner} own or keeper\n  GET /thread/{owner} own\n"
        )
        application = Starlette(
            routes=[
                Route("/once/{owner}", settles),
                Route("/twice/{owner}", settles_twice),
                Route("/thread/{owner}", settles),
            ]
        )
        sent: list[str] = []

        async def counted(scope, receive, send):  # type: ignore[no-untyped-def]
            async def counting(message):  # type: ignore[no-untyped-def]
                sent.append(message["type"])
                await send(message)

            await AccessMiddleware(application, policy, identify=lambda _: Caller(1), settles=["*"])(
                scope, receive, counting
            )

        async with httpx.AsyncClient(transport=httpx.ASGITransport(counted), base_url="http://127.0.0.1") as client:
            for path, status, text in (
                ("/once/1", 200, "settled"),
                ("/once/2", 403, "It is not yours."),
                ("/twice/1", 200, "settled"),
                ("/twice/2", 403, "It is not yours."),
                ("/thread/2", 403, "It is not yours."),
            ):
                with self.subTest(path):
                    sent.clear()
                    answer = await client.get(path)
                    self.assertEqual(answer.status_code, status)
                    self.assertIn(text, answer.text)
                    self.assertEqual(sent.count("http.response.start"), 1)


class Routes(unittest.IsolatedAsyncioTestCase):
    def test_each_is_read(self) -> None:
        found = {(route.action, route.methods, route.path) for route in starlette.routes(APP)}
        self.assertEqual(
            found,
            {
                ("lists", ("GET",), "/lots"),
                ("show", ("GET",), "/lots/{lot_id}"),
                ("change", ("PATCH",), "/lots/{lot_id}"),
                ("files", ("GET",), "/files/**"),
                ("lists", ("WEBSOCKET",), "/live"),
                ("office", ("GET",), "/office/"),
                ("deep", ("GET",), "/office/deep/{x}"),
                ("static", (), "/static/**"),
            },
        )

    async def test_a_bound_policy_decides_by_action(self) -> None:
        policy = bloodroot.parse(
            "roles\n  helper default\n  keeper includes helper\npermissions\n  lot:edit keeper\nendpoints\n"
            "  action lists, show, deep helper\n  action change lot:edit\n  action static anyone\n  any /** nobody\n"
        )

        def identify(request):  # type: ignore[no-untyped-def]
            name = request.headers.get("x-role")
            return Caller(1, {name}) if name else None

        with self.assertRaisesRegex(bloodroot.PolicyError, "no routes here to find an action in"):
            AccessMiddleware(APP, policy.bind(starlette.routes(APP)), identify=identify)
        app = application()
        starlette.protect(app, policy, identify=identify)
        transport = httpx.ASGITransport(app)
        async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1") as client:
            for method, path, role, status, text in (
                ("GET", "/lots", "helper", 200, "list"),
                ("GET", "/lots", None, 401, ""),
                ("GET", "/lots/7", "helper", 200, "/lots/7 False"),
                ("GET", "/lots/7", "keeper", 200, "/lots/7 True"),
                ("PATCH", "/lots/7", "helper", 403, ""),
                ("PATCH", "/lots/7", "keeper", 200, ""),
                ("GET", "/office/deep/x", "helper", 200, "/office/deep/x False"),
                ("GET", "/office/", "keeper", 403, ""),
                ("GET", "/files/a/b", "keeper", 403, ""),
                ("GET", "/static/a.css", None, 200, "static"),
            ):
                with self.subTest(f"{method} {path} as {role}"):
                    answer = await client.request(method, path, headers={"x-role": role} if role else {})
                    self.assertEqual(answer.status_code, status)
                    self.assertIn(text, answer.text)


class Requests(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nconditions\n  own  record.by == caller.id\nendpoints\n"
            "  GET /plain  keeper\n  GET /own/{owner}  own\n  GET /late  keeper\n"
        )
        self.late: list[asyncio.Task[None]] = []
        self.ended = asyncio.Event()

        async def late(scope: Any, receive: Any, send: Any) -> None:
            async def after() -> None:
                await self.ended.wait()
                await send({"type": "http.response.start", "status": 200, "headers": []})
                await send({"type": "http.response.body", "body": b"late"})

            self.late.append(asyncio.create_task(after()))

        class Late:
            def __init__(self, scope: Any, receive: Any, send: Any) -> None:
                self.given = scope, receive, send

            def __await__(self) -> Any:
                return late(*self.given).__await__()

        routes = [Route("/plain", lists), Route("/own/{owner}", lists), Route("/late", Late)]
        self.app = Starlette(routes=routes, middleware=[Middleware(SessionMiddleware, secret_key="k" * 32)])
        starlette.protect(
            self.app,
            policy,
            identify=lambda request: Caller(3, {"keeper"}),
            records={"owner": lambda text: {"by": int(text)}},
        )

    async def asked(self, path: str) -> list[Any]:
        sent: list[Any] = []

        async def kept(message: Any) -> None:
            sent.append(message)

        async def receive() -> Any:
            return {"type": "http.request", "body": b"", "more_body": False}

        scope = {"type": "http", "method": "GET", "path": path, "raw_path": path.encode(), "root_path": ""}
        await self.app({**scope, "query_string": b"", "headers": [], "scheme": "http"}, receive, kept)
        return sent

    async def test_nothing_is_left_for_the_collector_of_garbage(self) -> None:
        asyncio.get_running_loop().slow_callback_duration = 60  # a whole collection is no slow answer
        for path, status in (("/plain", 200), ("/own/3", 200)):
            with self.subTest(path):
                for _ in range(2):
                    self.assertEqual((await self.asked(path))[0]["status"], status)
                gc.collect()
                gc.disable()
                self.addCleanup(gc.enable)
                await self.asked(path)
                self.assertEqual(gc.collect(), 0)

    async def test_what_is_sent_after_the_end_goes_nowhere(self) -> None:
        sent = await self.asked("/late")
        before = list(sent)
        self.ended.set()
        with self.assertRaisesRegex(RuntimeError, "has ended this request"):
            await self.late[0]
        self.assertEqual(sent, before)
        self.assertNotIn(b"late", [message.get("body") for message in sent])
