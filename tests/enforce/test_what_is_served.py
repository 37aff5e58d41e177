"""What is decided is what is served: through mounts, prefixes, rewriting, and routes that come late."""

import asyncio
import logging
import unittest
from typing import Any

import fastapi
import flask
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import include, path, re_path
from starlette.applications import Starlette
from starlette.background import BackgroundTask
from starlette.convertors import Convertor, register_url_convertor
from starlette.middleware import Middleware
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route, Router
from werkzeug.middleware.proxy_fix import ProxyFix

import bloodroot
from bloodroot.enforce import current
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from bloodroot.enforce.django_routes import routes as routes_of_django
from bloodroot.enforce.segments import is_one_segment
from tests.django_project import project
from tests.enforce.test_life_cycle import CALLERS, Silent, who
from tests.servers import ask, serving, serving_wsgi


class Prefixes(Silent):
    def test_redirects_carry_the_prefix_and_lead_nowhere_else(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nendpoints\n  GET /in signed-out\n  GET /desk keeper\ndenials\n  signed-out go /in\n"
        )
        app = flask.Flask("tarn", static_folder=None)
        app.add_url_rule("/in", "in", lambda: "in")
        app.add_url_rule("/desk", "desk", lambda: "desk")
        for_flask.protect(app, policy, identify=who)
        app.wsgi_app = ProxyFix(app.wsgi_app, x_prefix=1)  # type: ignore[method-assign]
        with serving_wsgi(app) as port:
            for prefix, location in (
                ("", "/in?next=/desk"),
                ("/bank", "/bank/in?next=/bank/desk"),
                ("/bank/", "/bank/in?next=/bank/desk"),
                ("//evil.example", "/in?next=/desk"),
                ("/\\evil.example", "/in?next=/desk"),
                ("evil", "/in?next=/desk"),
                ("/in", "/in/in?next=/in/desk"),
            ):
                with self.subTest(prefix):
                    status, headers, _ = ask(port, "GET", "/desk", X_Forwarded_Prefix=prefix, Accept="text/html")
                    self.assertEqual((status, headers["location"]), (303, location))

    def test_no_prefix_chooses_a_line(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /open/** anyone\n  GET /desk keeper\n")
        app = flask.Flask("tarn", static_folder=None)
        app.add_url_rule("/open/<path:rest>", "open", lambda rest: "open")
        app.add_url_rule("/desk", "desk", lambda: "desk")
        for_flask.protect(app, policy, identify=who)
        app.wsgi_app = ProxyFix(app.wsgi_app, x_prefix=1)  # type: ignore[method-assign]
        with serving_wsgi(app) as port:
            for prefix in ("/open", "/open/x", "/open/..", "/%6fpen"):
                self.assertEqual(ask(port, "GET", "/desk", X_Forwarded_Prefix=prefix, X_Caller="3")[0], 403, prefix)


class MountedApplications(unittest.IsolatedAsyncioTestCase):
    async def test_both_decide_where_both_are_protected(self) -> None:
        async def serve(request: Any) -> Any:
            return PlainTextResponse(f"as {current().caller}")

        inner = Starlette(routes=[Route("/x", serve)])
        for_starlette.protect(inner, bloodroot.parse("roles\n  keeper\nendpoints\n  GET /x keeper\n"), identify=who)
        outer = Starlette(routes=[Mount("/m", inner)])
        for_starlette.protect(outer, bloodroot.parse("endpoints\n  GET /m/x signed-in\n"), identify=who)
        for app, target, caller, status in (
            (outer, "/m/x", "4", 200),
            (outer, "/m/x", "3", 403),
            (outer, "/m/x", "", 401),
            (inner, "/x", "4", 200),
            (inner, "/x", "3", 403),
        ):
            with self.subTest(target, caller=caller):
                self.assertEqual(await asked(app, target, caller), status)

    async def test_what_is_mounted_as_a_whole_is_decided_as_a_whole(self) -> None:
        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        class Around:
            """Middleware that hides the routes of what it is around."""

            def __init__(self, app: Any) -> None:
                self.inside = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                await self.inside(scope, receive, send)

        inner = Starlette(routes=[Route("/x", serve), Route("/y", serve)])
        for_starlette.protect(
            inner, bloodroot.parse("roles\n  keeper\nendpoints\n  GET /x keeper\n  GET /y anyone\n"), identify=who
        )
        outer = Starlette(routes=[Mount("/m", Around(inner), name="whole")])
        for_starlette.protect(outer, bloodroot.parse("endpoints\n  action whole signed-in\n"), identify=who)
        for target, caller, status in (
            ("/m/x", "4", 200),
            ("/m/x", "3", 403),
            ("/m/y", "3", 200),
            ("/m/y", "", 401),
            ("/m/z", "3", 404),
        ):
            with self.subTest(target, caller=caller):
                self.assertEqual(await asked(outer, target, caller), status)

    async def test_a_websocket_that_a_layer_accepts_by_itself(self) -> None:
        class Accepts:
            def __init__(self, app: Any) -> None:
                pass

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                await send({"type": "websocket.accept"})
                await send({"type": "websocket.send", "text": "secret"})

        policy = bloodroot.parse(
            "roles\n  keeper\nconditions\n  own  record.owner == caller.id\nendpoints\n"
            "  WEBSOCKET /m/open anyone\n  WEBSOCKET /m/lots/{lot_id} keeper if own\n"
        )
        for target, caller, expected in (
            ("/m/open", "", "websocket.accept"),
            ("/m/closed", "4", "websocket.close"),
            ("/m/lots/3", "4", "websocket.close"),  # nothing can settle what is open
        ):
            sent: list[Any] = []

            async def send(message: Any, sent: list[Any] = sent) -> None:
                sent.append(message)

            async def receive() -> Any:
                return {"type": "websocket.connect"}

            app = Starlette(routes=[Mount("/m", Router([]), middleware=[Middleware(Accepts)])])
            for_starlette.protect(app, policy, identify=who)
            scope = {
                "type": "websocket",
                "path": target,
                "query_string": b"",
                "headers": [(b"x-caller", caller.encode())],
            }
            with self.subTest(target):
                await app(scope, receive, send)
                self.assertEqual([each["type"] for each in sent][:1], [expected])

    async def test_a_mounted_application_used_by_itself_is_protected_all_the_same(self) -> None:
        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        inner = Starlette(routes=[Route("/x", serve)])
        outer = Starlette(routes=[Mount("/m", inner)])
        for_starlette.protect(outer, bloodroot.parse("endpoints\n  GET /m/x signed-in\n"), identify=who)
        self.assertEqual(await asked(outer, "/m/x", "3"), 200)
        self.assertIn(await asked(inner, "/x", "3"), (401, 403))


async def asked(app: Any, target: str, caller: str) -> int:
    sent: list[Any] = []
    headers = [(b"x-caller", caller.encode()), (b"host", b"x")]
    scope = {"type": "http", "method": "GET", "path": target, "headers": headers, "query_string": b"", "root_path": ""}

    async def receive() -> Any:
        await asyncio.Event().wait()

    async def send(message: Any) -> None:
        sent.append(message)

    logging.disable(logging.CRITICAL)
    try:
        await app(scope, receive, send)
    finally:
        logging.disable(logging.NOTSET)
    return int(sent[0]["status"])


class LateRoutes(unittest.IsolatedAsyncioTestCase):
    """No way of changing the routes of an application gets around the gates."""

    async def test_every_way(self) -> None:
        async def serve(request: Any) -> Any:
            reached.append(request.url.path)
            return PlainTextResponse("served")

        def route() -> Any:
            return Route("/late", serve)

        reached: list[str] = []
        policy = bloodroot.parse(
            "roles\n  keeper\nendpoints\n  GET /late keeper\n  GET /m/late keeper\n  GET /x anyone\n"
        )
        for target, change in (
            ("/late", lambda app, inner: app.routes.append(route())),
            ("/late", lambda app, inner: app.routes.insert(0, route())),
            ("/late", lambda app, inner: app.router.add_route("/late", serve)),
            ("/late", lambda app, inner: app.router.routes.extend([route()])),
            ("/late", lambda app, inner: app.router.routes.__iadd__([route()])),
            ("/late", lambda app, inner: app.router.routes.__setitem__(0, route())),
            ("/late", lambda app, inner: app.router.routes.__setitem__(slice(0, 1), [route()])),
            ("/late", lambda app, inner: setattr(app.router, "routes", [route()])),
            ("/m/late", lambda app, inner: inner.routes.append(route())),
            ("/m/late", lambda app, inner: setattr(inner, "routes", [route()])),
            ("/m/late", lambda app, inner: app.router.mount("/m", Starlette(routes=[route()]))),
        ):
            inner = Router([Route("/x", serve)])
            app = Starlette(
                routes=[Route("/x", serve), *([] if "mount" in str(change.__code__.co_names) else [Mount("/m", inner)])]
            )
            for_starlette.protect(app, policy, identify=who)
            await asked(app, "/x", "")
            change(app, inner)
            reached.clear()
            with self.subTest(target, names=change.__code__.co_names):
                self.assertIn(await asked(app, target, "3"), (401, 403))
                self.assertEqual(reached, [])
                self.assertEqual(await asked(app, target, "4"), 200)
                self.assertEqual(reached, [target])

    async def test_a_task_behind_an_open_answer_may_ask_who_it_was(self) -> None:
        found: list[Any] = []

        def task() -> None:
            found.append(current().caller)

        async def serve(request: Any) -> Any:
            return PlainTextResponse("served", background=BackgroundTask(task))

        app = Starlette(routes=[Route("/x", serve)])
        for_starlette.protect(app, bloodroot.parse("endpoints\n  GET /x anyone\n"), identify=who)
        self.assertEqual(await asked(app, "/x", "3"), 200)
        self.assertEqual(found, [CALLERS["3"]])


class Rewriting(Silent):
    """What an application makes of path and method before it routes is what is decided; later changes route nothing."""

    POLICY = bloodroot.parse(
        "roles\n  keeper\nendpoints\n  GET /m/open anyone\n  GET /m/secret keeper\n  POST /m/open anyone\n  DELETE /m/open keeper\n"
    )
    CASES = (
        ("GET", "/m/open", {}, 200),
        ("GET", "/m/open", {"X_Path": "/m/secret"}, 401),
        ("GET", "/m/open", {"X_Path": "/m/secret", "X_Caller": "3"}, 403),
        ("GET", "/m/open", {"X_Path": "/m/secret", "X_Caller": "4"}, 200),
        ("POST", "/m/open", {}, 200),
        ("POST", "/m/open", {"X_Method": "DELETE", "X_Caller": "3"}, 403),
        ("POST", "/m/open", {"X_Method": "DELETE", "X_Caller": "4"}, 200),
        ("POST", "/m/open", {"X_Method": "delete", "X_Caller": "4"}, 400),
        ("GET", "/m/open", {"X_Path": "/m//secret", "X_Caller": "3"}, 400),
    )

    def check(self, port: int) -> None:
        for method, target, headers, status in self.CASES:
            with self.subTest(f"{method} {target} {headers}"):
                got, _, body = ask(port, method, target, **headers)
                self.assertEqual(got, status, body)
                if status == 200:
                    expected = f"{headers.get('X_Method', method)} {headers.get('X_Path', target)}"
                    self.assertEqual(body, expected)

    def test_starlette_within_a_mount(self) -> None:
        class Rewrite:
            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                headers = {name.decode(): value.decode() for name, value in scope["headers"]}
                path = headers.get("x-path", scope["path"])
                method = headers.get("x-method", scope["method"])
                await self.app({**scope, "path": path, "method": method}, receive, send)

        async def serve(request: Any) -> Any:
            return PlainTextResponse(f"{request.method} {request.url.path}")

        methods = ["GET", "POST", "DELETE", "delete"]
        inner = Router([Route("/open", serve, methods=methods), Route("/secret", serve), Route("//secret", serve)])
        app = Starlette(routes=[Mount("/m", inner, middleware=[Middleware(Rewrite)])])
        for_starlette.protect(app, self.POLICY, identify=who)
        with serving(app) as port:
            self.check(port)

    def test_django_by_middleware_further_in(self) -> None:
        def serve(request: Any) -> Any:
            return HttpResponse(f"{request.method} {request.path_info}")

        urls = [path("m/open", serve), path("m/secret", serve), path("m//secret", serve)]
        middleware = ["bloodroot.enforce.django.AccessMiddleware", "tests.enforce.test_what_is_served.rewrite"]
        given = {"policy": self.POLICY, "identify": who}
        for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
            with project(urls, BLOODROOT=given, MIDDLEWARE=middleware), server() as port:
                self.check(port)

    def test_flask_has_chosen_before(self) -> None:
        app = flask.Flask("tarn", static_folder=None)
        reached: list[str] = []
        app.add_url_rule("/m/open", "open", lambda: "open", methods=["GET", "POST"])
        app.add_url_rule("/m/secret", "secret", lambda: reached.append("secret") or "secret")

        @app.before_request
        def rewrite() -> None:
            flask.request.environ["PATH_INFO"] = flask.request.headers.get("X-Path", "/m/open")

        for_flask.protect(app, self.POLICY, identify=who)
        with serving_wsgi(app) as port:
            self.assertEqual(ask(port, "GET", "/m/secret", X_Path="/m/open")[0], 401)
            self.assertEqual(ask(port, "GET", "/m/open", X_Path="/m/secret")[2], "open")
        self.assertEqual(reached, [])


def rewrite(get_response: Any) -> Any:
    def middleware(request: Any) -> Any:
        request.path_info = request.headers.get("x-path", request.path_info)
        request.method = request.headers.get("x-method", request.method)
        return get_response(request)

    return middleware


class Redirecting(unittest.IsolatedAsyncioTestCase):
    async def test_a_redirect_of_the_router_tells_nothing_of_what_is_hidden(self) -> None:
        """A slash more or less: the router would lead to a page that the caller may not know of."""
        reached: list[str] = []

        async def serve(request: Any) -> Any:
            reached.append(request.url.path)
            return PlainTextResponse("served")

        async def handled(request: Any, error: Any) -> Any:
            return PlainTextResponse("ours", error.status_code)

        policy = bloodroot.parse(
            "roles\n  keeper\nendpoints\n  GET /hidden keeper\n  action kept keeper\n  GET /m/kept keeper\n  GET /open anyone\n"
            "denials\n  /hidden any hide\n"
        )
        for handlers in ({}, {403: handled, 404: handled}):
            inner = Starlette(routes=[Route("/kept", serve, name="inner")], exception_handlers=handlers)
            routes = [
                Route("/hidden", serve),
                Route("/kept", serve, name="kept"),
                Mount("/m", inner),
                Route("/open", serve),
            ]
            app = Starlette(routes=routes, exception_handlers=handlers)
            for_starlette.protect(app, policy, identify=who)
            for target, caller, status in (
                ("/hidden/", "3", 404),
                ("/hidden", "3", 404),
                ("/kept/", "3", 403),
                ("/m/kept/", "3", 403),
                ("/hidden/", "4", 307),
                ("/kept/", "4", 307),
                ("/m/kept/", "4", 307),
                ("/open/", "", 307),
                ("/nowhere/", "3", 404),
            ):
                with self.subTest(target, caller=caller, handlers=bool(handlers)):
                    self.assertEqual(await asked(app, target, caller), status)
        self.assertEqual(reached, [])


class SharedRouters(unittest.IsolatedAsyncioTestCase):
    """One router in many applications, as an application factory makes them: each decides by its own policy."""

    async def test_each_application_decides(self) -> None:
        async def serve(request: Any) -> Any:
            return PlainTextResponse(f"as {current().caller}")

        def application(line: str) -> Any:
            if kind == "fastapi":
                app = fastapi.FastAPI(openapi_url=None, docs_url=None)
                app.include_router(router)
                for_fastapi.protect(app, bloodroot.parse(line), identify=who)
            else:
                app = Starlette(routes=[Mount("/r", shared)])
                for_starlette.protect(app, bloodroot.parse(line), identify=who)
            return app

        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        router = fastapi.APIRouter(prefix="/r")

        @router.get("/x")
        async def endpoint(request: fastapi.Request) -> Any:
            return await serve(request)

        shared = Router([Route("/x", serve)])
        for kind in ("starlette", "fastapi"):
            first = application("roles\n  keeper\nendpoints\n  GET /r/x keeper\n")
            for _ in range(1100):
                last = application("endpoints\n  GET /r/x signed-in\n")
            for app, caller, status in (
                (last, "3", 200),
                (last, "", 401),
                (first, "3", 403),
                (first, "4", 200),
                (last, "3", 200),
            ):
                with self.subTest(kind, caller=caller):
                    self.assertEqual(await asked(app, "/r/x", caller), status)


class WhatNoRouteServes(unittest.IsolatedAsyncioTestCase):
    """An application that a router has for the rest serves whatever it likes, so that path lines decide for it."""

    async def test_an_application_for_the_rest(self) -> None:
        served: list[str] = []

        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        async def old(scope: Any, receive: Any, send: Any) -> None:
            served.append(scope["path"])
            await PlainTextResponse("old")(scope, receive, send)

        text = "roles\n  keeper\nendpoints\n  GET /x keeper\n  GET /old/** signed-in\ndenials\n  /x role hide\n"
        given, late = Starlette(routes=[Route("/x", serve)]), Starlette(routes=[Route("/x", serve)])
        given.router.default = old
        for app in (given, late):
            for_starlette.protect(app, bloodroot.parse(text), identify=who)
        late.router.default = old
        for number, app in enumerate((given, given.router, late)):
            for target, caller, status in (
                ("/old/1", "3", 200),
                ("/old/1", "", 401),
                ("/other", "3", 403),
                ("/x/", "4", 307),
                ("/x/", "3", 404),
                ("/x", "3", 404),  # hidden: what is there for the rest is not asked
            ):
                with self.subTest(target, caller=caller, number=number):
                    served.clear()
                    self.assertEqual(await asked(app, target, caller), status)
                    self.assertEqual(served, [target] if target == "/old/1" and status == 200 else [])


class ExactTemplates(unittest.IsolatedAsyncioTestCase):
    """A template counts as that of a route only where it covers exactly the paths of the route."""

    def test_what_can_only_be_one_segment(self) -> None:
        for regex in (
            *("[^/]+", "[0-9]+", r"[0-9]+(\.[0-9]+)?", r"\w+", "[^/.]{2,}", r"a\.b", "(?P<y>[0-9]{4})", "[]a]"),
            r"(?!x)[^/]+",
        ):
            self.assertTrue(is_one_segment(regex), regex)
        for regex in (
            *(".*", "north/one|b", "[!-~]+", r"\S+", r"\D", r"\057", r"\x2f", r"\u002f", "[^a]+", "[]/]", r"[\057]"),
            *("a*", r"\[/", "(", r"(a)\1"),
        ):
            self.assertFalse(is_one_segment(regex), regex)

    async def test_a_parameter_that_may_cross_a_slash(self) -> None:
        class Place(Convertor[str]):
            regex = "north/one|south"

            def convert(self, value: str) -> str:
                return value

            def to_string(self, value: str) -> str:
                return value

        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        register_url_convertor("place", Place())
        app = Starlette(routes=[Route("/at/{place:place}", serve)])
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /at/{place} anyone\n  GET /at/north/one keeper\n")
        for_starlette.protect(app, policy, identify=who)
        for target, caller, status in (
            ("/at/south", "", 200),
            ("/at/north/one", "3", 403),
            ("/at/north/one", "4", 200),
        ):
            with self.subTest(target, caller=caller):
                self.assertEqual(await asked(app, target, caller), status)

    def test_regular_expressions_of_django(self) -> None:
        def serve(request: Any, **values: Any) -> HttpResponse:
            return HttpResponse("served")

        inner = ([path("k/<int:n>", serve), re_path(r"^t$", serve)], "inner")
        table = (
            (r"^a\.b/$", "/a.b", True),
            (r"^y/(?P<n>[0-9]+)/$", "/y/{n}", True),
            (r"^a.b$", "/**", False),
            (r"x/$", "/**", False),
            (r"^z/(?P<n>north/one|b)$", "/**", False),
            (r"^w/(?P<n>[^/]*)$", "/**", False),
            (r"^a/b", "/a/**", False),
            (r"^m/a{2}$", "/m/**", False),
        )
        urls = tuple(re_path(regex, serve) for regex, *_ in table)
        with project((*urls, re_path("^in/", include(inner)), re_path("^in", include(inner)))):
            found = [(route.path, route.exact) for route in routes_of_django()]
        self.assertEqual(found[: len(table)], [each[1:] for each in table])
        self.assertEqual(found[len(table) :], [("/in/k/{n}", True), ("/in/t", True), ("/**", False), ("/**", False)])
