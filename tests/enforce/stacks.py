"""One small application, written for six stacks: what it does is the same, and so is what the policy makes of it."""

import contextlib
import logging
import re
import unittest
from collections.abc import Callable, Iterator, Mapping
from types import SimpleNamespace
from typing import Any, NamedTuple

import django
import django.conf
import django.core.handlers.asgi
import django.core.handlers.wsgi
import django.http
import django.test.utils
import django.urls
import fastapi
import flask
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse, StreamingResponse
from starlette.routing import Route as StarletteRoute

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import asgi, current, guard, wsgi
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import project
from tests.servers import serving, serving_wsgi

TEXT = """
policy "Tarn Bank"

roles
  helper    default
  grower    includes helper
  keeper    includes grower
  clerk     includes helper
  reviewer
  apart     clerk, reviewer

permissions
  lot:list    helper, reviewer
  lot:read    helper if shown, keeper, reviewer
  lot:edit    keeper
  plot:edit   keeper, grower if own-plot
  parcel:send clerk
  memo:read   reviewer

conditions
  own-plot  record.grower_id == caller.id  "Only its grower may change a plot."
  shown     record.secret == false
  self      path.person_id == caller.id
  active    caller.status == "active"      "Your account is asleep."

endpoints
  GET       /                      anyone
  GET       /assets/**             anyone
  GET       /menu                  anyone
  GET POST  /sign-in               signed-out
  GET       /desk                  signed-in
  GET       /lots                  lot:list
  GET       /lots/new              lot:edit
  POST      /lots                  lot:edit
  GET       /lots/{lot_id}         lot:read
  PATCH     /lots/{lot_id}         lot:edit
  PATCH     /plots/{plot_id}       plot:edit
  POST      /beds/{bed_id}/sow     plot:edit
  GET       /people/{person_id}    clerk or self
  DELETE    /people/{person_id}    clerk and not self
  GET       /memos                 guarded  accept guard-missing "found by its name"
  GET       /drafts                guarded  accept guard-missing "refused as nothing is asked"
  GET       /labels/{label_id}     helper
  GET       /stream                lot:list
  GET       /stream/{bed_id}       plot:edit
  GET       /api/lots              lot:list
  any       /archive/**            keeper
  action    send_parcel            parcel:send

always
  POST PATCH DELETE /plots/**  active

denials
  signed-out           go /sign-in
  /api/**  signed-out  status 401 "Send a token."
  signed-in            go /desk
  /archive/** any      hide
  any                  status 403 "You do not have access to this."
"""
POLICY = bloodroot.parse(TEXT, "tarn.bloodroot")
# Where there is no framework there are no routes to find an action in.
SEND = "action    send_parcel            parcel:send"
BY_PATH = bloodroot.parse(TEXT.replace(SEND, "POST  /parcels/{id}/send  parcel:send"), "tarn.bloodroot")
CALLERS = {
    "new": Caller(1, attributes={"status": "active"}),
    "grower": Caller(3, {"grower"}, attributes={"status": "active"}),
    "asleep": Caller(3, {"grower"}, attributes={"status": "asleep"}),
    "keeper": Caller(4, {"keeper"}, attributes={"status": "active"}),
    "clerk": Caller(5, {"clerk"}, attributes={"status": "active"}),
    "reviewer": Caller(6, {"reviewer"}, attributes={"status": "active"}),
    "both": Caller(7, {"clerk", "reviewer"}, attributes={"status": "active"}),
    "scoped": Caller(4, {"keeper"}, attributes={"status": "active"}, scopes={"lot:list"}),
}
PLOTS = {"7": SimpleNamespace(grower_id=3), "8": SimpleNamespace(grower_id=9)}
LOTS = {"1": SimpleNamespace(id=1, secret=False), "2": SimpleNamespace(id=2, secret=True)}
RECORDS = {"plot_id": PLOTS.get, "lot_id": LOTS.get}
reached: list[str] = []


