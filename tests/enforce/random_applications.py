"""Random applications in every framework, with policies for them, and a naive reading of what these say."""

import asyncio
import contextlib
import dataclasses
import io
import random
import re
import types
import warnings
from typing import Any
from urllib.parse import unquote_to_bytes

import django.core.handlers.asgi
import django.core.handlers.wsgi
import django.http
import django.urls
import django.views
import fastapi
import flask
import flask.views
from starlette.applications import Starlette
from starlette.convertors import Convertor, register_url_convertor
from starlette.endpoints import HTTPEndpoint
from starlette.responses import PlainTextResponse
from starlette.routing import Host, Mount, Route, Router, WebSocketRoute
from werkzeug.middleware.proxy_fix import ProxyFix
from werkzeug.routing import BaseConverter

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import guard
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import project

REQUIREMENTS = ("anyone", "signed-in", "keeper", "nobody", "signed-out", "helper")
CALLERS: dict[str, Caller | None] = {"": None, "helper": Caller(1), "keeper": Caller(2, {"keeper"})}
WORDS = ("a", "b", "new", "A")
CONVERTERS = {"text": "", "number": "int", "rest": "path", "place": "place"}
PLACE = "a/b|new"  # what cannot be distinguished from its looks: one segment, or two
ON_HOST, FOR_THE_REST = 99, 98  # in the place of the number of a route


class _Place(Convertor[str]):
    regex = PLACE

    def convert(self, value: str) -> str:
        return value

    def to_string(self, value: str) -> str:
        return value


class _PlaceOfFlask(BaseConverter):
    regex = PLACE


class _PlaceOfDjango:
    regex = PLACE
    to_python = to_url = staticmethod(str)


register_url_convertor("place", _Place())
django.urls.register_converter(_PlaceOfDjango, "place")


def may(requirement: str, caller: str) -> bool:
    """What a requirement says of a caller, read off the words."""
    return {
        "anyone": True,
        "nobody": False,
        "signed-in": caller != "",
        "signed-out": caller == "",
        "helper": caller != "",
        "keeper": caller == "keeper",
    }[requirement]


@dataclasses.dataclass
class Spec:
    """One route of a random application, whatever the framework."""

    name: str
    parts: tuple[tuple[str, str], ...]  # kind of segment, and its text or name
    methods: tuple[str, ...] | None
    kind: str  # function, class or socket
    group: str = ""  # a mount, an included router, a blueprint
    guarded: bool = False  # whether a guard is around its class, which a subclass enters in a way of its own

    def path(self, group: str | None = None) -> str:
        """As a policy writes it."""
        written = ""
        for kind, text in self.parts:
            written += "/**" if kind == "rest" else f"/{text}" if kind == "word" else f"/{{{text}}}"
            if kind == "rest":
                break
        return (self.group if group is None else group) + written + "/**" * (self.kind == "mount") or "/"


def application(rng: random.Random) -> list[Spec]:
    found = []
    for number in range(rng.randint(2, 6)):
        parts: list[tuple[str, str]] = []
        for place in range(rng.randint(0, 3)):
            kind = rng.choice(("word", "word", "word", "word", "text", "text", "number", "number", "place"))
            parts.append((kind, rng.choice(WORDS) if kind == "word" else f"p{place}"))
        if rng.random() < 0.2:
            parts.insert(len(parts) if rng.random() < 0.6 else rng.randint(0, len(parts)), ("rest", "rest"))
        methods = rng.choice((("GET",), ("GET",), ("POST",), ("GET", "POST"), ("PUT", "DELETE"), None))
        kind = rng.choice(("function", "function", "function", "class", "socket", "mount"))
        name = f"n{number}" if rng.random() < 0.85 else "n0"
        group = rng.choice(("", "", "", "/a", "/m", "/m/b"))
        found.append(Spec(name, tuple(parts), methods, kind, group, kind == "class" and rng.random() < 0.5))
    return found


