"""2: a guard around a class is asked whichever way the class is entered, on every framework that has classes."""

import asyncio
import functools
import gc
import logging
import unittest
from typing import Any

import flask
import flask.views
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from django.http import HttpResponse
from django.urls import include, path
from django.utils.decorators import method_decorator
from django.views import View
from starlette.applications import Starlette
from starlette.endpoints import HTTPEndpoint
from starlette.responses import PlainTextResponse
from starlette.routing import Route

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import EnforcementError, Refusal, StartUpError, guard, on_behalf_of
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import configure, project
from tests.servers import ask, serving, serving_wsgi

POLICY = bloodroot.parse("roles\n  keeper\n  clerk\nendpoints\n  any /** signed-in\n")
CALLERS = {"keeper": Caller(4, {"keeper"}), "clerk": Caller(5, {"clerk"})}
KEEPER, CLERK = CALLERS["keeper"], CALLERS["clerk"]
METHODS = ("GET", "POST", "PROPFIND", "OPTIONS")


def who(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-caller") or "")


class OnServers(unittest.TestCase):
    def setUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        self.ran: list[str] = []

    def check(self, port: int, *targets: str) -> None:
        for target in targets:
            for method in METHODS:
                self.ran.clear()
                with self.subTest(f"{method} {target}"):
                    self.assertEqual(ask(port, method, target, X_Caller="clerk")[0], 403)
                    self.assertEqual(self.ran, [])
            self.assertEqual(ask(port, "GET", target, X_Caller="keeper")[0], 200)

    def test_2_starlette(self) -> None:
        ran = self.ran

        @guard("keeper", policy=POLICY)
        class Lot(HTTPEndpoint):
            async def get(self, request: Any) -> Any:
                ran.append("get")
                return PlainTextResponse("lot")

            async def propfind(self, request: Any) -> Any:
                ran.append("propfind")
                return PlainTextResponse("lot")

        class Adds(Lot):
            async def post(self, request: Any) -> Any:
                ran.append("post")
                return PlainTextResponse("lot")

        class Dispatches(Lot):
            async def dispatch(self) -> None:
                ran.append("dispatch")
                await PlainTextResponse("lot")(self.scope, self.receive, self.send)

        class Awaited(Lot):
            def __await__(self) -> Any:
                ran.append("await")
                return self.dispatch().__await__()

        class Made(Lot):
            def __init__(self, *given: Any) -> None:
                ran.append("made")
                super().__init__(*given)

        class Refuses(Lot):
            async def method_not_allowed(self, request: Any) -> Any:
                ran.append("not allowed")
                return PlainTextResponse("secret")

        kinds = (Lot, Adds, Dispatches, Awaited, Made, Refuses)
        app = Starlette(routes=[Route(f"/{each.__name__}", each) for each in kinds])
        for_starlette.protect(app, POLICY, identify=who)
        with serving(app) as port:
            self.check(port, *(f"/{each.__name__}" for each in kinds))
        with self.assertRaisesRegex(bloodroot.PolicyError, "is made before its handler is called"):
            guard("args.lot == caller.id", policy=POLICY)(type("Other", (HTTPEndpoint,), {}))

    def test_2_flask(self) -> None:
        ran = self.ran

        @guard("keeper", policy=POLICY)
        class Lot(flask.views.MethodView):
            def get(self) -> str:
                ran.append("get")
                return "lot"

        class Dispatches(Lot):
            def dispatch_request(self, **values: Any) -> Any:
                ran.append("dispatch")
                return "lot"

        class Adds(Lot):
            methods = ("GET", "POST", "PROPFIND")

            def post(self) -> str:
                ran.append("post")
                return "lot"

            propfind = post

        @guard("keeper", policy=POLICY)
        class Plain(flask.views.View):
            methods = ("GET", "POST", "PROPFIND")

            def dispatch_request(self) -> Any:
                ran.append("plain")
                return "lot"

        app = flask.Flask("tarn", static_folder=None)
        kinds = (Lot, Dispatches, Adds, Plain)
        for each in kinds:
            app.add_url_rule(
                f"/{each.__name__}", view_func=each.as_view(each.__name__), provide_automatic_options=False
            )
        for_flask.protect(app, POLICY, identify=who)
        with serving_wsgi(app) as port:
            for each in kinds:
                for method in METHODS:
                    self.ran.clear()
                    self.assertIn(ask(port, method, f"/{each.__name__}", X_Caller="clerk")[0], (403, 405))
                    self.assertEqual(self.ran, [], (each, method))
                self.assertEqual(ask(port, "GET", f"/{each.__name__}", X_Caller="keeper")[0], 200)

        class Enters(Lot):
            @classmethod
            def as_view(cls, *given: Any, **named: Any) -> Any:
                return lambda: "another way in"

        other = flask.Flask("tarn", static_folder=None)
        view = Enters.as_view("enters")
        view.view_class = Enters
        other.add_url_rule("/enters", "enters", view)
        with self.assertRaisesRegex(StartUpError, "not run for Enters, which has another way in"):
            for_flask.protect(other, POLICY, identify=who)

    def test_2_django_and_rest(self) -> None:
        configure()
        from rest_framework.decorators import action
        from rest_framework.response import Response as RestResponse
        from rest_framework.routers import SimpleRouter
        from rest_framework.views import APIView
        from rest_framework.viewsets import ViewSet

        ran = self.ran

        @guard("keeper", policy=POLICY)
        class Lot(View):
            def get(self, request: Any) -> Any:
                ran.append("get")
                return HttpResponse("lot")

        class Dispatches(Lot):
            def dispatch(self, request: Any, *given: Any, **named: Any) -> Any:
                ran.append("dispatch")
                return HttpResponse("lot")

        class Sets(Lot):
            def setup(self, request: Any, *given: Any, **named: Any) -> None:
                super().setup(request, *given, **named)
                ran.append("setup")
                self.get = self.post = lambda request: HttpResponse("set")

        class Refuses(Lot):
            def http_method_not_allowed(self, request: Any, *given: Any, **named: Any) -> Any:
                ran.append("not allowed")
                return HttpResponse("secret")

        @guard("keeper", policy=POLICY)
        class Later(View):
            async def get(self, request: Any) -> Any:
                ran.append("later")
                return HttpResponse("lot")

        @guard("keeper", policy=POLICY)
        class Rest(APIView):
            authentication_classes = ()

            def get(self, request: Any) -> Any:
                ran.append("rest")
                return RestResponse("lot")

        @guard("keeper", policy=POLICY)
        class Set(ViewSet):
            authentication_classes = ()

            def list(self, request: Any) -> Any:
                ran.append("list")
                return RestResponse("lots")

            def create(self, request: Any) -> Any:
                ran.append("create")
                return RestResponse("lot")

            @action(detail=False, methods=["get", "post"])
            def more(self, request: Any) -> Any:
                ran.append("more")
                return RestResponse("more")

        @method_decorator(guard("keeper", policy=POLICY), name="dispatch")
        class Decorated(View):
            def get(self, request: Any) -> Any:
                ran.append("decorated")
                return HttpResponse("lot")

        kinds = (Lot, Dispatches, Sets, Refuses, Later, Rest, Decorated)
        urls = [path(each.__name__, each.as_view(), name=each.__name__) for each in kinds]
        router = SimpleRouter(trailing_slash=False)
        router.register("Set", Set, basename="set")
        urls.append(path("", include(router.urls)))
        given = {"policy": POLICY, "identify": who}
        settings = {"INSTALLED_APPS": ["rest_framework"], "REST_FRAMEWORK": {"UNAUTHENTICATED_USER": None}}
        targets = [*(f"/{each.__name__}" for each in (*kinds, Set)), "/Set/more"]
        for server in (lambda: serving_wsgi(WSGIHandler()), lambda: serving(ASGIHandler())):
            ours = ["bloodroot.enforce.django.AccessMiddleware"]
            with project(urls, BLOODROOT=given, MIDDLEWARE=ours, **settings), server() as port:
                self.check(port, *targets)


class Services(unittest.TestCase):
    """Classes that no framework knows."""

    def test_2_every_way_to_use_a_service(self) -> None:
        class Base:
            def inherited(self) -> str:
                return "inherited"

        @guard("keeper", policy=POLICY)
        class Lots(Base):
            label = "lots"

            def __init__(self) -> None:
                self._kept = "kept"

            def get(self) -> str:
                return self._own()

            def sell(self) -> str:
                return "sold"

            async def later(self) -> str:
                return "later"

            def steps(self) -> Any:
                yield "step"

            @property
            def all(self) -> str:
                return "all"

            @all.setter
            def all(self, value: str) -> None:
                self._kept = value

            @staticmethod
            def static() -> str:
                return "static"

            @classmethod
            def made(cls) -> str:
                return "made"

            @functools.lru_cache  # noqa: B019
            def cached(self) -> str:
                return "cached"

            def __call__(self) -> str:
                return "called"

            def __getitem__(self, name: str) -> str:
                return name

            def __iter__(self) -> Any:
                return iter(("one",))

            def __enter__(self) -> Any:
                return self

            def __exit__(self, *_: object) -> None: ...

            def _own(self) -> str:
                return "own"

        class More(Lots):
            def more(self) -> str:
                return "more"

            def sell(self) -> str:
                return "sold otherwise"

        lots = More()

        def write() -> str:
            lots.all = "changed"
            return "written"

        def within() -> str:
            with lots:
                return "within"

        ways = (
            *(lots.get, lots.sell, lots.more, lots.inherited, lots.static, lots.made, lots.cached, lots, within, write),
            *(lambda: asyncio.run(lots.later()), lambda: list(lots.steps()), lambda: lots.all, lambda: lots["x"]),
            *(lambda: list(lots), Lots.static),
        )
        for way in ways:
            with self.assertRaises(Refusal), on_behalf_of(CLERK, POLICY):
                way()
            with on_behalf_of(KEEPER, POLICY):
                self.assertTrue(way())
        self.assertEqual((lots.label, lots._own()), ("lots", "own"))

    def test_a_subclass_is_guarded_however_it_comes_by_its_methods(self) -> None:
        @guard("keeper", policy=POLICY)
        class Lots:
            def sell(self) -> str:
                return "sold"

        class Beside:
            def sell(self) -> str:
                return "sold beside"

        class Silent:
            def __init_subclass__(cls) -> None: ...

        class Quiet(Lots):
            def __init_subclass__(cls) -> None: ...

            def sell(self) -> str:
                return "sold quietly"

        class Quieter(Quiet):
            def sell(self) -> str:
                return "sold more quietly"

        class Mixed(Beside, Lots): ...

        class Deeper(Beside, Quiet): ...

        for kind in (Lots, Quiet, Quieter, Mixed, Deeper):
            with self.subTest(kind.__name__):
                with self.assertRaises(Refusal), on_behalf_of(CLERK, POLICY):
                    kind().sell()
                with on_behalf_of(KEEPER, POLICY):
                    self.assertIn("sold", kind().sell())

        class Unnoticed(Silent, Lots):
            def sell(self) -> str:
                return "sold unnoticed"

        with self.assertRaisesRegex(TypeError, "another __init_subclass__ keeps its methods from being guarded"):
            Unnoticed()

        class Answering:
            def __getattr__(self, name: str) -> Any: ...

        with self.assertRaisesRegex(TypeError, "inherits __getattr__ from Answering"):
            type("Any", (Lots, Answering), {})

    def test_2_a_class_that_is_entered_in_an_unknown_way_is_refused(self) -> None:
        class Meta(type): ...

        def attribute(self: Any, name: str) -> Any: ...

        for what, message in (
            (Meta("Made", (), {"run": lambda self: 1}), "the metaclass of Made is Meta"),
            (type("Table", (dict,), {"run": lambda self: 1}), "Table is a dict"),
            (type("Any", (), {"run": lambda self: 1, "__getattr__": attribute}), "Any has __getattr__"),
            (type("Partly", (), {"run": functools.partialmethod(print)}), "Partly.run is a partialmethod"),
            (type("Once", (), {"run": functools.cached_property(lambda self: 1)}), "Once.run is a cached_property"),
            (type("Views", (), {"as_view": lambda self: 1}), "Views.as_view is no class method"),
            (type("Empty", (), {}), "has no public method"),
        ):
            with self.subTest(message), self.assertRaisesRegex(TypeError, message):
                guard("keeper", policy=POLICY)(what)


class Caches(unittest.TestCase):
    def test_a_cache_around_a_guard_is_an_error_and_one_within_works(self) -> None:
        asked: list[int] = []

        @guard("keeper", policy=POLICY)
        @functools.lru_cache
        def safe(number: int) -> int:
            asked.append(number)
            return number

        for _ in range(2):
            with on_behalf_of(KEEPER, POLICY):
                self.assertEqual(safe(1), 1)
            with self.assertRaises(Refusal), on_behalf_of(CLERK, POLICY):
                safe(1)
        self.assertEqual(asked, [1])

        @functools.lru_cache
        @guard("keeper", policy=POLICY)
        def unsafe(number: int) -> int:
            return number

        with self.assertRaisesRegex(EnforcementError, "a cache is around the guard"), on_behalf_of(KEEPER, POLICY):
            unsafe(1)

        class Once:
            @functools.cached_property
            @guard("keeper", policy=POLICY)
            def lots(self) -> int:
                return 1

        with self.assertRaisesRegex(EnforcementError, "a cache is around the guard"), on_behalf_of(KEEPER, POLICY):
            _ = Once().lots
        app = Starlette(routes=[Route("/x", lambda request: PlainTextResponse("x"), name="x")])
        with self.assertRaisesRegex(StartUpError, "a cache is around the guard"):
            for_starlette.protect(app, POLICY, identify=who)
        del unsafe, Once
        gc.collect()


class Steps(unittest.TestCase):
    def test_14_what_is_sent_into_an_async_generator_arrives(self) -> None:
        heard: list[Any] = []

        @guard("keeper", policy=POLICY)
        async def steps() -> Any:
            try:
                heard.append((yield 1))
                try:
                    yield 2
                except ValueError as error:
                    heard.append(str(error))
                    yield 3
                yield 4
            finally:
                heard.append("closed")

        async def use() -> list[Any]:
            found = steps()
            got = [await anext(found), await found.asend("hello"), await found.athrow(ValueError("odd"))]
            await found.aclose()
            return got

        with on_behalf_of(KEEPER, POLICY):
            self.assertEqual(asyncio.run(use()), [1, 2, 3])
        self.assertEqual(heard, ["hello", "odd", "closed"])
        with self.assertRaises(Refusal), on_behalf_of(CLERK, POLICY):
            asyncio.run(use())
