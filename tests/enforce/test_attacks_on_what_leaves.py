"""Attacks on what leaves: after the last check, beside a response, in logs; and on what frameworks give to views.

The numbers are those of `test_attacks_inside`: 10 responses after the last check, 11 what leaves beside a response, 13
secrets in logs, 14 what frameworks give to views.
"""

import logging
import types
from typing import Any

import anyio
import flask
from django.contrib import messages
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import path
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.responses import PlainTextResponse
from starlette.routing import Route

import bloodroot
from bloodroot.enforce import asgi, current, guard
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.enforce.orchard import KEY, POLICY, TREES, Silent, starlettes, who
from tests.servers import ask, serving, serving_wsgi

_PLAIN = ("http.response.start", "http.response.body")


class AfterTheLastCheck(Silent):
    """10: error handlers outside of everything give out nothing that is not cleared."""

    def test_10_starlette_and_fastapi(self) -> None:
        async def fails(request: Any) -> Any:
            raise ZeroDivisionError("secret of the tree")

        async def grouped(request: Any) -> Any:
            @guard("keeper", policy=POLICY)
            async def inner() -> None: ...

            async with anyio.create_task_group() as group:
                group.start_soon(inner)
            return PlainTextResponse("secret")

        async def swallowed(request: Any) -> Any:
            try:
                return await grouped(request)
            except BaseException as error:
                raise ValueError("secret of the tree") from error

        async def gives_out(request: Any, error: Exception) -> Any:
            return PlainTextResponse(f"secret: {error}", 200)

        for key in (Exception, 500):
            routes = {"/trees/{tree_id}": fails, "/open": grouped, "/batch": swallowed}
            for name, app, protect in starlettes(routes, exception_handlers={key: gives_out}):
                protect(app, POLICY, identify=who)
                with self.subTest(name, key=key), serving(app) as port:
                    for target, status in (("/trees/1", 500), ("/open", 403), ("/batch", 403)):
                        got, headers, body = ask(port, "GET", target, X_Caller="3")
                        self.assertEqual((got, "secret" in body), (status, False), (target, body))
                        if status == 403:
                            self.assertIn("no-store", headers["cache-control"])

    def test_10_an_error_handler_that_fails_while_a_refusal_is_on_its_way(self) -> None:
        async def tree(request: Any) -> Any:
            request.state.tree = "secret"
            current().pass_guard(POLICY.guard("keeper"), None)

        async def fails(request: Any, error: Exception) -> Any:
            raise ZeroDivisionError

        async def gives_out(request: Any, error: Exception) -> Any:
            return PlainTextResponse(getattr(request.state, "tree", "none"), 200)

        handlers = {403: fails, Exception: gives_out}
        for name, app, protect in starlettes({"/open": tree, "/keeper": tree}, exception_handlers=handlers):
            protect(app, POLICY, identify=who)
            with self.subTest(name), serving(app) as port:
                for target in ("/open", "/keeper"):
                    got, headers, body = ask(port, "GET", target, X_Caller="3")
                    self.assertEqual((got, "secret" in body), (403, False), body)
                    self.assertIn("no-store", headers["cache-control"])

    def test_10_django(self) -> None:
        def tree(request: Any) -> Any:
            request.tree = "secret"
            current().pass_guard(POLICY.guard("keeper"), None)

        urls = [path("open", tree, name="open"), path("trees/<tree_id>", lambda request, tree_id: 1 / 0, name="tree")]
        handlers = {"handler403": fails, "handler500": gives_out}
        for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
            with self.django(urls, names=handlers, DEBUG_PROPAGATE_EXCEPTIONS=False), server() as port:
                for target, status in (("/open", 403), ("/trees/1", 500)):
                    got, _, body = ask(port, "GET", target, X_Caller="3")
                    self.assertEqual((got, "secret" in body), (status, False), (target, body))

    def test_10_flask(self) -> None:
        app = flask.Flask("orchard", static_folder=None)

        def tree(tree_id: str) -> Any:
            if tree_id == "1":
                raise ZeroDivisionError
            return "secret"

        def after(response: Any) -> Any:
            if flask.request.path == "/trees/3":
                raise ValueError
            return response

        app.add_url_rule("/trees/<tree_id>", "tree", tree)
        app.register_error_handler(Exception, lambda error: ("secret", 200))
        app.after_request(after)
        for_flask.protect(app, POLICY, identify=who)
        with serving_wsgi(app) as port:
            for target in ("/trees/1", "/trees/2", "/trees/3"):
                got, _, body = ask(port, "GET", target, X_Caller="3")
                self.assertEqual((got, "secret" in body), (500, False), (target, body))


