"""Attacks that an application's own structure makes possible, over real sockets on every stack that they concern.

Each class of attack has a number: 1 sources of identity, 3 callers that stay, 5 requests that are dispatched again,
6 prefixes that middleware cuts off, 8 routes that come late, 9 prefixes within a path.
"""

import asyncio
import contextlib
import copy
import os
import random
from typing import Any

import fastapi
import flask
import jwt
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import include, path
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route, Router

import bloodroot
from bloodroot.enforce import EnforcementError, asgi, current, wsgi
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from bloodroot.identity import load
from tests.enforce.orchard import KEY, POLICY, Silent, starlettes, who
from tests.enforce.random_applications import Asked, ask_asgi
from tests.program import InFolder
from tests.servers import ask, serving, serving_wsgi


class SourcesOfIdentity(InFolder):
    """1: which source counts is decided by the path that decides, and by no part of it that a mount has left."""

    SETTINGS = """
        [[identity]]
        for = "/api/**"
        from = "jwt"
        key = "{env.ORCHARD_KEY}"
        [[identity]]
        for = "/inner/**"
        from = "header"
        id = "XUser"
        senders = ["127.0.0.1"]
        [[identity]]
        from = "session"
        id = "member"
    """
    TEXT = "endpoints\n  GET /in anyone\n  any /** signed-in\n"

    def test_1_sources_under_mounts(self) -> None:
        self.addCleanup(os.environ.pop, "ORCHARD_KEY", None)
        os.environ["ORCHARD_KEY"] = KEY
        identify = load(self.write("bloodroot.toml", self.SETTINGS))
        policy = bloodroot.parse(self.TEXT)

        async def sign_in(request: Any) -> Any:
            request.session["member"] = "7"
            return PlainTextResponse("in")

        async def tell(request: Any) -> Any:
            return PlainTextResponse(f"for {current().caller.id}")

        lots = [Route("/lots", tell)]
        mounts = [Mount("/api", routes=lots), Mount("/m", routes=[Mount("/inner", routes=[Route("/lots", tell)])])]
        sessions = [Middleware(SessionMiddleware, secret_key=KEY)]
        plain = Starlette(routes=[Route("/in", sign_in), Route("/home", tell), *mounts], middleware=sessions)
        inner, other = fastapi.FastAPI(), fastapi.FastAPI()
        inner.add_route("/lots", tell)
        other.add_route("/inner/lots", tell)
        api = fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None, middleware=sessions)
        api.add_route("/in", sign_in)
        api.add_route("/home", tell)
        api.mount("/api", inner)
        api.mount("/m", other)
        for protect, app in ((for_starlette.protect, plain), (for_fastapi.protect, api)):
            protect(app, policy, identify=identify)
            with self.subTest(type(app).__name__), serving(app) as port:
                self.check(port)
        bottle = flask.Flask("orchard", static_folder=None)
        bottle.secret_key = KEY
        blueprint = flask.Blueprint("api", "orchard", url_prefix="/api")
        blueprint.add_url_rule("/lots", view_func=lambda: f"for {current().caller.id}", endpoint="lots")
        bottle.register_blueprint(blueprint)
        bottle.add_url_rule("/in", "in", lambda: flask.session.update(member="7") or "in")
        bottle.add_url_rule("/home", "home", lambda: f"for {current().caller.id}")
        bottle.add_url_rule("/m/inner/lots", "inner", lambda: f"for {current().caller.id}")
        for_flask.protect(bottle, policy, identify=identify)
        with self.subTest("flask"), serving_wsgi(bottle) as port:
            self.check(port)

    def check(self, port: int) -> None:
        cookie = ask(port, "GET", "/in")[1]["set-cookie"].split(";")[0]
        token = jwt.encode({"sub": "9", "exp": 4_000_000_000}, KEY, "HS256")
        for target, headers, status, body in (
            ("/home", {"Cookie": cookie}, 200, "for 7"),
            ("/api/lots", {"Cookie": cookie}, 401, None),  # only a token counts there
            ("/api/lots", {"Authorization": f"Bearer {token}"}, 200, "for 9"),
            ("/m/inner/lots", {"XUser": "1"}, 401, None),  # a header counts under /inner alone
            ("/m/inner/lots", {"Cookie": cookie}, 200, "for 7"),
        ):
            found = ask(port, "GET", target, **headers)
            self.assertEqual(found[0], status, (target, headers, found))
            if body is not None:
                self.assertEqual(found[2], body)