def policy_of(rng: random.Random, specs: list[Spec]) -> tuple[list[tuple[str, str, str]], dict[str, str]]:
    """Path lines and lines of actions."""
    actions = {spec.name: rng.choice(REQUIREMENTS) for spec in specs if rng.random() < 0.5}
    for spec in specs:
        if spec.kind == "class" and rng.random() < 0.4:
            actions[f"{spec.name}.{rng.choice(('get', 'post'))}"] = rng.choice(REQUIREMENTS)
    lines: dict[tuple[str, str], tuple[str, str, str]] = {}
    shapes = [spec.path() for spec in specs if spec.name not in actions]
    shapes += ["/" + "/".join(rng.choice((*WORDS, "{x}", "*")) for _ in range(rng.randint(1, 3))) for _ in range(2)]
    shapes += ["/**"] * (rng.random() < 0.4) + ["/m/**"] * (rng.random() < 0.3) + ["/"] * (rng.random() < 0.3)
    for shape in shapes:
        method = rng.choice(("any", "any", "GET", "POST", "WEBSOCKET"))
        lines.setdefault((method, re.sub(r"\{\w+\}", "{}", shape)), (method, shape, rng.choice(REQUIREMENTS)))
    return list(lines.values()), actions


# The naive reading --------------------------------------------------------------------------------


def segments_of(raw: str) -> list[str] | None:
    """The path in segments, or None where it can be read in more than one way."""
    if not raw.startswith("/") or re.search(r"%(?![0-9a-fA-F]{2})", raw):
        return None
    pieces = raw[1:].split("/")
    if pieces and pieces[-1] == "":
        pieces.pop()
    try:
        read = [unquote_to_bytes(piece).decode("utf-8") for piece in pieces]
    except UnicodeDecodeError:
        return None
    if any(piece in ("", ".", "..") or re.search(r"[/\\;\x00-\x1f\x7f-\x9f]", piece) for piece in read):
        return None
    return read


RANK = {"word": 0, "name": 2, "*": 3, "**": 4}


def kinds(shape: str) -> list[str]:
    return [
        part if part in ("*", "**") else "name" if "{" in part else "word"
        for part in shape.strip("/").split("/")
        if part
    ]


def covers(shape: str, path: list[str]) -> bool:
    parts = [part for part in shape.strip("/").split("/") if part]
    if parts and parts[-1] == "**":
        parts, path = parts[:-1], path[: len(parts) - 1]
    if len(parts) != len(path):
        return False
    return all(part in ("*", each) or "{" in part for part, each in zip(parts, path, strict=True))


def speaks_of(methods: str, method: str) -> bool:
    return methods in ("any", method) or (methods == "GET" and method == "HEAD")


def line_for(spec: Spec, method: str, path: list[str], lines: list[Any], actions: dict[str, str]) -> str:
    """What decides a request that this route serves."""
    declared = served_methods(spec)
    served = declared is None or method in declared or (method == "HEAD" and "GET" in declared)
    if served and spec.kind == "class":
        operation = "get" if method == "HEAD" else method.lower()
        named = actions.get(f"{spec.name}.{operation}", actions.get(spec.name))
        if named is not None:
            return named
    elif spec.name in actions and served:
        return actions[spec.name]
    found = [
        ([RANK[kind] for kind in kinds(shape)] + [3.5] * ("**" not in shape), methods == "any", requirement)
        for methods, shape, requirement in lines
        if speaks_of(methods, method) and covers(shape, path)
    ]
    # Where one template ends, another one may go on with ** and nothing behind it, which is less specific.
    return min(found)[-1] if found else "nobody"


def served_methods(spec: Spec) -> tuple[str, ...] | None:
    if spec.kind == "socket":
        return ("WEBSOCKET",)
    if spec.kind == "mount":
        return None
    if spec.kind == "class":
        return ("GET", "POST")
    return spec.methods


# The applications --------------------------------------------------------------------------------

reached: list[int] = []
asked: list[tuple[Any, str]] = []  # the application that is asked at the moment, and the prefix before its paths