def fails(request: Any, exception: Any) -> Any:
    raise ZeroDivisionError


def gives_out(request: Any) -> Any:
    return HttpResponse(getattr(request, "tree", "secret of nobody"))


class BesideTheResponse(Silent):
    """11: a response that is withheld leaves nothing: no session, no message, no header, no hint, no push."""

    def test_11_starlette_and_fastapi(self) -> None:
        async def tree(request: Any) -> Any:
            request.session["seen"] = "secret"
            request.session.setdefault("list", []).append("secret")
            await request._send({"type": "http.response.early_hint", "links": [b"</secret>; rel=preload"]})
            await request._send({"type": "http.response.push", "path": "/secret", "headers": []})
            if request.path_params["tree_id"] == "3":
                current().pass_guard(POLICY.guard("keeper"), None)
            return PlainTextResponse("secret")

        async def fine(request: Any) -> Any:
            request.session["seen"] = "open"
            return PlainTextResponse("open")

        sent: list[Any] = []

        class Sees:
            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                async def seen(message: Any) -> None:
                    sent.append(message)
                    if message["type"] in ("http.response.start", "http.response.body"):
                        await send(message)

                await self.app(scope, receive, seen)

        middleware = [Middleware(SessionMiddleware, secret_key=KEY)]
        for name, app, protect in starlettes({"/trees/{tree_id}": tree, "/open": fine}, middleware=middleware):
            protect(app, POLICY, identify=who)
            with self.subTest(name), serving(Sees(app)) as port:
                for target, status in (("/trees/1", 500), ("/trees/3", 403)):
                    sent.clear()
                    got, headers, body = ask(port, "GET", target, X_Caller="3")
                    self.assertEqual((got, "secret" in body), (status, False), body)
                    self.assertNotIn("set-cookie", headers)
                    self.assertEqual([each for each in sent if each["type"] not in _PLAIN], [])
                self.assertIn("set-cookie", ask(port, "GET", "/open", X_Caller="3")[1])

        async def bare(scope: Any, receive: Any, send: Any) -> None:
            await send({"type": "http.response.early_hint", "links": [b"</secret>; rel=preload"]})
            await PlainTextResponse("secret")(scope, receive, send)

        sent.clear()
        with serving(Sees(asgi.AccessMiddleware(bare, POLICY, identify=who))) as port:
            self.assertEqual(ask(port, "GET", "/trees/1", X_Caller="3")[0], 500)
            self.assertEqual([each["type"] for each in sent if each["type"] not in _PLAIN], [])
            self.assertEqual(ask(port, "GET", "/open", X_Caller="3")[0], 200)
            self.assertEqual([each["type"] for each in sent][2:4], ["http.response.early_hint", "http.response.start"])

    def test_11_flask(self) -> None:
        app = flask.Flask("orchard", static_folder=None)
        app.secret_key = KEY
        hints: list[Any] = []

        def tree(tree_id: str) -> Any:
            flask.session["seen"] = "secret"
            flask.flash("secret")
            flask.request.environ["wsgi.early_hints"]([("Link", "</secret>")])

            @flask.after_this_request
            def later(response: Any) -> Any:
                response.headers["X-Secret"] = "secret"
                return response

            if tree_id == "3":
                current().pass_guard(POLICY.guard("keeper"), None)
            return "secret"

        def swallows(tree_id: str = "3") -> Any:
            try:
                tree(tree_id)
            except Exception:
                flask.session["more"] = "secret"
            return "secret"

        app.add_url_rule("/trees/<tree_id>", "tree", tree)
        app.add_url_rule("/batch", "batch", swallows)
        for_flask.protect(app, POLICY, identify=who)

        def with_hints(environ: Any, start_response: Any) -> Any:
            environ["wsgi.early_hints"] = hints.append
            return app(environ, start_response)

        with serving_wsgi(with_hints) as port:
            for target, status in (("/trees/1", 500), ("/trees/3", 403), ("/batch", 403)):
                got, headers, body = ask(port, "GET", target, X_Caller="3")
                self.assertEqual((got, "secret" in body), (status, False), body)
                self.assertFalse({"set-cookie", "x-secret"} & headers.keys(), target)
        self.assertEqual(hints, [])

    def test_11_django(self) -> None:
        def tree(request: Any, tree_id: str) -> Any:
            request.session["seen"] = "secret"
            messages.info(request, "secret")
            if tree_id == "3":
                current().pass_guard(POLICY.guard("keeper"), None)
            return HttpResponse("secret")

        def fine(request: Any) -> Any:
            request.session["seen"] = "open"
            return HttpResponse("open")

        before = [
            "django.contrib.sessions.middleware.SessionMiddleware",
            "django.contrib.messages.middleware.MessageMiddleware",
        ]
        settings = {
            "SESSION_ENGINE": "django.contrib.sessions.backends.signed_cookies",
            "MESSAGE_STORAGE": "django.contrib.messages.storage.cookie.CookieStorage",
        }
        urls = [path("trees/<tree_id>", tree, name="tree"), path("open", fine, name="open")]
        for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
            with self.django(urls, before=before, **settings), server() as port:
                for target, status in (("/trees/1", 500), ("/trees/3", 403)):
                    got, headers, body = ask(port, "GET", target, X_Caller="3")
                    self.assertEqual((got, "secret" in body), (status, False), body)
                    self.assertNotIn("set-cookie", headers)
                self.assertIn("set-cookie", ask(port, "GET", "/open", X_Caller="3")[1])