class CallersThatStay(Silent):
    """3: a caller of one request acts in no other, however that one ended."""

    def seen(self) -> str:
        try:
            return f"{current().caller.id} acts"
        except EnforcementError:
            return "nobody acts"

    def check(self, port: int, seen: list[str]) -> None:
        for _ in range(3):
            with contextlib.suppress(OSError):
                ask(port, "GET", "/boom", X_Caller="4")
            for target in ("/open", "/nowhere", "/keeper"):
                with contextlib.suppress(OSError):
                    ask(port, "GET", target)
        self.assertEqual(set(seen), {"nobody acts"})

    def boom(self) -> Any:
        self.assertEqual(current().caller.id, 4)
        raise ZeroDivisionError

    def test_3_flask(self) -> None:
        for setting in ("PROPAGATE_EXCEPTIONS", "TESTING"):
            app = flask.Flask("orchard", static_folder=None)
            app.config[setting] = True
            seen: list[str] = []
            app.before_request(lambda seen=seen: seen.append(self.seen()))
            app.teardown_request(lambda error, seen=seen: seen.append(self.seen()))
            app.register_error_handler(404, lambda error: (str(current) and "none", 404))
            app.add_url_rule("/boom", "boom", self.boom)
            app.add_url_rule("/open", "open", lambda: "open")
            app.add_url_rule("/keeper", "keeper", lambda: "keeper")
            for_flask.protect(app, POLICY, identify=who)
            # One thread serves all requests, as a worker of a server does.
            with self.subTest(setting), serving_wsgi(app, threads=False) as port:
                self.check(port, seen)
                self.assertEqual(ask(port, "GET", "/keeper")[0], 401)
            with app.test_request_context("/boom", headers={"X-Caller": "4"}), contextlib.suppress(ZeroDivisionError):
                app.full_dispatch_request()
            self.assertEqual(self.seen(), "nobody acts")

    def test_3_others(self) -> None:
        seen: list[str] = []
        case = self

        class Looks:
            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                seen.append(case.seen())
                try:
                    await self.app(scope, receive, send)
                finally:
                    seen.append(case.seen())

        async def boom(request: Any) -> Any:
            self.boom()

        async def fine(request: Any) -> Any:
            return PlainTextResponse("fine")

        routes = {"/boom": boom, "/open": fine, "/keeper": fine}
        for name, app, protect in starlettes(routes, middleware=[Middleware(Looks)]):
            protect(app, POLICY, identify=who)
            with self.subTest(name), serving(app) as port:
                self.check(port, seen)

        async def bare(scope: Any, receive: Any, send: Any) -> None:
            await (boom if scope["path"] == "/boom" else PlainTextResponse("fine"))(
                *((None,) if scope["path"] == "/boom" else (scope, receive, send))
            )

        with self.subTest("asgi"), serving(Looks(asgi.AccessMiddleware(bare, POLICY, identify=who))) as port:
            self.check(port, seen)

        def bare_wsgi(environ: Any, start_response: Any) -> Any:
            if environ["PATH_INFO"] == "/boom":
                self.boom()
            start_response("200 OK", [])
            return [b"fine"]

        inner = wsgi.AccessMiddleware(bare_wsgi, POLICY, identify=who)

        def looks(environ: Any, start_response: Any) -> Any:
            seen.append(self.seen())
            return inner(environ, start_response)

        with self.subTest("wsgi"), serving_wsgi(looks, threads=False) as port:
            self.check(port, seen)
        global looking
        looking = seen
        urls = [
            path("boom", lambda request: self.boom(), name="boom"),
            *(path(each, lambda request: HttpResponse("fine"), name=each) for each in ("open", "keeper")),
        ]
        here = f"{__name__}.looks"
        for server in (lambda: serving_wsgi(WSGIHandler(), threads=False), lambda: serving(ASGIHandler())):
            with self.subTest("django"), self.django(urls, here, before=[here]), server() as port:
                self.check(port, seen)