class Stack:
    """One framework: how an application is built and asked."""

    sockets = False
    unique = False
    nests = True
    default_methods: tuple[str, ...] | None = ("GET",)
    policy: bloodroot.Policy | None = None
    late: frozenset[int] = frozenset()

    def begin(self, specs: list[Spec], policy: bloodroot.Policy | None) -> None:
        """Note what is built. The last route comes late, unless it is the only one of an action.

        Without a policy routes come as they came last: what is compared has them in the same order.
        """
        self.policy = policy
        if policy is not None:
            self.late = frozenset()
            last = len(specs) - 1
            others = {spec.name for spec in specs[:last]}
            if specs[last].name in others or specs[last].name not in {action.name for action in policy.unbound}:
                self.late = frozenset({last})

    def guarded(self, spec: Spec, kind: Any) -> Any:
        """A class as it is served: within a guard, and with another way to enter it."""
        if not spec.guarded or self.policy is None:
            return kind

        class Enters(guard("keeper")(kind)):  # type: ignore[misc]
            def dispatch(self, *given: Any, **named: Any) -> Any:
                return super().dispatch(*given, **named)

            def dispatch_request(self, *given: Any, **named: Any) -> Any:
                return super().dispatch_request(*given, **named)

        return Enters

    def build(self, specs: list[Spec], policy: bloodroot.Policy | None) -> Any:
        raise NotImplementedError

    def ask(self, app: Any, request: "Asked") -> tuple[int, dict[str, str], bytes]:
        raise NotImplementedError


@dataclasses.dataclass
class Asked:
    method: str
    raw: str
    caller: str
    prefix: str = ""
    socket: bool = False
    host: str = "127.0.0.1"
    forwarded: str = ""
    nested: str = ""  # what a function dispatches again


def identify(request: Any) -> Caller | None:
    headers = getattr(request, "headers", {})
    return CALLERS[headers.get("x-caller") or ""]


def body(number: int, values: Any) -> str:
    reached.append(number)
    return f"{number} {sorted((name, str(value)) for name, value in values.items())}"