class InLogs(Silent):
    """13: what is written to the log of a request that is refused has names and types, and no values."""

    def test_13_names_and_types(self) -> None:
        logging.disable(logging.NOTSET)
        policy = bloodroot.parse(
            "conditions\n  right  record.pin == path.pin and record.code < 3\nendpoints\n  GET /safe/{pin} right\n"
        )
        safe = types.SimpleNamespace(pin="4711", code="hush")

        async def serve(request: Any) -> Any:
            return PlainTextResponse("open")

        app = Starlette(routes=[Route("/safe/{pin}", serve)])
        for_starlette.protect(app, policy, identify=who, records={"pin": lambda text: safe})
        with serving(app) as port, self.assertLogs("bloodroot.enforce", "WARNING") as caught:
            self.assertEqual(ask(port, "GET", "/safe/4711", X_Caller="3")[0], 403)
        message = "\n".join(caught.output)
        self.assertIn("record.code is of the type str", message)
        self.assertNotIn("hush", message)
        self.assertNotIn('"4711"', message)


class GivenToViews(Silent):
    """14: what a framework gives to a view is what is decided."""

    def test_14_extra_arguments_of_django(self) -> None:
        seen: list[str] = []

        def tree(request: Any, tree_id: str) -> Any:
            seen.append(tree_id)
            return HttpResponse(f"tree {tree_id}")

        urls = [path("trees/<tree_id>", tree, {"tree_id": "2"}, name="tree")]
        records = {"records": {"tree_id": TREES.get}}
        with self.django(urls, bloodroot=records), serving_wsgi(WSGIHandler()) as port:
            self.assertEqual(ask(port, "GET", "/trees/1", X_Caller="3")[0], 403)  # tree 2 is another's
            self.assertEqual(seen, [])
            self.assertEqual(ask(port, "GET", "/trees/1", X_Caller="4")[::2], (200, "tree 2"))

    def test_14_arguments_that_middleware_inside_changes(self) -> None:
        def tree(request: Any, tree_id: str) -> Any:
            return HttpResponse(f"tree {tree_id}")

        urls = [path("trees/<tree_id>", tree, name="tree")]
        records = {"records": {"tree_id": TREES.get}}
        for inside, status in (
            (f"{__name__}.changes_arguments", 500),
            ("tests.enforce.test_attacks_inside.looks", 200),
        ):
            with self.django(urls, inside, bloodroot=records), serving_wsgi(WSGIHandler()) as port:
                got, _, body = ask(port, "GET", "/trees/1", X_Caller="3")
                self.assertEqual((got, "tree 2" in body), (status, False))


def changes_arguments(get_response: Any) -> Any:
    class Changes:
        def __call__(self, request: Any) -> Any:
            return get_response(request)

        def process_view(self, request: Any, view: Any, args: Any, kwargs: Any) -> None:
            kwargs["tree_id"] = "2"

    return Changes()
