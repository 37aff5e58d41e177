"""Refusals leave through the framework: its error handlers, its functions after the request, its clean-up."""

import contextlib
import logging
import threading
import types
import unittest
from typing import Any

import django.db
import fastapi
import flask
import sqlalchemy as sa
from django.core.exceptions import ImproperlyConfigured, PermissionDenied
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import Http404, HttpResponse, HttpResponseRedirect, StreamingHttpResponse
from django.urls import path
from sqlalchemy.orm import scoped_session, sessionmaker
from starlette.applications import Starlette
from starlette.background import BackgroundTask
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.responses import JSONResponse, PlainTextResponse
from starlette.routing import Route

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import Refusal, current
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import project
from tests.servers import ask, serving, serving_wsgi

POLICY = bloodroot.parse("""
policy "Tarn Bank"
roles
  keeper
conditions
  own     record.owner == caller.id           "Only its owner may see a note."
  inside  record.plot_id == records.plot_id.id
endpoints
  GET   /open                              anyone
  GET   /lots                              signed-in
  GET   /office                            keeper
  GET   /notes/{note_id}                   own
  GET   /plots/{plot_id}/notes/{note_id}   own and inside
  POST  /sow/{note_id}                    own
  GET   /secret                            keeper
denials
  signed-out     go /open
  /secret  any   hide
  /lots    any   status 401 "Sign in, please."
  any            status 403 "No entry."
""")
CALLERS = {"3": Caller(3), "4": Caller(4, {"keeper"})}


class Note:
    def __init__(self, owner: int, plot_id: int = 7) -> None:
        self.owner = owner
        self.plot_id = plot_id


NOTES: dict[str, Any] = {"1": Note(3), "2": Note(4), "8": Note(3, 8), "odd": {"by": 3}}
PLOTS = {"7": types.SimpleNamespace(id=7), "8": types.SimpleNamespace(id=8)}


def who(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-caller") or "")


class Silent(unittest.TestCase):
    def setUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)


# method, target, caller, status, and what the body has to say, the same in every framework
TABLE = (
    ("GET", "/office", "3", 403, "handler of 403: No entry."),
    ("GET", "/lots", "", 401, "handler of 401: Sign in, please."),
    ("GET", "/secret", "3", 404, "handler of 404"),
    ("GET", "/nowhere", "3", 404, "handler of 404"),
    ("GET", "/office", "4", 200, "office"),
    ("GET", "/notes/1", "3", 200, "note 1"),
    ("GET", "/notes/2", "3", 403, "handler of 403: Only its owner may see a note."),
    ("GET", "/notes/9", "3", 404, "handler of 404"),
    ("GET", "/notes/gone", "3", 404, "handler of 404"),
    ("GET", "/notes/odd", "3", 403, "handler of 403"),
    ("GET", "/plots/7/notes/1", "3", 200, "note 1"),
    ("GET", "/plots/8/notes/1", "3", 403, "handler of 403"),
    ("GET", "/plots/8/notes/8", "3", 200, "note 8"),
    ("GET", "/plots/9/notes/1", "3", 404, "handler of 404"),
    ("GET", "/plots/7/notes/2", "3", 403, "handler of 403"),
    ("GET", "/notes/broken", "3", 500, ""),
)


