"""What is particular to a framework: its sessions, its classes, its settings."""

import contextlib
import json
import logging
import unittest
from typing import Any

import flask
from django.core.exceptions import ImproperlyConfigured
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse, JsonResponse, StreamingHttpResponse
from django.urls import include, path, re_path
from django.views import View
from django.views.decorators.csrf import csrf_exempt

import bloodroot
from bloodroot import Caller, FieldsRefused, PolicyError
from bloodroot.enforce import Audit, current, guard
from bloodroot.enforce import django as for_django
from bloodroot.enforce import flask as for_flask
from tests.django_project import project
from tests.servers import ask, serving, serving_wsgi

POLICY = bloodroot.parse("""
policy "Tarn Bank"
roles
  helper  default
  keeper  includes helper
conditions
  own-plot  record.grower_id == caller.id  "Only its grower may change a plot."
endpoints
  POST      /in                  anyone
  GET       /who                 anyone
  action    tarn.lot             helper
  GET       /classes/{lot_id}    guarded
  GET       /later/{plot_id}     helper and own-plot
  GET       /stream/{bed_id}     helper and own-plot
  GET       /stream-later        helper
  GET       /years/{year}        keeper
denials
  any  status 403 "No."
fields lot
  place  change keeper
""")
PLOTS = {"7": {"grower_id": 3}, "8": {"grower_id": 9}}


def identify(request: Any) -> Caller | None:
    """The member in the framework's own session."""
    session = flask.session if flask.has_request_context() else request.session
    member = session.get("member")
    return Caller(member, {"keeper"} if member == 4 else set()) if member else None


async def identify_later(request: Any) -> Caller | None:
    return identify(request)


async def plot_later(text: str) -> Any:
    return PLOTS.get(text)


def sign_in(request: Any) -> Any:
    request.session["member"] = int(request.GET["id"])
    return JsonResponse({})


def who(request: Any) -> Any:
    caller = current().caller
    return JsonResponse(caller.id if caller else None, safe=False)


def lot(request: Any, lot_id: int) -> Any:
    if request.method == "PATCH":
        current().change("lot", {}, {"place": "x"})
    return HttpResponse(f"lot {lot_id}")


@guard("keeper or args.lot_id == 7", policy=POLICY)
class ByClass(View):
    def get(self, request: Any, lot_id: int) -> Any:
        return HttpResponse(f"class {lot_id}")


async def later(request: Any, plot_id: str) -> Any:
    return HttpResponse(f"later for {current().caller.id}")


def stream(request: Any, bed_id: str) -> Any:
    if bed_id != "forgotten":
        current().settle(PLOTS[bed_id])
    return StreamingHttpResponse(f"{number} for {current().caller.id};" for number in range(2))


async def stream_later(request: Any) -> Any:
    async def pieces() -> Any:
        for number in range(2):
            yield f"{number} for {current().caller.id};"

    return StreamingHttpResponse(pieces())


def year(request: Any, year: str) -> Any:
    return HttpResponse(year)


URLS = [
    path("in", csrf_exempt(sign_in)),
    path("who", who),
    path("classes/<int:lot_id>", ByClass.as_view()),
    path("later/<plot_id>", later),
    path("stream/<bed_id>", stream),
    path("stream-later", stream_later),
    re_path(r"^years/(?P<year>[0-9]{4})/?$", year, name="year"),
    path("", include(([path("lots/<int:lot_id>", csrf_exempt(lot), name="lot")], "tarn"))),
]
HOW = {
    "MIDDLEWARE": [
        "django.contrib.sessions.middleware.SessionMiddleware",
        "bloodroot.enforce.django.AccessMiddleware",
        "django.middleware.common.CommonMiddleware",  # which is inside, and waits or not as the others do
    ],
    "SESSION_ENGINE": "django.contrib.sessions.backends.signed_cookies",
}


