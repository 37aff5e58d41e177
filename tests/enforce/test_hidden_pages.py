"""What is hidden is the missing page to the byte, and no cache keeps what was refused."""

import contextlib
import logging
import re
import socket
import unittest
from typing import Any

import flask
from django.conf.urls.i18n import i18n_patterns
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import path
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import asgi, wsgi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import configure, project
from tests.servers import ask, serving, serving_wsgi

KEY = "a key for tests, and nothing else but tests"
TEXT = """
roles
  keeper
conditions
  own  record.owner == caller.id
endpoints
  GET   /in           anyone
  GET   /secret       keeper
  GET   /notes/{note} own
  GET   /office       keeper
denials
  /secret     any  hide
  /notes/**   any  hide
"""
CALLERS = {"3": Caller(3), "4": Caller(4, {"keeper"})}
NOTES = {"mine": {"owner": 3}, "hers": {"owner": 4}}
CLOSED, OPEN = bloodroot.parse(TEXT), bloodroot.parse(TEXT.replace("endpoints\n", "endpoints\n  any /** anyone\n"))


def of_session(session: Any) -> Caller | None:
    return CALLERS.get(session.get("member", ""))


def raw(port: int, target: str, *headers: str) -> tuple[str, str]:
    """The whole answer as it comes over the line, but for the date; and the cookie that it sets."""
    with socket.create_connection(("127.0.0.1", port), 5) as line:
        line.sendall("\r\n".join([f"GET {target} HTTP/1.1", "Host: x", *headers, "Connection: close", "", ""]).encode())
        found = b"".join(iter(lambda: line.recv(65536), b"")).decode("latin-1")
    cookie = re.search(r"(?im)^set-cookie: ([^;]*)", found)
    return re.sub(r"(?im)^date: [^\r]*\r\n", "", found), cookie[1] if cookie else ""