looking: list[str] = []


def looks(get_response: Any) -> Any:
    def middleware(request: Any) -> Any:
        try:
            looking.append(f"{current().caller.id} acts")
        except EnforcementError:
            looking.append("nobody acts")
        return get_response(request)

    return middleware


class DispatchedAgain(Silent):
    """5: what is decided for one dispatch is not what is decided for another one within it."""

    def test_5_starlette_and_fastapi(self) -> None:
        def nested(scope: Any, target: str) -> dict[str, Any]:
            return {**scope, "path": target, "raw_path": target.encode()}

        async def within(app: Any, scope: Any, target: str, receive: Any) -> list[Any]:
            sent: list[Any] = []

            async def keep(message: Any) -> None:
                sent.append(message)

            with contextlib.suppress(Exception):
                await app(nested(scope, target), receive, keep)
            return sent

        async def tree(request: Any) -> Any:
            """Dispatches again and never settles whose tree it is."""
            app = request.app if request.query_params["by"] == "app" else request.app.router
            await within(app, request.scope, request.query_params["to"], request.receive)
            return PlainTextResponse("secret")

        async def batch(request: Any) -> Any:
            """Gives out what it is given for each of some addresses."""
            found = []
            for target in request.query_params["to"].split(","):
                sent = await within(request.app, request.scope, target, request.receive)
                status = next((each["status"] for each in sent if "status" in each), "none")
                found.append(f"{status} {b''.join(each.get('body', b'') for each in sent).decode()}"[:30])
            return PlainTextResponse(f"{current().caller.id}: " + "; ".join(found))

        async def say(request: Any) -> Any:
            return PlainTextResponse(f"{request.url.path} for {current().caller and current().caller.id}")

        async def fallback(request: Any, error: Any) -> Any:
            """Serves another page where there is none."""
            target = "/trees/2" if "tree" in request.url.path else "/keeper"
            sent = await within(request.app.router, request.scope, target, request.receive)
            body = b"".join(each.get("body", b"") for each in sent)
            return PlainTextResponse(body.decode() or "nothing")

        routes = {"/open": say, "/keeper": say, "/trees/{tree_id}": tree, "/batch": batch}
        for name, app, protect in starlettes(routes, exception_handlers={404: fallback}):
            protect(app, POLICY, identify=who)
            with serving(app) as port:
                for by in ("app", "router"):
                    for to in ("/open", "/keeper", "/nowhere", "/batch?to=/open"):
                        with self.subTest(name, by=by, to=to):
                            got, _, body = ask(port, "GET", f"/trees/1?by={by}&to={to}", X_Caller="3")
                            self.assertEqual(got, 500, body)
                            self.assertNotIn("secret", body)
                with self.subTest(name):
                    # Each is decided for itself, and what is refused takes nothing else with it.
                    _, _, body = ask(port, "GET", "/batch?to=/open,/keeper,/open", X_Caller="3")
                    self.assertRegex(body, r"(?s)^3: 200 /open for 3; (403 .*|none ); 200 /open for 3$")
                    _, _, body = ask(port, "GET", "/batch?to=/keeper", X_Caller="4")
                    self.assertEqual(body, "4: 200 /keeper for 4")
                    for caller, shown in (("", False), ("3", False), ("4", True)):
                        body = ask(port, "GET", "/nowhere", X_Caller=caller)[2]
                        self.assertEqual("/keeper for" in body, shown, body)

    def test_5_flask(self) -> None:
        app = flask.Flask("orchard", static_folder=None)

        def tree(tree_id: str) -> Any:
            to, by = flask.request.args["to"], flask.request.args["by"]
            with contextlib.suppress(Exception):
                if by == "client":
                    app.test_client().get(to, headers={"X-Caller": "3"})
                elif by == "context":
                    # With its own environment, as batch endpoints make it.
                    with app.request_context({**flask.request.environ, "PATH_INFO": to}):
                        app.full_dispatch_request()
                else:
                    flask.request.url_rule = next(r for r in app.url_map.iter_rules() if r.rule == to)
                    flask.request.view_args = {}
                    app.dispatch_request()
            return "secret"

        app.add_url_rule("/trees/<tree_id>", "tree", tree)
        app.add_url_rule("/open", "open", lambda: "open")
        app.add_url_rule("/keeper", "keeper", lambda: "keeper")
        for_flask.protect(app, POLICY, identify=who)
        with serving_wsgi(app) as port:
            for by in ("client", "context", "dispatch"):
                for to in ("/open", "/keeper"):
                    with self.subTest(by, to=to):
                        got, _, body = ask(port, "GET", f"/trees/1?by={by}&to={to}", X_Caller="3")
                        self.assertEqual(got, 500, body)
                        self.assertNotIn("secret", body)

    def test_5_django(self) -> None:
        urls = [
            path("trees/<tree_id>", lambda request, tree_id: HttpResponse("secret"), name="tree"),
            path("open", lambda request: HttpResponse("open"), name="open"),
        ]
        with self.django(urls, f"{__name__}.tries_again"), serving_wsgi(WSGIHandler()) as port:
            got, _, body = ask(port, "GET", "/trees/1", X_Caller="3")
            self.assertEqual(got, 500, body)
            self.assertNotIn("secret", body)