def identify(request: Any) -> Caller | None:
    name = request.headers.get("x-caller")
    if name == "broken":
        raise ValueError("unreadable")
    if name == "gone":
        raise bloodroot.Unidentified("member 9 is gone", token=True)
    return CALLERS.get(name or "")


def page(answer: Any, request: Any) -> str | None:
    return "<p>our own missing page</p>" if answer.status == 404 else None


# What the handlers do, whatever the framework. Each returns a status and a string.


def said(text: str) -> tuple[int, str]:
    access = current()
    reached.append(text)
    record = f" with {access.record}" if access.record is not None else ""
    return 200, f"{text} for {access.caller.id if access.caller else 'nobody'}{record}"


def plain(**values: str) -> tuple[int, str]:
    return said(" ".join(("plain", *values.values())))


def secret(**values: str) -> tuple[int, str]:
    """What the callers of the tests of attacks may not see."""
    return said(" ".join(("secret", *values.values())))


def asset(**_: str) -> tuple[int, str]:
    reached.append("asset")
    return 200, "body {}"


def menu() -> tuple[int, str]:
    asked = ["GET /lots/new", "GET /archive/1", "GET /desk", "lot:edit"]
    shown = [name for name, held in current().flags(asked).items() if held]
    each = current().flags_of_each(["GET /lots/{id}", "lot:read"], LOTS.values())
    return said(f"menu {shown} {[[*flags.values()] for flags in each]}")


def sow(bed_id: str) -> tuple[int, str]:
    if bed_id == "9":
        return 404, "no such bed"
    if bed_id != "forgotten":
        current().settle(PLOTS[bed_id])
    return said(f"sow {bed_id}")


def label(label_id: str) -> tuple[int, str]:
    return said(made_label(owner=int(label_id)))


@guard("keeper or args.owner == caller.id", policy=POLICY)
def made_label(owner: int) -> str:
    return f"label of {owner}"


@guard("memo:read", policy=POLICY)
def memos() -> tuple[int, str]:
    return said("memos")


def plain_memos() -> tuple[int, str]:
    return said("memos")


def pieces(bed_id: str | None = None) -> Iterator[str]:
    """Made while it is sent."""
    for number in range(3):
        caller = current().caller
        yield f"{number} for {caller.id if caller else 'nobody'}\n"


ENDPOINTS: list[tuple[str, str, str, Callable[..., Any]]] = [
    ("GET", "/", "home", plain),
    ("GET", "/assets/**", "assets", asset),
    ("GET", "/menu", "menu", menu),
    ("GET", "/sign-in", "sign_in", plain),
    ("GET", "/desk", "desk", plain),
    ("GET", "/lots", "lots", plain),
    ("POST", "/lots", "add_lot", secret),
    ("GET", "/lots/new", "new_lot", secret),
    ("GET", "/lots/{lot_id}", "lot", plain),
    ("PATCH", "/lots/{lot_id}", "change_lot", secret),
    ("PATCH", "/plots/{plot_id}", "change_plot", plain),
    ("POST", "/beds/{bed_id}/sow", "sow", sow),
    ("GET", "/people/{person_id}", "person", plain),
    ("DELETE", "/people/{person_id}", "remove_person", plain),
    ("GET", "/memos", "memos", memos),
    ("GET", "/drafts", "drafts", plain),
    ("GET", "/labels/{label_id}", "label", label),
    ("GET", "/stream", "stream", pieces),
    ("GET", "/stream/{bed_id}", "stream_bed", pieces),
    ("GET", "/api/lots", "api_lots", plain),
    ("GET", "/archive/{year}", "archive", secret),
    ("GET", "/closed", "closed", plain),
    ("POST", "/parcels/{parcel_id}/send", "send_parcel", plain),
]