class Refusals(Silent):
    """The same application in each framework, with error handlers of its own."""

    def check(self, port: int) -> None:
        for method, target, caller, status, expected in TABLE:
            with self.subTest(f"{method} {target} as {caller or 'nobody'}"):
                got, headers, body = ask(port, method, target, X_Caller=caller, Accept="text/html")
                self.assertEqual(got, status, body)
                self.assertIn(expected, body)
                if status != 500:
                    self.assertEqual(headers.get("x-after"), "yes")
                if status in (401, 403):
                    self.assertIn("no-store", headers["cache-control"])
                if status == 401:
                    self.assertEqual(headers["www-authenticate"], 'Bearer realm="Tarn Bank"')

    def test_starlette_and_fastapi(self) -> None:
        def load(text: str, request: Any) -> Any:
            self.assertEqual(request.headers["x-caller"], "3")
            if text == "gone":
                raise HTTPException(404, "of the loader")
            if text == "broken":
                raise ZeroDivisionError
            return NOTES.get(text)

        async def load_plot(text: str) -> Any:
            return PLOTS.get(text)

        async def serve(request: Any) -> Any:
            last = request.path_params.get("note_id")
            return PlainTextResponse(f"note {last}" if last else request.url.path.strip("/"))

        async def handled(request: Any, error: Any) -> Any:
            return PlainTextResponse(
                f"handler of {error.status_code}: {error.detail}", error.status_code, error.headers
            )

        class After:
            """A pure ASGI middleware of the application."""

            def __init__(self, app: Any) -> None:
                self.app = app

            async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
                async def marked(message: Any) -> None:
                    if message["type"] == "http.response.start":
                        message["headers"] = [*message["headers"], (b"x-after", b"yes")]
                    await send(message)

                await self.app(scope, receive, marked)

        paths = ("/open", "/lots", "/office", "/notes/{note_id}", "/plots/{plot_id}/notes/{note_id}", "/secret")
        routes = [Route(each, serve, name=each) for each in paths]
        routes.append(Route("/sow/{note_id}", serve, methods=["POST"]))
        handlers: dict[Any, Any] = dict.fromkeys((401, 403, 404), handled)
        middleware = [Middleware(After)]
        starlette = Starlette(routes=routes, exception_handlers=handlers, middleware=middleware)
        api = fastapi.FastAPI(openapi_url=None, docs_url=None, exception_handlers=handlers, middleware=middleware)
        for each in paths:
            api.add_api_route(each, self.with_request(serve), methods=["GET"])
        api.add_api_route("/sow/{note_id}", self.with_request(serve), methods=["POST"])
        how = {"identify": who, "records": {"note_id": load, "plot_id": load_plot}}
        for app, protect in ((starlette, for_starlette.protect), (api, for_fastapi.protect)):
            protect(app, POLICY, **how)
            with self.subTest(type(app).__name__), serving(app) as port:
                self.check(port)

    def with_request(self, serve: Any) -> Any:
        async def endpoint(request: fastapi.Request) -> Any:
            return await serve(request)

        return endpoint

    def flask(self) -> Any:
        app = flask.Flask("tarn", static_folder=None)

        def load(text: str, request: Any) -> Any:
            self.assertEqual(request.headers["x-caller"], "3")
            if text == "gone":
                flask.abort(404)
            if text == "broken":
                raise ZeroDivisionError
            return NOTES.get(text)

        for each in ("/open", "/lots", "/office", "/secret"):
            app.add_url_rule(each, each, lambda each=each: each.strip("/"))
        app.add_url_rule("/notes/<note_id>", "note", lambda note_id: f"note {note_id}")
        app.add_url_rule("/plots/<plot_id>/notes/<note_id>", "inside", lambda plot_id, note_id: f"note {note_id}")
        app.add_url_rule("/sow/<note_id>", "work", lambda note_id: "work", methods=["POST"])
        for status in (401, 403, 404):
            app.register_error_handler(status, lambda e: (f"handler of {e.code}: {e.description}", e.code))

        @app.after_request
        def after(response: Any) -> Any:
            response.headers["x-after"] = "yes"
            return response

        for_flask.protect(app, POLICY, identify=who, records={"note_id": load, "plot_id": PLOTS.get})
        return app

    def test_flask(self) -> None:
        with serving_wsgi(self.flask()) as port:
            self.check(port)

    def test_django(self) -> None:
        for server, later in ((lambda: serving_wsgi(WSGIHandler()), False), (lambda: serving(ASGIHandler()), True)):
            with self.subTest(later=later), self.django(later=later), server() as port:
                self.check_django(port)

    def check_django(self, port: int) -> None:
        for method, target, caller, status, expected in TABLE:
            if status == 401:
                continue  # Django has no handler for it, and answers are ours
            with self.subTest(f"{method} {target} as {caller or 'nobody'}"):
                got, headers, body = ask(port, method, target, X_Caller=caller, Accept="text/html")
                self.assertEqual(got, status, body)
                self.assertIn(expected, body)
                self.assertEqual(headers.get("x-after"), "yes" if status != 500 else headers.get("x-after"))

    def django(self, *, later: bool) -> Any:
        def load(text: str, request: Any) -> Any:
            if text == "gone":
                raise Http404
            if text == "broken":
                raise ZeroDivisionError
            return NOTES.get(text)

        async def load_later(text: str) -> Any:
            return PLOTS.get(text)

        def serve(request: Any, note_id: str = "", **values: str) -> Any:
            return HttpResponse(f"note {note_id}" if note_id else request.path.strip("/"))

        urls = [path(each, serve, name=each) for each in ("open", "lots", "office", "secret")]
        urls += [
            path("notes/<note_id>", serve),
            path("plots/<plot_id>/notes/<note_id>", serve),
            path("sow/<note_id>", serve),
        ]
        records = {"note_id": load, "plot_id": load_later if later else PLOTS.get}
        given = {"policy": POLICY, "identify": who, "records": records}
        middleware = ["tests.enforce.test_life_cycle.after", "bloodroot.enforce.django.AccessMiddleware"]
        handlers = {"handler403": forbidden, "handler404": missing}
        return project(urls, handlers, BLOODROOT=given, MIDDLEWARE=middleware)