def tries_again(get_response: Any) -> Any:
    """Middleware inside that lets another page be made, and gives out the first one."""

    def middleware(request: Any) -> Any:
        first = get_response(request)
        request.path_info = "/open"
        get_response(request)
        return first

    return middleware


class Prefixes(Silent):
    """6 and 9: what is compared is the path that routers match, wherever a prefix was taken off."""

    def test_6_a_prefix_that_middleware_in_a_mount_cuts_off(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nendpoints\n  any /m/** signed-in\n  any /** anyone\n"
            "always\n  /m/secret keeper\n  /m/deep/secret keeper\n"
        )

        class Cuts:
            """Takes a language off the path, the way of ASGI: by a longer root path."""

            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                root = scope.get("root_path", "")
                if scope["path"].startswith(f"{root}/en"):
                    scope = {**scope, "root_path": f"{root}/en"}
                await self.app(scope, receive, send)

        async def say(request: Any) -> Any:
            return PlainTextResponse("served")

        def routes() -> list[Any]:
            deep = Mount("/deep", routes=[Route("/secret", say)], middleware=[Middleware(Cuts)])
            return [Mount("/m", routes=[Route("/secret", say), deep], middleware=[Middleware(Cuts)])]

        api = fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None)
        api.router.routes.extend(routes())
        for protect, app in ((for_starlette.protect, Starlette(routes=routes())), (for_fastapi.protect, api)):
            protect(app, policy, identify=who)
            with serving(app) as port:
                for target in ("/m/secret", "/m/en/secret", "/m/deep/secret", "/m/en/deep/secret", "/m/deep/en/secret"):
                    for caller, status in (("", 401), ("3", 403), ("4", 200)):
                        with self.subTest(type(app).__name__, target=target, caller=caller):
                            self.assertEqual(ask(port, "GET", target, X_Caller=caller)[0], status)

    def test_6_random_mounts(self) -> None:
        """Whatever is cut off or rewritten on the way: a standing rule is asked of the path that routers match."""

        class Cuts:
            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                root, whole = scope.get("root_path", ""), scope["path"]
                if whole.startswith(f"{root}/en/"):
                    scope = {**scope, "root_path": f"{root}/en"}
                if whole.startswith(f"{root}/v1/"):
                    scope = {**scope, "path": root + whole.removeprefix(f"{root}/v1")}
                await self.app(scope, receive, send)

        async def say(request: Any) -> Any:
            return PlainTextResponse("served")

        rng = random.Random(6)
        for _ in range(80):
            levels = [(rng.choice(("/m{}", "/{{p{}}}", "")), rng.random() < 0.5) for _ in range(rng.randint(1, 3))]
            inner: list[Any] = [Route("/secret", say)]
            matched = sent = ""
            for number, (template, cuts) in enumerate(levels):
                word = template.format(number).replace("{", "v").replace("}", "")
                matched += word
                sent += word + (rng.choice(("", "/en", "/v1")) if cuts else "")
            for number, (template, cuts) in reversed([*enumerate(levels)]):
                made = rng.choice((Router, Starlette))(routes=inner)
                layers = [Middleware(Cuts)] if cuts else []
                inner = [Mount(template.format(number) or "/", app=made, middleware=layers)]
            policy = bloodroot.parse(
                f"roles\n  keeper\nendpoints\n  any /** anyone\nalways\n  {matched}/secret keeper\n"
            )
            app = Starlette(routes=inner)
            for_starlette.protect(app, policy, identify=who)
            root = rng.choice(("", "/app", "/m0", "/en"))
            for caller, status in (("3", 403), ("4", 200)):
                asked = Asked("GET", f"{sent}/secret", caller, root)
                self.assertEqual(asyncio.run(ask_asgi(app, asked))[0], status, (levels, sent, root))

    def test_9_a_prefix_within_a_path(self) -> None:
        served: list[str] = []

        async def inner(scope: Any, receive: Any, send: Any) -> None:
            """Frameworks differ over where they look for the prefix: one takes it off wherever it is."""
            root, whole = scope["root_path"], scope["path"]
            served.append(whole.split(root, 1)[-1] if root else whole)
            served.append(whole.removeprefix(root))
            served.append(scope["raw_path"].decode().removeprefix(root))
            await PlainTextResponse("served")(scope, receive, send)

        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  any /public/** anyone\n  any /secret keeper\n")
        protected = asgi.AccessMiddleware(inner, policy, identify=who)
        for root in ("/api", "/api/"):

            async def behind(scope: Any, receive: Any, send: Any, root: str = root) -> None:
                await protected({**scope, "root_path": root}, receive, send)

            with serving(behind) as port:
                for target, read in (
                    ("/public/api/secret", "/public/api/secret"),
                    ("/api/public/api/secret", "/public/api/secret"),
                    ("/public/x", "/public/x"),
                ):
                    served.clear()
                    with self.subTest(root, target=target):
                        self.assertEqual(ask(port, "GET", target)[0], 200)
                        self.assertEqual(served, [read] * 3)
                for target in ("/api/secret", "/secret"):
                    self.assertEqual(ask(port, "GET", target)[0], 401)


class LateRoutes(Silent):
    """8: a route that comes late joins no action by its name, and no name stands for several handlers."""

    TEXT = "endpoints\n  action index anyone\n"

    def test_8_starlette_and_fastapi(self) -> None:
        def handlers() -> tuple[Any, Any]:
            async def index(request: Any) -> Any:
                return PlainTextResponse("front")

            front = index

            async def index(request: Any) -> Any:  # type: ignore[no-redef]
                return PlainTextResponse("secret")

            return front, index

        for make, protect in (
            (Starlette, for_starlette.protect),
            (lambda: fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None), for_fastapi.protect),
        ):
            front, late = handlers()
            app = make()
            app.router.add_route("/", front)
            protect(app, bloodroot.parse(self.TEXT), identify=who)
            app.router.add_route("/admin", late)
            with self.subTest(protect.__module__), serving(app) as port:
                self.assertEqual(ask(port, "GET", "/")[::2], (200, "front"))
                self.assertEqual(ask(port, "GET", "/admin")[0], 403)
            both = make()
            both.router.add_route("/", front)
            both.router.add_route("/admin", late)
            with self.assertRaisesRegex(bloodroot.PolicyError, "action index is the name of several handlers"):
                protect(both, bloodroot.parse(self.TEXT), identify=who)
            said = self.TEXT.replace("anyone", 'anyone accept action-of-several-routes "two doors"')
            protect(both, bloodroot.parse(said), identify=who)

    def test_8_flask_and_django(self) -> None:
        app = flask.Flask("orchard", static_folder=None)
        app.add_url_rule("/", "index", lambda: "front")
        for_flask.protect(app, bloodroot.parse(self.TEXT), identify=who)
        app.add_url_rule("/admin", "index")
        with serving_wsgi(app) as port:
            self.assertEqual(ask(port, "GET", "/")[::2], (200, "front"))
            self.assertEqual(ask(port, "GET", "/admin")[0], 403)

        def index(request: Any) -> Any:
            return HttpResponse("front")

        def other(request: Any) -> Any:
            return HttpResponse("secret")

        urls = [path("", index, name="index"), path("x/", include([path("y", other)]))]
        with self.django(urls, policy=bloodroot.parse(self.TEXT)), serving_wsgi(WSGIHandler()) as port:
            urls.append(path("admin", other, name="index"))
            self.assertEqual(ask(port, "GET", "/")[::2], (200, "front"))
            self.assertEqual(ask(port, "GET", "/admin")[0], 403)
        twice = [path("", index, name="index"), path("admin", other, name="index")]
        with (
            self.assertRaisesRegex(bloodroot.PolicyError, "several handlers"),
            self.django(twice, policy=bloodroot.parse(self.TEXT)),
        ):
            WSGIHandler()


class TakenApart(Silent):
    """What is exchanged in an application after it was protected is protected as well."""

    def test_another_router_or_list_of_routes(self) -> None:
        async def secret(request: Any) -> Any:
            return PlainTextResponse("secret")

        def router(app: Any) -> None:
            app.router = Router([Route("/keeper", secret), Route("/trees/{tree_id}", secret), Mount("/m", Router([]))])

        def routes(app: Any) -> None:
            app.router.routes = [Route("/keeper", secret), Route("/trees/{tree_id}", secret)]

        def sliced(app: Any) -> None:
            app.router.routes[:] = [Route("/keeper", secret), Route("/trees/{tree_id}", secret)]

        def copied(app: Any) -> None:
            found = [copy.copy(each) for each in app.router.routes]
            app.router.routes.clear()
            app.router.routes.extend(found)

        def stack(app: Any) -> None:
            app.router.middleware_stack = app.router.app

        for change in (router, routes, sliced, copied, stack):
            for name, app, protect in starlettes({"/open": secret, "/keeper": secret, "/trees/{tree_id}": secret}):
                protect(app, POLICY, identify=who)
                change(app)
                with self.subTest(change.__name__, stack=name), serving(app) as port:
                    for target, caller, status in (
                        ("/keeper", "", 401),
                        ("/keeper", "3", 403),
                        ("/trees/1", "3", 500),
                        ("/keeper/", "", 401),
                        ("/keeper", "4", 200),
                    ):
                        if change is stack and target == "/keeper/":
                            continue
                        found = ask(port, "GET", target, X_Caller=caller)
                        self.assertEqual((found[0], "secret" in found[2]), (status, status == 200), (target, caller))


class Mounted(Silent):
    def test_a_router_of_its_own_is_decided_by_its_whole_path(self) -> None:
        # What mounts have matched counts once, however a request comes there.
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  any /a/b/** keeper\n  any /** anyone\n")

        async def say(request: Any) -> Any:
            return PlainTextResponse("served")

        app = Starlette(routes=[Mount("/a", Router([Mount("/b", Router([Route("/c", say)]))]))])
        for_starlette.protect(app, policy, identify=who)
        with serving(app) as port:
            for caller, status in (("", 401), ("3", 403), ("4", 200)):
                self.assertEqual(ask(port, "GET", "/a/b/c", X_Caller=caller)[0], status)