class OnStarlette(Stack):
    sockets = True

    def build(self, specs: list[Spec], policy: bloodroot.Policy | None) -> Any:
        self.begin(specs, policy)
        groups: dict[str, list[Any]] = {}
        inners: dict[str, Any] = {}
        top: list[Any] = []
        for number, spec in enumerate(specs):
            if number in self.late:
                continue
            route = self.route(number, spec)
            if not spec.group:
                top.append(route)
                continue
            if spec.group not in groups:
                groups[spec.group] = []
                inner: Any = Starlette() if number % 2 else Router()
                inners[spec.group] = inner
                groups[spec.group] = inner.routes
                for place in reversed(range(2, spec.group.count("/") + 1)):
                    inner = Router([Mount("/" + spec.group.split("/")[place], app=inner)])
                top.append(Mount("/" + spec.group.split("/")[1], app=inner))
            groups[spec.group].append(route)
        if len(specs) % 3 == 0:
            top.insert(0, Host("other.example", app=Router([Route("/a", self.endpoint(ON_HOST), name="n0")])))
        app = Starlette(routes=top)
        if len(specs) % 3 == 1:
            app.router.default = plain_application(FOR_THE_REST)
        if policy is not None:
            for_starlette.protect(app, policy, identify=identify)
        for number in self.late:
            # It comes where it would have come, into a list of routes that was read already.
            spec = specs[number]
            inner = inners.get(spec.group, app if not spec.group else None)
            if inner is not None:
                getattr(inner, "router", inner).routes.append(self.route(number, spec))
            else:
                app.router.routes.append(Mount(spec.group, routes=[self.route(number, spec)]))
        return app

    def endpoint(self, number: int) -> Any:
        async def serve(request: Any) -> Any:
            text = body(number, request.path_params)
            await self.dispatch_again(request, number)
            return PlainTextResponse(text)

        return serve

    async def dispatch_again(self, request: Any, number: int) -> None:
        """Have another page made on the way, by the application or by its router alone."""
        nested = request.headers.get("x-nested")
        if not nested or "nested" in request.scope:
            return
        path = unquote_to_bytes(nested).decode("utf-8", "replace")
        root = asked[-1][1]
        scope = {**request.scope, "path": root + path, "raw_path": (root + nested).encode(), "root_path": root}
        scope = {**scope, "method": "GET", "nested": True, "path_params": {}}

        async def drop(message: Any) -> None: ...

        with contextlib.suppress(Exception):
            await (asked[-1][0] if number % 2 else asked[-1][0].router)(scope, request.receive, drop)

    def route(self, number: int, spec: Spec) -> Any:
        path = starlette_path(spec) or "/"
        if spec.kind == "mount":
            # An application that is not known here: one line for all of it.
            return Mount(path if spec.parts else "/mounted", app=plain_application(number), name=spec.name)
        if spec.kind == "socket":

            async def talk(socket: Any) -> None:
                await socket.accept()
                await socket.send_text(body(number, socket.path_params))
                await socket.close()

            return WebSocketRoute(path, talk, name=spec.name)
        if spec.kind == "class":

            class View(HTTPEndpoint):
                async def get(self, request: Any) -> Any:
                    return PlainTextResponse(body(number, request.path_params))

                async def post(self, request: Any) -> Any:
                    return PlainTextResponse(body(number, request.path_params))

            return Route(path, self.guarded(spec, View), name=spec.name)
        methods = list(spec.methods) if spec.methods else None
        return Route(path, self.endpoint(number), methods=methods, name=spec.name)

    def ask(self, app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
        return asyncio.run(ask_asgi(app, request))


def plain_application(number: int) -> Any:
    async def serve(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] == "http":
            await PlainTextResponse(body(number, scope.get("path_params", {})))(scope, receive, send)
        else:
            await send({"type": "websocket.close", "code": 1000, "reason": ""})

    return serve


class OnFastAPI(OnStarlette):
    def build(self, specs: list[Spec], policy: bloodroot.Policy | None) -> Any:
        prefix = "/app" if len(specs) % 3 == 1 else ""
        with warnings.catch_warnings():
            # That a prefix is set in the application is deprecated, and still done.
            warnings.simplefilter("ignore")
            app = fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None, root_path=prefix)
        self.begin(specs, policy)
        routers: dict[str, Any] = {}
        late: list[tuple[Any, int, Spec]] = []
        for number, spec in enumerate(specs):
            target: Any = app
            if spec.group:
                if spec.group not in routers:
                    routers[spec.group] = fastapi.APIRouter(prefix=spec.group)
                    outer = fastapi.APIRouter()
                    outer.include_router(routers[spec.group])
                    app.include_router(outer)
                target = routers[spec.group]
            # Some routes come late, after the router was included and the application protected.
            if number in self.late:
                late.append((target, number, spec))
            else:
                self.add(target, number, spec)
        if policy is not None:
            for_fastapi.protect(app, policy, identify=identify)
        for target, number, spec in late:
            self.add(target, number, spec)
        return app

    def ask(self, app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
        if app.root_path and request.prefix:
            request = dataclasses.replace(request, prefix=app.root_path)  # the setting beats what the server says
        return super().ask(app, request)

    def add(self, target: Any, number: int, spec: Spec) -> None:
        if spec.kind != "function" or not spec.parts:
            route = self.route(number, spec)
            if target is not None and hasattr(target, "prefix") and target.prefix:
                route = self.route(number, dataclasses.replace(spec, parts=(*prefix_parts(target.prefix), *spec.parts)))
            router = getattr(target, "router", target)
            if isinstance(route, Mount):
                router.mount(route.path, route.app, name=spec.name)
            elif isinstance(route, WebSocketRoute):
                router.add_websocket_route(route.path, route.endpoint, name=spec.name)
            else:
                router.add_route(route.path, route.endpoint, methods=route.methods, name=spec.name)
            return

        async def serve(request: fastapi.Request) -> Any:
            text = body(number, request.path_params)
            await self.dispatch_again(request, number)
            return PlainTextResponse(text)

        target.add_api_route(starlette_path(spec), serve, methods=list(spec.methods or ("GET",)), name=spec.name)


def starlette_path(spec: Spec) -> str:
    written = (f"{text}:{CONVERTERS[kind]}".rstrip(":") if kind != "word" else "" for kind, text in spec.parts)
    return "".join(f"/{{{each}}}" if each else f"/{text}" for each, (_, text) in zip(written, spec.parts, strict=True))


def angled(spec: Spec) -> str:
    """The path as Flask and Django write it, without a slash before it."""
    written = ((kind, f"{CONVERTERS.get(kind, '')}:{text}".lstrip(":")) for kind, text in spec.parts)
    return "/".join(each if kind == "word" else f"<{each}>" for kind, each in written)


def prefix_parts(prefix: str) -> list[tuple[str, str]]:
    return [("word", part) for part in prefix.strip("/").split("/")]


async def ask_asgi(app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
    """As a server would, with what it makes of the request line."""
    path = request.prefix + unquote_to_bytes(request.raw).decode("utf-8", "replace")
    scope: dict[str, Any] = {
        "type": "websocket" if request.socket else "http",
        "method": request.method,
        "path": path,
        "raw_path": (request.prefix + request.raw).encode(),
        "root_path": request.prefix,
        "query_string": b"",
        "headers": [
            (b"host", request.host.encode()),
            (b"x-caller", request.caller.encode()),
            (b"x-forwarded-prefix", request.forwarded.encode()),
            (b"x-nested", request.nested.encode()),
        ],
        "client": ("127.0.0.1", 1),
        "server": ("127.0.0.1", 80),
        "scheme": "http",
        "http_version": "1.1",
        "subprotocols": [],
    }
    if request.socket:
        del scope["method"]
    inbox = iter([{"type": "websocket.connect"}] if request.socket else [{"type": "http.request", "body": b""}])
    sent: list[Any] = []

    async def receive() -> Any:
        found = next(inbox, None)
        if found is None:
            await asyncio.Event().wait()  # the client stays
        return found

    async def send(message: Any) -> None:
        sent.append(message)

    asked[:] = [(app, getattr(app, "root_path", "") or request.prefix)]
    try:
        await app(scope, receive, send)
    except Exception as error:
        return 500, {}, repr(error).encode()
    if request.socket:
        accepted = [each for each in sent if each["type"] == "websocket.accept"]
        return (101 if accepted else 403), {}, "".join(str(each.get("text", "")) for each in sent).encode()
    headers = {name.decode().lower(): value.decode() for name, value in sent[0]["headers"]}
    return sent[0]["status"], headers, b"".join(each.get("body", b"") for each in sent[1:])


class OnFlask(Stack):
    unique = True  # Flask knows each view by one name

    def build(self, specs: list[Spec], policy: bloodroot.Policy | None) -> Any:
        app = flask.Flask("tarn", static_folder=None)
        app.url_map.converters["place"] = _PlaceOfFlask
        self.begin(specs, policy)
        for number, spec in enumerate(specs):
            if number not in self.late:
                app.add_url_rule(f"{spec.group}/{angled(spec)}", spec.name, self.view(number, spec))
        if len(specs) % 3 == 1:
            app.wsgi_app = ProxyFix(app.wsgi_app, x_for=0, x_prefix=1)  # type: ignore[method-assign]
        if policy is not None:
            for_flask.protect(app, policy, identify=identify)
        for number in self.late:
            app.add_url_rule(
                f"{specs[number].group}/{angled(specs[number])}", specs[number].name, self.view(number, specs[number])
            )
        return app

    def view(self, number: int, spec: Spec) -> Any:
        if spec.kind == "class":

            class View(flask.views.MethodView):
                def get(self, **values: Any) -> str:
                    return body(number, values)

                def post(self, **values: Any) -> str:
                    return body(number, values)

            return self.guarded(spec, View).as_view(f"v{number}")

        def view(**values: Any) -> str:
            text = body(number, values)
            app: Any = flask.current_app._get_current_object()  # type: ignore[attr-defined]
            nested = flask.request.environ.get("HTTP_X_NESTED")
            if nested and "nested" not in flask.request.environ:
                path = unquote_to_bytes(nested).decode("latin-1")
                changed = {"PATH_INFO": path, "REQUEST_URI": nested, "REQUEST_METHOD": "GET", "nested": True}
                with contextlib.suppress(Exception), app.request_context({**flask.request.environ, **changed}):
                    app.full_dispatch_request()
            return text

        view.methods = spec.methods  # type: ignore[attr-defined]
        return view

    def ask(self, app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
        return ask_wsgi(app, request)


def ask_wsgi(app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
    environ: dict[str, Any] = {
        "REQUEST_METHOD": request.method,
        "SCRIPT_NAME": request.prefix,
        "PATH_INFO": unquote_to_bytes(request.raw).decode("latin-1"),
        "REQUEST_URI": request.prefix + request.raw,
        "QUERY_STRING": "",
        "SERVER_NAME": "127.0.0.1",
        "SERVER_PORT": "80",
        "SERVER_PROTOCOL": "HTTP/1.1",
        "HTTP_HOST": request.host,
        "HTTP_X_CALLER": request.caller,
        "HTTP_X_FORWARDED_PREFIX": request.forwarded,
        "HTTP_X_NESTED": request.nested,
        "wsgi.input": io.BytesIO(),
        "wsgi.errors": io.StringIO(),
        "wsgi.url_scheme": "http",
        "wsgi.version": (1, 0),
        "wsgi.multithread": False,
        "wsgi.multiprocess": False,
        "wsgi.run_once": False,
    }
    noted: list[Any] = []
    pieces = app(environ, lambda status, headers, exc_info=None: noted.append((status, headers)))
    content = b"".join(pieces)
    getattr(pieces, "close", lambda: None)()
    return int(noted[-1][0].split()[0]), {name.lower(): value for name, value in noted[-1][1]}, content


class OnDjango(Stack):
    default_methods = None
    nests = False

    def __init__(self, *, waits: bool) -> None:
        self.waits = waits

    def build(self, specs: list[Spec], policy: bloodroot.Policy | None) -> Any:
        how: dict[str, Any] = {"MIDDLEWARE": [], "FORCE_SCRIPT_NAME": "/app" if len(specs) % 3 == 1 else None}
        if policy is not None:
            how["MIDDLEWARE"] = ["bloodroot.enforce.django.AccessMiddleware"]
            how["BLOODROOT"] = {"policy": policy, "identify": identify}
        self.begin(specs, policy)
        patterns = self.patterns(specs)
        with project(patterns, **how):
            handler: Any = (
                django.core.handlers.asgi.ASGIHandler() if self.waits else django.core.handlers.wsgi.WSGIHandler()
            )
        for number in self.late:
            late = self.pattern(number, specs[number])
            group = specs[number].group.strip("/")
            patterns.append(django.urls.path(f"{group}/", django.urls.include([late])) if group else late)
        return handler, patterns, how

    def ask(self, app: Any, request: Asked) -> tuple[int, dict[str, str], bytes]:
        handler, patterns, how = app
        if self.waits and request.prefix and how["FORCE_SCRIPT_NAME"]:
            request = dataclasses.replace(request, prefix=how["FORCE_SCRIPT_NAME"])
        with project(patterns, **how):
            return asyncio.run(ask_asgi(handler, request)) if self.waits else ask_wsgi(handler, request)

    def patterns(self, specs: list[Spec]) -> list[Any]:
        top: list[Any] = []
        groups: dict[str, list[Any]] = {}
        for number, spec in enumerate(specs):
            target = top
            if number in self.late:
                continue
            if spec.group:
                if spec.group not in groups:
                    groups[spec.group] = []
                    module = types.ModuleType(f"tarn{spec.group.replace('/', '_')}")
                    module.urlpatterns = groups[spec.group]  # type: ignore[attr-defined]
                    top.append(django.urls.path(spec.group.strip("/") + "/", django.urls.include(module)))
                target = groups[spec.group]
            target.append(self.pattern(number, spec))
        return top

    def pattern(self, number: int, spec: Spec) -> Any:
        if number % 4 == 3 and not any(kind == "rest" for kind, _ in spec.parts):
            # The same as a regular expression.
            groups = {"text": "[^/]+", "number": "[0-9]+", "place": PLACE}
            regex = "/".join(text if kind == "word" else f"(?P<{text}>{groups[kind]})" for kind, text in spec.parts)
            return django.urls.re_path(f"^{regex}$", self.view(number, spec), name=spec.name)
        return django.urls.path(angled(spec), self.view(number, spec), name=spec.name)

    def view(self, number: int, spec: Spec) -> Any:
        if spec.kind == "class":

            class View(django.views.View):
                def get(self, request: Any, **values: Any) -> Any:
                    return django.http.HttpResponse(body(number, values))

                def post(self, request: Any, **values: Any) -> Any:
                    return django.http.HttpResponse(body(number, values))

            return self.guarded(spec, View).as_view()
        if self.waits and number % 2:

            async def later(request: Any, **values: Any) -> Any:
                return django.http.HttpResponse(body(number, values))

            return later

        def view(request: Any, **values: Any) -> Any:
            return django.http.HttpResponse(body(number, values))

        return view