def after(get_response: Any) -> Any:
    def middleware(request: Any) -> Any:
        response = get_response(request)
        response["x-after"] = "yes"
        return response

    return middleware


def forbidden(request: Any, exception: Any) -> Any:
    return HttpResponse(f"handler of 403: {exception}", status=403)


def missing(request: Any, exception: Any) -> Any:
    return HttpResponse("handler of 404", status=404)


class Leaks(Silent):
    """Refusal requests, and loaders that fail, leave no connection behind."""

    ATTACKS = ("/office", "/notes/2", "/notes/broken", "/notes/gone", "/secret")

    def test_flask_with_a_scoped_session_and_a_small_pool(self) -> None:
        how: dict[str, Any] = {"poolclass": sa.QueuePool, "pool_size": 5, "max_overflow": 0, "pool_timeout": 2}
        engine = sa.create_engine("sqlite://", connect_args={"check_same_thread": False}, **how)
        self.addCleanup(engine.dispose)
        session = scoped_session(sessionmaker(engine))
        app = flask.Flask("tarn", static_folder=None)
        app.teardown_appcontext(lambda error: session.remove())

        def identify(request: Any) -> Caller | None:
            session.execute(sa.text("select 1"))
            return who(request)

        def load(text: str) -> Any:
            session.execute(sa.text("select 1"))
            if text == "broken":
                raise ZeroDivisionError
            if text == "gone":
                flask.abort(404)
            return NOTES.get(text)

        for each in ("/open", "/lots", "/office", "/secret"):
            app.add_url_rule(each, each, lambda: "")
        app.add_url_rule("/notes/<note_id>", "note", lambda note_id: "")
        app.add_url_rule("/plots/<plot_id>/notes/<note_id>", "inside", lambda plot_id, note_id: "")
        app.add_url_rule("/sow/<note_id>", "work", lambda note_id: "work", methods=["POST"])
        for_flask.protect(app, POLICY, identify=identify, records={"note_id": load, "plot_id": PLOTS.get})
        with serving_wsgi(app) as port:
            for number in range(500):
                status = ask(port, "GET", self.ATTACKS[number % 5], X_Caller="3")[0]
                self.assertIn(status, (403, 404, 500))
                self.assertEqual(engine.pool.checkedout(), 0, self.ATTACKS[number % 5])  # type: ignore[attr-defined]
            self.assertEqual(ask(port, "GET", "/notes/1", X_Caller="3")[0], 200)

    def test_django_under_wsgi_and_asgi(self) -> None:
        closed: list[int] = []

        def identify(request: Any) -> Caller | None:
            with django.db.connection.cursor() as cursor:
                cursor.execute("select 1")
            opened.add(threading.get_ident())
            return who(request)

        def load(text: str) -> Any:
            with django.db.connection.cursor() as cursor:
                cursor.execute("select 1")
            if text == "broken":
                raise ZeroDivisionError
            if text == "gone":
                raise Http404
            return NOTES.get(text)

        opened: set[int] = set()

        def count(**_: Any) -> None:
            # Django closes what is old at the end of each request, in the thread that has opened it.
            closed.append(sum(each.connection is not None for each in django.db.connections.all(initialized_only=True)))

        def serve(request: Any, **values: str) -> Any:
            return HttpResponse("")

        urls = [path(each, serve) for each in ("open", "lots", "office", "secret", "notes/<note_id>")]
        urls += [path("plots/<plot_id>/notes/<note_id>", serve), path("sow/<note_id>", serve)]
        given = {"policy": POLICY, "identify": identify, "records": {"note_id": load, "plot_id": PLOTS.get}}
        databases = {"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:", "CONN_MAX_AGE": 0}}
        for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
            middleware = ["bloodroot.enforce.django.AccessMiddleware"]
            with project(urls, BLOODROOT=given, MIDDLEWARE=middleware, DATABASES=databases), server() as port:
                before = len(closed)
                django.core.signals.request_finished.connect(count)
                try:
                    for number in range(500):
                        status = ask(port, "GET", self.ATTACKS[number % 5], X_Caller="3")[0]
                        self.assertIn(status, (403, 404, 500))
                    for _ in range(200):
                        if len(closed) - before == 500:
                            break
                        threading.Event().wait(0.01)  # the last one ends once its answer has left
                finally:
                    django.core.signals.request_finished.disconnect(count)
                # One signal for each request: what is refused ends as any other does.
                self.assertEqual(len(closed) - before, 500)


