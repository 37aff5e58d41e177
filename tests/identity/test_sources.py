"""Who is calling, over real HTTP: tokens, the sessions of three frameworks, trusted headers, a directory behind them."""

import contextlib
import datetime
import json
import os
import sqlite3
import time
from collections.abc import Callable
from typing import Any

import django
import django.conf
import django.core.handlers.wsgi
import django.http
import django.test.utils
import django.urls
import flask
import jwt
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

import bloodroot
from bloodroot import Caller, Unidentified
from bloodroot.enforce import current
from bloodroot.enforce.asgi import AccessMiddleware
from bloodroot.identity import Identification, load
from bloodroot.settings import SettingsError
from tests.django_project import project
from tests.program import InFolder
from tests.requests import Sent
from tests.servers import ask, serving, serving_wsgi

KEY = "a key for tests, and nothing else but tests"
POLICY = """
policy "Tarn Bank"
roles
  helper  default
  keeper  includes helper
permissions
  lot:read  helper
  lot:edit  keeper
endpoints
  GET POST  /in    anyone
  GET   /open      anyone
  GET   /lots      lot:read
  GET   /lots/new  lot:edit
  GET   /api/lots  lot:edit
denials
  signed-out          go /in
  /api/** signed-out  status 401 "Send a token."
"""


def token(sub: object = "3", minutes: float = 5, key: str = KEY, **claims: object) -> str:
    ends = datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=minutes)
    return jwt.encode({"sub": sub, "exp": ends, **claims}, key, "HS256")


def who(caller: Caller | None) -> list[object]:
    return [caller.id, *sorted(caller.roles)] if caller is not None else [None]


class Behind(InFolder):
    """Applications whose callers are found as settings say."""

    def identification(self, text: str) -> Identification:
        self.addCleanup(os.environ.pop, "TARN_KEY", None)
        os.environ["TARN_KEY"] = KEY
        found = load(self.write("bloodroot.toml", text))
        if found.directory is not None:
            self.addCleanup(found.directory.engine.dispose)
        return found

    def starlette(self, identify: Callable[..., Any]) -> Starlette:
        def tell(request: Request) -> JSONResponse:
            access = current()
            reason = access.unidentified.reason if access.unidentified else None
            return JSONResponse([who(access.caller), reason, [step.text for step in access.steps]])

        async def sign_in(request: Request) -> JSONResponse:
            request.session["member"] = int(request.query_params["id"])
            request.session["duties"] = ["keeper"]
            return JSONResponse([])

        paths = ("/open", "/lots", "/lots/new", "/api/lots")
        return Starlette(
            routes=[Route("/in", sign_in, methods=["POST"]), *(Route(path, tell) for path in paths)],
            middleware=[
                Middleware(SessionMiddleware, secret_key=KEY),
                Middleware(AccessMiddleware, policy=bloodroot.parse(POLICY), identify=identify),
            ],
        )