class Small(NamedTuple):
    """A small application: what it serves, and how it is protected, with a framework and without one."""

    endpoints: list[tuple[str, str, str, Callable[..., Any]]]
    policy: bloodroot.Policy
    by_path: bloodroot.Policy
    identify: Callable[[Any], Caller | None]
    records: dict[str, Callable[..., Any]]
    page: Callable[[Any, Any], str | None] | None = None
    settles: tuple[str, ...] = ()
    more: Mapping[str, Any] = {}

    @property
    def how(self) -> dict[str, Any]:
        return {"identify": self.identify, "records": self.records, "page": self.page, **self.more}


TARN = Small(ENDPOINTS, POLICY, BY_PATH, identify, RECORDS, page, ("POST /beds/*", "GET /memos", "GET /drafts"))


def found(small: Small, method: str, path: str) -> tuple[Callable[..., Any], dict[str, str]] | None:
    """The handler of a decoded path, for the two stacks without a framework."""
    for wanted, template, _, handler in small.endpoints:
        pattern = re.sub(r"\\\{(\w+)\\\}", r"(?P<\1>[^/]+)", re.escape(template)).replace(r"\*\*", ".*") + "/?"
        match = re.fullmatch(pattern, path)
        if match is not None and (method == wanted or (method == "HEAD" and wanted == "GET")):
            return handler, match.groupdict()
    return None


def bare_asgi(small: Small) -> Callable[..., Any]:
    async def app(scope: Any, receive: Any, send: Any) -> None:
        match = found(small, scope["method"], scope["path"])
        status, body = 404, "nothing here"
        if match is not None:
            made = match[0](**match[1])
            status, body = made if isinstance(made, tuple) else (200, made)
        headers = [(b"x-app", b"yes")]
        if isinstance(body, str):
            headers.append((b"content-length", str(len(body)).encode()))
        await send({"type": "http.response.start", "status": status, "headers": headers})
        for piece in [body] if isinstance(body, str) else body:
            await send({"type": "http.response.body", "body": piece.encode(), "more_body": True})
        await send({"type": "http.response.body", "body": b""})

    return app


def bare_wsgi(small: Small) -> Callable[..., Any]:
    def app(environ: Any, start_response: Any) -> Any:
        match = found(small, environ["REQUEST_METHOD"], environ["PATH_INFO"])
        status, body = 404, "nothing here"
        if match is not None:
            made = match[0](**match[1])
            status, body = made if isinstance(made, tuple) else (200, made)
        length = [("Content-Length", str(len(body)))] if isinstance(body, str) else []
        start_response(f"{status} Status", [("X-App", "yes"), ("Content-Type", "text/plain"), *length])
        return [body.encode()] if isinstance(body, str) else (piece.encode() for piece in body)

    return app


def of_starlette(handler: Callable[..., Any]) -> Callable[..., Any]:
    def endpoint(request: Any) -> Any:
        made = handler(**request.path_params)
        if isinstance(made, tuple):
            return PlainTextResponse(made[1], made[0], {"x-app": "yes"})
        return StreamingResponse(made, headers={"x-app": "yes"})

    async def waiting(request: Any) -> Any:
        return endpoint(request)

    # Half of the handlers wait on the event loop, half run in threads.
    return waiting if handler is plain else endpoint


def with_converter(template: str, rest: str) -> str:
    return template.replace("**", rest)


def starlette_app(small: Small = TARN) -> Any:
    routes = [
        StarletteRoute(with_converter(path, "{rest:path}"), of_starlette(handler), methods=[method], name=name)
        for method, path, name, handler in small.endpoints
    ]
    app = Starlette(routes=routes)
    for_starlette.protect(app, small.policy, **small.how)
    return app