class Withholding(Silent):
    POLICY = bloodroot.parse(
        "conditions\n  own record.owner == caller.id\nendpoints\n  POST /sow/{note_id} signed-in and own\n  GET /open anyone\n"
    )

    def test_what_stands_behind_a_withheld_answer_does_not_run(self) -> None:
        done: list[str] = []

        async def work(request: Any) -> Any:
            how = request.path_params["note_id"]
            if how == "settled":
                current().settle(NOTES["1"])
            return JSONResponse({"how": how}, background=BackgroundTask(done.append, how))

        async def exits() -> Any:
            try:
                yield
            except BaseException as error:
                done.append(f"undone by {type(error).__name__}")
                raise
            done.append("kept")

        starlette = Starlette(routes=[Route("/sow/{note_id}", work, methods=["POST"])])
        api = fastapi.FastAPI(openapi_url=None, docs_url=None)

        @api.post("/sow/{note_id}", dependencies=[fastapi.Depends(exits)])
        async def api_work(request: fastapi.Request) -> Any:
            return await work(request)

        for app, protect in ((starlette, for_starlette.protect), (api, for_fastapi.protect)):
            protect(app, self.POLICY, identify=who)
            done.clear()
            with self.subTest(type(app).__name__), serving(app) as port:
                status, _, body = ask(port, "POST", "/sow/forgotten", X_Caller="3")
                self.assertEqual(status, 500)
                self.assertNotIn("forgotten", body)
                self.assertEqual([each for each in done if each != "undone by Withheld"], [])
                self.assertEqual(ask(port, "POST", "/sow/settled", X_Caller="3")[0], 200)
                for _ in range(200):
                    if "settled" in done:
                        break
                    threading.Event().wait(0.01)  # the task runs once the answer has left
                self.assertIn("settled", done)

    # Ways in which a handler may say something of a record before anything is settled, and what leaves instead.
    WAYS = (
        ("swallows", 403),
        ("streams", 500),
        ("redirects", 500),
        ("missing", 404),
        ("aborts", 404),
        ("forbids", 403),
        ("fails", 500),
        ("fails and is handled", 500),
    )

    def test_no_way_of_speaking_gets_out_before_the_record_is_settled(self) -> None:
        def swallow() -> None:
            with contextlib.suppress(Refusal):
                current().settle({"owner": 99})

        app = flask.Flask("tarn", static_folder=None)

        def in_flask(note_id: str) -> Any:
            return {
                "swallows": lambda: swallow() or "leak",
                "streams": lambda: flask.Response(iter(["leak"])),
                "redirects": lambda: flask.redirect("/leak"),
                "missing": lambda: ("leak", 404),
                "aborts": lambda: flask.abort(404, "leak"),
                "forbids": lambda: flask.abort(403, "leak"),
                "fails": lambda: {}["leak"],
                "fails and is handled": lambda: int("leak"),
            }[note_id]()

        app.add_url_rule("/sow/<note_id>", "work", in_flask, methods=["POST"])
        app.add_url_rule("/open", "open", lambda: "open")
        app.register_error_handler(ValueError, lambda error: (str(error), 200))
        for_flask.protect(app, self.POLICY, identify=who)

        def fail(error: Exception) -> Any:
            raise error

        def in_django(request: Any, note_id: str) -> Any:
            return {
                "swallows": lambda: swallow() or HttpResponse("leak"),
                "streams": lambda: StreamingHttpResponse(iter(["leak"])),
                "redirects": lambda: HttpResponseRedirect("/leak"),
                "missing": lambda: HttpResponse("leak", status=404),
                "aborts": lambda: fail(Http404("leak")),
                "forbids": lambda: fail(PermissionDenied("leak")),
                "fails": lambda: {}["leak"],
                "fails and is handled": lambda: int("leak"),
            }[note_id]()

        urls = [path("sow/<note_id>", in_django), path("open", in_django)]
        given = {"policy": self.POLICY, "identify": who}
        middleware = ["bloodroot.enforce.django.AccessMiddleware", "tests.enforce.test_life_cycle.handles"]
        servers = [("flask", lambda: serving_wsgi(app))]
        servers += [("wsgi", lambda: serving_wsgi(WSGIHandler())), ("asgi", lambda: serving(ASGIHandler()))]
        with project(urls, BLOODROOT=given, MIDDLEWARE=middleware):
            for name, server in servers:
                with server() as port:
                    for way, status in self.WAYS:
                        with self.subTest(f"{name}: {way}"):
                            target = f"/sow/{way.replace(' ', '%20')}"
                            got, headers, body = ask(port, "POST", target, X_Caller="3", Accept="text/html")
                            self.assertEqual(got, status)
                            self.assertNotIn("leak", body + str(headers))

    def test_what_is_wrong_with_the_request_is_told_without_the_handlers_words(self) -> None:
        api = fastapi.FastAPI(openapi_url=None, docs_url=None)

        @api.post("/sow/{note_id}")
        async def work(note_id: int, size: int) -> Any:
            return {"size": size}

        for_fastapi.protect(api, self.POLICY, identify=who)
        with serving(api) as port:
            status, _, body = ask(port, "POST", "/sow/7?size=large", X_Caller="3")
        self.assertEqual(status, 422)
        self.assertNotIn("size", body)


class Sessions(Silent):
    def test_a_middleware_before_sessions_is_an_error(self) -> None:
        order = ["bloodroot.enforce.django.AccessMiddleware", "django.contrib.sessions.middleware.SessionMiddleware"]
        given = {"policy": bloodroot.parse("endpoints\n  GET /open anyone\n"), "identify": who}
        with project([], BLOODROOT=given, MIDDLEWARE=order):
            for handler in (WSGIHandler, ASGIHandler):
                with self.assertRaisesRegex(ImproperlyConfigured, "no caller would have a session; put it behind"):
                    handler()


def handles(get_response: Any) -> Any:
    """Middleware that makes an answer of an error of a view."""

    class Handles:
        def __call__(self, request: Any) -> Any:
            return get_response(request)

        def process_exception(self, request: Any, error: Exception) -> Any:
            return HttpResponse(str(error)) if isinstance(error, ValueError) else None

    return Handles()