class Tokens(Behind):
    def test_a_broken_token_is_a_signed_out_caller_who_hears_why(self) -> None:
        identify = self.identification('[identity]\nfrom = "jwt"\nkey = "{env.TARN_KEY}"\nroles = "duties"\n')
        good = token(duties=["keeper"])
        with serving(self.starlette(identify)) as port:

            def challenge(path: str, sent: str | None, **more: str) -> tuple[int, str | None, str]:
                headers = {"Authorization": sent} if sent is not None else {}
                status, found, body = ask(port, "GET", path, **headers, **more)
                return status, found.get("www-authenticate"), body

            realm = 'Bearer realm="Tarn Bank"'
            for sent, why in (
                (f"Bearer {token(minutes=-1)}", "the token has expired"),
                (f"bearer {token(key=KEY[::-1])}", "the token was not signed with the key that counts here"),
                ("Bearer x", "this is not a token that can be read"),
                (f"Bearer {token(sub='')}", "the token has no sub, so it identifies no one"),
            ):
                with self.subTest(why):
                    said = f'{realm}, error="invalid_token", error_description="{why}"'
                    answered = f"{why[0].upper()}{why[1:]}. "
                    for path, more in (("/api/lots", "Send a token."), ("/lots", "Sign in to use this.")):
                        status, header, body = challenge(path, sent)
                        self.assertEqual((status, header), (401, said))
                        self.assertIn(answered + more, body)
                    self.assertEqual(challenge("/open", sent)[0], 200)
                    self.assertIn(
                        f'[[null],"{why}",["the caller is treated as signed out: {why}"', challenge("/open", sent)[2]
                    )
            self.assertEqual(challenge("/api/lots", None)[:2], (401, realm))
            self.assertEqual(challenge("/api/lots", "Basic eDp5")[:2], (401, realm))
            # Where callers are identified by token a program asks, unless it says that it wants a page.
            self.assertEqual(challenge("/lots", None)[:2], (401, realm))
            self.assertEqual(challenge("/lots", None, Accept="text/html")[0], 303)
            self.assertEqual(challenge("/lots/new", f"Bearer {good}")[0], 200)
            self.assertEqual(challenge("/lots/new", f"Bearer {token(duties='keepers')}")[0], 403)
            _, _, body = challenge("/lots", f"Bearer {token()}")
            self.assertIn('[["3"],null,["the token has no duties, so no roles come from it"', body)
        with self.assertRaisesRegex(Unidentified, "more than one token was sent"):
            identify(Sent(authorization=[f"Bearer {good}", f"Bearer {good}"]))

    def test_yesterdays_role_is_gone_though_the_token_still_has_it(self) -> None:
        self.make_directory()
        identify = self.identification(
            """
            [identity]
            from = "jwt"
            key = "{env.TARN_KEY}"
            roles = "duties"
            [directory]
            url = "sqlite:///staff.db"
            cache = 0.3
            queries = { member = "select id, status from staff where id = :id", roles = "select duty from staff where id = :id" }
            """
        )
        sent = {"Authorization": f"Bearer {token(duties=['keeper'])}"}
        with serving(self.starlette(identify)) as port:
            for change, status, expected in (
                ("update staff set duty = 'helper'", 403, '"You do not have access to this."'),
                ("update staff set duty = 'keeper'", 200, None),
                ("update staff set status = 'suspended'", 401, "Member 3 is suspended. Send a token."),
                ("update staff set status = 'active'", 200, None),
                ("delete from staff", 401, "The directory has no member 3."),
            ):
                self.change(change)
                began = time.monotonic()
                while (found := ask(port, "GET", "/api/lots", **sent))[0] != status:
                    self.assertLess(time.monotonic() - began, 5, f"{change}: still {found}")
                    time.sleep(0.02)
                if status == 401:
                    self.assertIn('error="invalid_token"', found[1]["www-authenticate"])
                    self.assertIn(expected, found[2])

    def make_directory(self) -> None:
        self.change("create table staff (id integer primary key, status text, duty text)")
        self.change("insert into staff values (3, 'active', 'keeper')")

    def change(self, statement: str) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "staff.db")) as database, database:
            database.execute(statement)


class Sessions(Behind):
    TEXT = '[identity]\nfrom = "session"\nid = "member"\nroles = "duties"\n'

    def seen(self, port: int) -> list[object]:
        """What an application says of its caller after signing in, and before."""
        before = json.loads(ask(port, "GET", "/open")[2])
        cookie = ask(port, "POST", "/in?id=3")[1]["set-cookie"].split(";")[0]
        return [before, json.loads(ask(port, "GET", "/open", Cookie=cookie)[2])]

    def test_starlette(self) -> None:
        with serving(self.starlette(self.identification(self.TEXT))) as port:
            before, after = self.seen(port)
        self.assertEqual((before[0], after[0]), ([None], [3, "keeper"]))

    def test_flask(self) -> None:
        identify = self.identification(self.TEXT)
        app = flask.Flask("tarn")
        app.secret_key = KEY

        @app.post("/in")
        def sign_in() -> Any:
            flask.session["member"] = int(flask.request.args["id"])
            flask.session["duties"] = ["keeper"]
            return []

        @app.get("/open")
        def tell() -> Any:
            return flask.jsonify(who(identify(flask.request)))

        with serving_wsgi(app) as port:
            self.assertEqual(self.seen(port), [[None], [3, "keeper"]])

    def test_django(self) -> None:
        identify = self.identification(self.TEXT)

        def sign_in(request: Any) -> Any:
            request.session["member"] = int(request.GET["id"])
            request.session["duties"] = ["keeper"]
            return django.http.JsonResponse([], safe=False)

        def tell(request: Any) -> Any:
            return django.http.JsonResponse(who(identify(request)), safe=False)

        urls = [django.urls.path("in", sign_in), django.urls.path("open", tell)]
        how = {
            "MIDDLEWARE": ["django.contrib.sessions.middleware.SessionMiddleware"],
            "SESSION_ENGINE": "django.contrib.sessions.backends.signed_cookies",
        }
        with project(urls, **how), serving_wsgi(django.core.handlers.wsgi.WSGIHandler()) as port:
            self.assertEqual(self.seen(port), [[None], [3, "keeper"]])