def fastapi_app(small: Small = TARN) -> Any:
    app = fastapi.FastAPI(docs_url=None, redoc_url=None, openapi_url=None)

    def of_fastapi(handler: Callable[..., Any]) -> Callable[..., Any]:
        inner = of_starlette(handler)

        def endpoint(request: fastapi.Request) -> Any:
            return inner(request)

        async def waiting(request: fastapi.Request) -> Any:
            return await inner(request)

        return waiting if handler is plain else endpoint

    for method, path, name, handler in small.endpoints:
        # Here the guard is a dependency, and not around the function.
        asks = [for_fastapi.guard("memo:read", policy=POLICY)] if name == "memos" else []
        app.add_api_route(
            with_converter(path, "{rest:path}"),
            of_fastapi(plain_memos if asks else handler),
            methods=[method, "HEAD"] if method == "GET" else [method],
            name=name,
            dependencies=asks,
        )
    for_fastapi.protect(app, small.policy, **small.how)
    return app


def flask_app(small: Small = TARN) -> Any:
    app = flask.Flask("tarn", static_folder=None)

    def of_flask(handler: Callable[..., Any]) -> Callable[..., Any]:
        def view(**values: str) -> Any:
            made = handler(**values)
            status, body = made if isinstance(made, tuple) else (200, made)
            return flask.Response(body, status, {"x-app": "yes"}, mimetype="text/plain")

        return view

    for method, path, name, handler in small.endpoints:
        rule = re.sub(r"\{(\w+)\}", r"<\1>", with_converter(path, "<path:rest>"))
        app.add_url_rule(rule, name, of_flask(handler), methods=[method])
    for_flask.protect(app, small.policy, **small.how)
    return app


def of_django(handlers: dict[str, Callable[..., Any]]) -> Callable[..., Any]:
    def view(request: Any, **values: str) -> Any:
        handler = handlers.get("GET" if request.method == "HEAD" else request.method)
        if handler is None:
            return django.http.HttpResponse("no such method", status=405)
        made = handler(**values)
        if isinstance(made, tuple):
            response = django.http.HttpResponse(made[1], status=made[0], content_type="text/plain")
        else:
            response = django.http.StreamingHttpResponse(made, content_type="text/plain")
        response["x-app"] = "yes"
        return response

    return view


def django_urls(small: Small = TARN) -> list[Any]:
    by_path: dict[str, dict[str, tuple[str, Callable[..., Any]]]] = {}
    for method, path, name, handler in small.endpoints:
        by_path.setdefault(path, {})[method] = (name, handler)
    patterns = []
    for path, served in by_path.items():
        pattern = re.sub(r"\{(\w+)\}", r"<\1>", with_converter(path, "<path:rest>")).lstrip("/")
        (name, _), *_ = served.values()
        view = of_django({method: handler for method, (_, handler) in served.items()})
        patterns.append(django.urls.path(pattern, view, name=name))
    return patterns


def as_django_project(small: Small = TARN) -> Any:
    """Django with this application as its project."""
    how = {"policy": small.policy, **small.how}
    return project(django_urls(small), MIDDLEWARE=["bloodroot.enforce.django.AccessMiddleware"], BLOODROOT=how)


@contextlib.contextmanager
def all_stacks(small: Small = TARN) -> Iterator[dict[str, int]]:
    """The application on every stack, each served on loopback; gives the ports by name."""
    with contextlib.ExitStack() as stack:
        stack.enter_context(as_django_project(small))
        ports = {
            "asgi": serving(asgi.AccessMiddleware(bare_asgi(small), small.by_path, **small.how, settles=small.settles)),
            "starlette": serving(starlette_app(small)),
            "fastapi": serving(fastapi_app(small)),
            "django on asgi": serving(django.core.handlers.asgi.ASGIHandler()),
            "wsgi": serving_wsgi(
                wsgi.AccessMiddleware(bare_wsgi(small), small.by_path, **small.how, settles=small.settles)
            ),
            "flask": serving_wsgi(flask_app(small)),
            "django": serving_wsgi(django.core.handlers.wsgi.WSGIHandler()),
        }
        yield {name: stack.enter_context(server) for name, server in ports.items()}


class OnEveryStack(unittest.TestCase):
    """Tests that ask an application on every stack.

    Attributes:
        small: the application.
        ports: where each stack is served, by name.
    """

    small = TARN

    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)
        cls.ports = cls.enterClassContext(all_stacks(cls.small))