class Hidden(unittest.TestCase):
    def setUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)

    def check(self, port: int, *more: tuple[str, str], prefix: str = "") -> None:
        """Hidden addresses, and ones of the same length where nothing is, as callers with every kind of cookie."""
        member = raw(port, f"{prefix}/in?member=3")[1]
        keeper = raw(port, f"{prefix}/in?member=4")[1]
        for hidden, missing in ((f"{prefix}/secret", f"{prefix}/nobody"), *more):
            for headers in ((), (f"Cookie: {member}",), ("Cookie: session=bogus; sessionid=bogus",)):
                for accept in ("*/*", "text/html", "application/json"):
                    asked = (*headers, f"Accept: {accept}")
                    with self.subTest(hidden, asked=asked):
                        one, other = raw(port, hidden, *asked)[0], raw(port, missing, *asked)[0]
                        self.assertEqual(one, other)
                        self.assertRegex(one, r"^HTTP/1.[01] 404 ")
                        self.assertRegex(one.lower(), r"\r\ncache-control: no-store\r\n")
                        self.assertEqual(one.lower().count("\r\nvary:"), 1, one)
        self.assertRegex(raw(port, f"{prefix}/secret", f"Cookie: {keeper}")[0], r"^HTTP/1.[01] 200 ")

    def test_starlette(self) -> None:
        async def sign_in(request: Any) -> Any:
            request.session["member"] = request.query_params["member"]
            return PlainTextResponse("in")

        async def serve(request: Any) -> Any:
            return PlainTextResponse("served")

        class Caches:
            """Middleware of the application that lets every page be kept."""

            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                async def kept(message: Any) -> None:
                    if message["type"] == "http.response.start":
                        message["headers"] = [*message["headers"], (b"cache-control", b"public, max-age=600")]
                    await send(message)

                await self.app(scope, receive, kept)

        for policy in (CLOSED, OPEN):
            app = Starlette(
                routes=[
                    Route("/in", sign_in),
                    Route("/secret", serve),
                    Route("/notes/{note}", serve),
                    Mount("/m", routes=[Route("/x", serve)]),
                    Route("/office", serve),
                ],
                middleware=[Middleware(Caches), Middleware(SessionMiddleware, secret_key=KEY)],
            )
            records = {"note": NOTES.get}
            for_starlette.protect(app, policy, identify=lambda request: of_session(request.session), records=records)
            with self.subTest(hides=policy is OPEN), serving(app) as port:
                self.check(port, ("/notes/hers", "/notes/none"))
                refused = raw(port, "/office")[0].lower()
                self.assertIn("\r\ncache-control: no-store\r\n", refused)
                self.assertNotIn("max-age", refused)

    def test_flask(self) -> None:
        for policy in (CLOSED, OPEN):
            app = flask.Flask("tarn", static_folder=None)
            app.secret_key = KEY
            app.add_url_rule("/in", "in", lambda: flask.session.update(flask.request.args) or "in")
            app.add_url_rule("/secret", "secret", lambda: "served")
            app.add_url_rule("/notes/<note>", "note", lambda note: "served")
            app.add_url_rule("/office", "office", lambda: "served")

            @app.after_request
            def kept(response: Any) -> Any:
                response.headers["Cache-Control"] = "public, max-age=600"
                return response

            records = {"note": NOTES.get}
            for_flask.protect(app, policy, identify=lambda request: of_session(flask.session), records=records)
            with self.subTest(hides=policy is OPEN), serving_wsgi(app) as port:
                self.check(port, ("/notes/hers", "/notes/none"))
                self.assertIn("\r\ncache-control: no-store\r\n", raw(port, "/office")[0].lower())

    def test_django(self) -> None:
        configure()

        def sign_in(request: Any) -> Any:
            request.session["member"] = request.GET["member"]
            return HttpResponse("in")

        def serve(request: Any, **values: str) -> Any:
            return HttpResponse("served")

        plain = [path("in", sign_in), path("secret", serve), path("notes/<note>", serve), path("office", serve)]
        slashed = [path("in", sign_in), path("secret/", serve, name="secret"), path("open/", serve)]
        languages = [path("in", sign_in), *i18n_patterns(path("secret", serve, name="secret"), path("open", serve))]
        by_action = TEXT.replace("GET   /secret       keeper", "action secret keeper\n  any /open anyone")
        in_language = by_action.replace("  /secret     any", "  /en/secret  any").replace("any /open", "any /en/open")
        before = [
            "django.contrib.sessions.middleware.SessionMiddleware",
            "django.middleware.locale.LocaleMiddleware",
            "django.middleware.common.CommonMiddleware",
        ]
        for urls, text, more, redirect in (
            (plain, TEXT, (("/notes/hers", "/notes/none"),), None),
            (plain, TEXT.replace("endpoints\n", "endpoints\n  any /** anyone\n"), (), None),
            (slashed, by_action, (("/secret/", "/nobody/"),), ("/open", "/open/")),
            (languages, in_language, (("/en/secret", "/en/nobody"),), ("/open", "/en/open")),
        ):
            given = {
                "policy": bloodroot.parse(text),
                "identify": lambda request: of_session(request.session),
                "records": {"note": NOTES.get} if urls is plain else {},
            }
            settings = {
                "SESSION_ENGINE": "django.contrib.sessions.backends.signed_cookies",
                "MIDDLEWARE": [*before, "bloodroot.enforce.django.AccessMiddleware"],
                "APPEND_SLASH": True,
                "USE_I18N": True,
            }
            for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
                with contextlib.ExitStack() as stack:
                    stack.enter_context(project(urls, BLOODROOT=given, **settings))
                    port = stack.enter_context(server())
                    if redirect is None:
                        self.check(port, *more)
                        continue
                    # What is not hidden is led on to as ever, for those who may see it.
                    self.assertEqual(ask(port, "GET", redirect[0])[1].get("location"), redirect[1])
                    keeper = raw(port, "/in?member=4")[1]
                    self.assertRegex(raw(port, "/secret", f"Cookie: {keeper}")[0], r"HTTP/1.[01] 30[12] ")
                    for hidden, missing in (("/secret", "/nobody"), *more):
                        for headers in ((), ("Cookie: sessionid=bogus",), (f"Cookie: {raw(port, '/in?member=3')[1]}",)):
                            with self.subTest(hidden, headers=headers):
                                self.assertEqual(raw(port, hidden, *headers)[0], raw(port, missing, *headers)[0])

    def test_django_while_it_is_developed(self) -> None:
        urls = [path("notes/<note>", lambda request, note: HttpResponse("served"))]
        policy, callers = bloodroot.parse(TEXT), lambda request: CALLERS["3"]
        given = {"policy": policy, "identify": callers, "records": {"note": NOTES.get}}
        middleware = ["bloodroot.enforce.django.AccessMiddleware"]
        with (
            project(urls, BLOODROOT=given, MIDDLEWARE=middleware, DEBUG=True),
            serving_wsgi(WSGIHandler()) as port,
        ):
            for target, status in (("/notes/mine", 200), ("/notes/hers", 404), ("/notes/none", 404), ("/nothing", 404)):
                self.assertEqual(ask(port, "GET", target)[0], status, target)

    def test_without_a_framework(self) -> None:
        def member(request: Any) -> Caller | None:
            return CALLERS.get(request.cookies.get("member", ""))

        def answer(target: str) -> tuple[int, str, list[tuple[str, str]]]:
            if target == "/in":
                return 200, "in", []
            found = target in ("/secret", "/office", "/notes/hers")
            return (200, "served", []) if found else (404, '{"detail": "none"}', [("x-app", "yes")])

        async def app(scope: Any, receive: Any, send: Any) -> None:
            status, text, headers = answer(scope["path"])
            headers = (
                [*headers, ("set-cookie", f"member={scope['query_string'].decode()[7:]}")] if text == "in" else headers
            )
            await PlainTextResponse(text, status, dict(headers))(scope, receive, send)

        def app_of_wsgi(environ: Any, start_response: Any) -> Any:
            status, text, headers = answer(environ["PATH_INFO"])
            if text == "in":
                headers = [("Set-Cookie", f"member={environ['QUERY_STRING'][7:]}")]
            start_response(f"{status} x", headers)
            return [text.encode()]

        for policy in (CLOSED, OPEN):
            how = {"identify": member, "records": {"note": NOTES.get}}
            for kind, server in (
                (asgi.AccessMiddleware(app, policy, **how), serving),
                (wsgi.AccessMiddleware(app_of_wsgi, policy, **how), serving_wsgi),
            ):
                with self.subTest(type(kind).__module__), server(kind) as port:
                    if policy is OPEN:
                        self.check(port, ("/notes/hers", "/notes/none"))
                    else:
                        cookie = raw(port, "/in?member=3")[1]
                        asked = f"Cookie: {cookie}"
                        self.assertEqual(raw(port, "/notes/hers", asked), raw(port, "/notes/none", asked))