class Django(unittest.TestCase):
    def setUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)

    def test_the_same_under_wsgi_and_asgi(self) -> None:
        for server, name, loader in (
            (lambda: serving_wsgi(WSGIHandler()), "identify", PLOTS.get),
            (lambda: serving(ASGIHandler()), "identify", PLOTS.get),
            (lambda: serving(ASGIHandler()), "identify_later", plot_later),
        ):
            given = {
                "policy": POLICY,
                "identify": f"tests.enforce.test_frameworks.{name}",
                "records": {"plot_id": loader},
                "audit": Audit("all"),
            }
            with project(URLS, BLOODROOT=given, **HOW), server() as port:
                cookies = {0: ""} | {
                    number: ask(port, "POST", f"/in?id={number}")[1]["set-cookie"].split(";")[0] for number in (3, 4)
                }
                for member, method, target, status, body in (
                    (0, "GET", "/who", 200, "null"),
                    (3, "GET", "/who", 200, "3"),
                    (0, "GET", "/lots/7", 403, "No."),
                    (3, "GET", "/lots/7", 200, "lot 7"),
                    (3, "PATCH", "/lots/7", 403, "You may not change place."),
                    (4, "PATCH", "/lots/7", 200, "lot 7"),
                    (3, "GET", "/classes/7", 200, "class 7"),
                    (3, "GET", "/classes/8", 403, "No."),
                    (4, "GET", "/classes/8", 200, "class 8"),
                    (3, "GET", "/later/7", 200, "later for 3"),
                    (3, "GET", "/later/8", 403, "Only its grower may change a plot."),
                    (3, "GET", "/later/9", 404, "not found on this server"),
                    (3, "GET", "/stream/7", 200, "0 for 3;1 for 3;"),
                    (3, "GET", "/stream/8", 403, "Only its grower"),
                    (3, "GET", "/stream/forgotten", 500, "withheld"),
                    (3, "GET", "/stream-later", 200, "0 for 3;1 for 3;"),
                    (3, "GET", "/years/2020", 403, "No."),
                    (4, "GET", "/years/2020", 200, "2020"),
                ):
                    with self.subTest(f"{name}: {method} {target} as {member}"):
                        got, headers, text = ask(port, method, target, Cookie=cookies[member])
                        self.assertEqual(got, status, text)
                        self.assertIn(body, text)
                        self.assertIn("Cookie", headers["vary"])

    def test_settings_that_cannot_be_used(self) -> None:
        for given, error, message in (
            ({}, ImproperlyConfigured, 'BLOODROOT needs "policy"'),
            ({"policy": POLICY, "identify": identify, "record": {}}, ImproperlyConfigured, "unknown key 'record'"),
            ({"policy": "missing.bloodroot", "identify": identify}, PolicyError, "there is no such file"),
            (
                {"policy": POLICY, "identify": "tests.nowhere.identify"},
                ImproperlyConfigured,
                r"BLOODROOT\['identify'\]: tests.nowhere.identify cannot be imported",
            ),
            (
                {"policy": bloodroot.parse("endpoints\n  action nothing anyone\n"), "identify": identify},
                PolicyError,
                "unknown action",
            ),
        ):
            with self.subTest(message), project(URLS, BLOODROOT=given, **HOW), self.assertRaisesRegex(error, message):
                for_django.AccessMiddleware(lambda request: None)

    def test_routes_as_a_policy_writes_them(self) -> None:
        with project(URLS):
            found = {(each.action, each.path, each.guarded) for each in for_django.routes()}
        self.assertIn(("tarn.lot", "/lots/{lot_id}", False), found)
        self.assertIn(("ByClass", "/classes/{lot_id}", True), found)
        self.assertIn(("year", "/years/{year}", False), found)


class Flask(unittest.TestCase):
    def test_headers_that_are_a_plain_mapping(self) -> None:
        app = flask.Flask("tarn", static_folder=None)

        @app.get("/teapot")
        def teapot() -> Any:
            response = app.make_response("seed")
            response.headers = {"x-seed": "yes", "vary": "Accept"}
            return response

        for_flask.protect(app, bloodroot.parse("endpoints\n  GET /teapot signed-in\n"), identify=lambda _: Caller(1))
        with serving_wsgi(app) as port:
            status, headers, body = ask(port, "GET", "/teapot")
        self.assertEqual((status, headers["x-seed"], body), (200, "yes", "seed"))
        self.assertEqual(headers["vary"], "Accept, Authorization, Cookie")

    def test_session_and_refusals(self) -> None:
        policy = bloodroot.parse(
            "roles\n  helper default\nendpoints\n  action sign_in, tarn.who anyone\n  action lot helper\n  GET /files/** helper\n"
        )
        app = flask.Flask("tarn", static_url_path="/files", static_folder=None)
        app.secret_key = "a key for tests, and nothing else but tests"
        tarn = flask.Blueprint("tarn", "tarn", url_prefix="/tarn")

        @app.post("/in")
        def sign_in() -> Any:
            flask.session["member"] = 3
            return {}

        @tarn.get("/who/<int(min=1):number>")
        def who(number: int) -> Any:
            caller = current().caller
            return json.dumps([caller.id if caller else None, flask.session.get("member"), number])

        @app.get("/lots/<path:rest>")
        def lot(rest: str) -> Any:
            with contextlib.suppress(FieldsRefused):
                current().change("nothing", {}, {})
            return rest

        app.register_blueprint(tarn)
        with self.assertLogs("bloodroot.enforce", "INFO"):
            started = for_flask.protect(app, policy, identify=identify)
        self.assertEqual((started.endpoints, started.closed), (3, ()))
        self.assertEqual(
            [each.message for each in started.findings if "/files" in each.message],
            ["No endpoint of the application is at /files/**."],
        )
        with serving_wsgi(app) as port:
            cookie = ask(port, "POST", "/in")[1]["set-cookie"].split(";")[0]
            self.assertEqual(ask(port, "GET", "/tarn/who/5")[2], "[null, null, 5]")
            self.assertEqual(ask(port, "GET", "/tarn/who/5", Cookie=cookie)[2], "[3, 3, 5]")
            self.assertEqual(ask(port, "GET", "/lots/a/b", Cookie=cookie)[::2], (200, "a/b"))
            self.assertEqual(ask(port, "GET", "/lots/a/b", Cookie=cookie[:-3] + "xyz")[0], 401)
            self.assertEqual(ask(port, "GET", "/lots/a/b")[0], 401)