class Headers(Behind):
    TEXT = """
    [identity]
    from = "header"
    id = "X-Member"
    roles = "X-Duties"
    separator = ","
    attributes = { site = "X-Site" }
    senders = ["127.0.0.1", "10.1.0.0/16", "fd00::/8"]
    """

    def test_headers_are_believed_from_listed_addresses_alone(self) -> None:
        identify = self.identification(self.TEXT)
        sent = {"x_member": "3", "x_duties": "keeper, helper"}
        for sender, trusted in (
            ("127.0.0.1", True),
            ("10.1.200.7", True),
            ("::ffff:10.1.0.1", True),
            ("fd00::7", True),
            ("10.2.0.1", False),
            ("127.0.0.2", False),
            ("", False),
            ("testclient", False),
            (None, False),
        ):
            with self.subTest(sender=sender):
                if trusted:
                    self.assertEqual(who(identify(Sent(sender=sender, **sent))), ["3", "helper", "keeper"])
                else:
                    with self.assertRaisesRegex(Unidentified, "not among the senders listed") as caught:
                        identify(Sent(sender=sender, **sent))
                    self.assertFalse(caught.exception.token)
                self.assertIsNone(identify(Sent(sender=sender)))
        for name in ("x_member", "x_duties", "x_site"):
            with self.assertRaisesRegex(Unidentified, "was sent 2 times"):
                identify(Sent(sender="127.0.0.1", **{**sent, name: ["3", "4"]}))
        with self.assertRaisesRegex(Unidentified, "identifies no one"):
            identify(Sent(sender="127.0.0.1", x_member=""))

    def test_over_http_the_sender_is_whoever_is_connected(self) -> None:
        with serving(self.starlette(self.identification(self.TEXT))) as port:
            answered = ask(port, "GET", "/lots/new", X_Member="3", X_Duties="keeper")
            self.assertEqual((answered[0], '[["3","keeper"],null' in answered[2]), (200, True))
        with serving(self.starlette(self.identification(self.TEXT.replace("127.0.0.1", "127.0.0.9")))) as port:
            forged = ask(port, "GET", "/lots/new", X_Member="3", X_Duties="keeper", X_Forwarded_For="127.0.0.9")
            self.assertEqual(forged[0], 303)


class SeveralWays(Behind):
    def test_a_path_with_a_way_of_its_own_knows_no_other(self) -> None:
        identify = self.identification(
            """
            [[identity]]
            from = "session"
            id = "member"
            [[identity]]
            for = "/api/**"
            from = "jwt"
            key = "{env.TARN_KEY}"
            """
        )
        session, bearer = {"member": 7}, f"Bearer {token()}"
        for path, caller in (
            ("/lots", 7),
            ("/api/lots", "3"),
            ("/%61pi/lots", "3"),
            ("/api", "3"),
            ("/apis", 7),
            ("/api/../lots", 7),  # which the policy refuses: it can be read in two ways
        ):
            with self.subTest(path=path):
                self.assertEqual(identify(Sent(path, session, authorization=bearer)).id, caller)
        self.assertIsNone(identify(Sent("/api/lots", session)))
        self.assertIsNone(identify(Sent("/lots", authorization=bearer)))

    def test_settings_that_do_not_fit_together(self) -> None:
        for text, message in (
            ("policy = 'x'", "nothing says who is calling"),
            ('[identity]\nfrom = "directory"\nid = "member"', 'from = "directory" needs a directory'),
        ):
            with self.assertRaisesRegex(SettingsError, message):
                self.identification(text)
