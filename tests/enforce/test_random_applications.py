"""Random applications under random policies: a handler runs only if the line for that very handler allows it, and an
allowed request is answered as it is without enforcement.

The applications have converters, overlapping templates in any order, parameters of several segments, mounts, hosts,
included routers, prefixes, applications for what no route serves, WebSockets beside pages, class-based views and
undeclared methods, routes that come late, guards around classes that are entered in other ways, and handlers that
dispatch again. What is expected comes from
a naive reading of the design: which handler does the unprotected application choose, and what does its line say?
"""

import dataclasses
import logging
import random
import re
import unittest
from collections.abc import Callable
from typing import Any

from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import bloodroot
from bloodroot import PolicyError
from bloodroot.core.binding import template_of
from bloodroot.core.paths import unnamed_segments
from bloodroot.frameworks import routes_of
from bloodroot.survey.applications import survey_application
from bloodroot.survey.coverage import survey
from tests.enforce.random_applications import (
    CALLERS,
    FOR_THE_REST,
    ON_HOST,
    Asked,
    OnDjango,
    OnFastAPI,
    OnFlask,
    OnStarlette,
    Spec,
    Stack,
    application,
    covers,
    line_for,
    may,
    policy_of,
    reached,
    segments_of,
    speaks_of,
)
from tests.examples import examples

REQUESTS = 24


def requests_for(rng: random.Random, specs: list[Spec], stack: Stack) -> list[Asked]:
    found = []
    for _ in range(REQUESTS):
        spec = rng.choice(specs)
        values = {
            "text": ("a", "new", "7", "x y", "é"),
            "number": ("7", "07", "0"),
            "rest": ("a/b", "a", "new/7"),
            "place": ("a/b", "new"),
        }
        path = spec.group
        for kind, text in spec.parts:
            path += "/" + (text if kind == "word" else rng.choice(values[kind]))
        path = path or "/"
        raw = odd(rng, "".join(each if each.isascii() and each != " " else encoded(each) for each in path))
        method = rng.choice(
            ("GET", "GET", "POST", "PUT", "DELETE", "HEAD", "OPTIONS", "get", "PATCH", "Get", "WEBSOCKET")
        )
        socket = stack.sockets and (spec.kind == "socket" or rng.random() < 0.05)
        prefix = rng.choice(("", "", "", "/app", "/a", "/m"))
        host = rng.choice(("127.0.0.1", "127.0.0.1", "other.example"))
        if host == "other.example" and rng.random() < 0.5:
            raw = "/a"
        forwarded = rng.choice(("", "", "/bank", "/a"))
        caller = rng.choice(list(CALLERS))
        nested = ""
        if stack.nests and not socket and rng.random() < 0.3:
            nested = found[-1].raw if found else raw
        found.append(Asked("WEBSOCKET" if socket else method, raw, caller, prefix, socket, host, forwarded, nested))
    return found


def encoded(character: str) -> str:
    return "".join(f"%{byte:02X}" for byte in character.encode())


def odd(rng: random.Random, path: str) -> str:
    """Another spelling of a path, more often than not the same."""
    if rng.random() < 0.6:
        return path
    place = rng.randrange(len(path))
    return rng.choice(
        (
            lambda: path + "/",
            lambda: path.replace("/", "//", 1),
            lambda: path[:place] + (encoded(path[place]) if path[place] != "%" else "%") + path[place + 1 :],
            lambda: path + "%2f",
            lambda: path.upper() if "%" not in path else path,
            lambda: path + "/..",
            lambda: path + "/./x",
            lambda: path + ";a",
            lambda: path + "%00",
            lambda: path + "%c3%28",
            lambda: path + "/a",
            lambda: path[: path.rfind("/")] or "/",
            lambda: path + "%0a",
        )
    )()


class Property:
    """The same for every framework."""

    stack: Stack

    def hold(self, seed: int) -> None:
        rng = random.Random(seed)
        specs = application(rng)
        if not self.stack.sockets:
            simple = {"socket": "function", "mount": "class"}
            specs = [dataclasses.replace(spec, kind=simple.get(spec.kind, spec.kind)) for spec in specs]
        specs = [self.as_framework(number, spec) for number, spec in enumerate(specs)]
        lines, actions = policy_of(rng, specs)
        text = "roles\n  helper default\n  keeper\nendpoints\n"
        text += "".join(f"  {method} {shape} {requirement} {LOST}\n" for method, shape, requirement in lines)
        text += "".join(f"  action {name} {required} {SEVERAL}\n" for name, required in actions.items())
        try:
            policy = bloodroot.parse(text)
            protected = self.stack.build(specs, policy)
        except PolicyError:
            return  # two lines for one endpoint, and the like
        plain = self.stack.build(specs, None)
        for request in requests_for(rng, specs, self.stack):
            self.compare(plain, protected, request, specs, lines, actions, f"seed {seed}: {request}\n{text}{specs}")

    def as_framework(self, number: int, spec: Spec) -> Spec:
        methods = spec.methods
        if spec.kind == "function" and (methods is None or self.stack.default_methods is None):
            methods = self.stack.default_methods
        parts = (("word", "mounted"),) if spec.kind == "mount" and not spec.parts else spec.parts
        return dataclasses.replace(
            spec, parts=parts, methods=methods, name=f"n{number}" if self.stack.unique else spec.name
        )

    def allowed(self, number: int, request: Asked, specs: Any, lines: Any, actions: Any) -> bool:
        """Whether a handler may run for a request that the application has chosen it for."""
        path = segments_of(request.raw)
        if path is None or not has_method(request):
            return False
        by_path = path_line(request, path, lines) or "nobody"
        if number == FOR_THE_REST:
            return may(by_path, request.caller)
        if number == ON_HOST:
            return may(actions.get("n0", by_path), request.caller)
        spec = specs[number]
        if spec.guarded and request.caller != "keeper":
            return False
        # A route that comes late joins no action by its name.
        known = {} if number in self.stack.late else actions
        return may(line_for(spec, request.method, path, lines, known), request.caller)

    def compare(
        self, plain: Any, protected: Any, request: Asked, specs: Any, lines: Any, actions: Any, noted: str
    ) -> None:
        reached.clear()
        before = self.stack.ask(plain, request)
        served = list(reached)
        reached.clear()
        after = self.stack.ask(protected, request)
        path = segments_of(request.raw)
        readable = path is not None and has_method(request)
        allowed = bool(served) and self.allowed(served[0], request, specs, lines, actions)
        expected = served[:1] if allowed else []
        if allowed and len(served) > 1:
            # What it dispatches again is decided by itself.
            again = Asked("GET", request.nested, request.caller, request.prefix, host=request.host)
            expected += served[1:] if self.allowed(served[1], again, specs, lines, actions) else []
        self.assertEqual(reached, expected, noted)  # type: ignore[attr-defined]
        if allowed:
            self.assertEqual(without_caching(after), without_caching(before), noted)  # type: ignore[attr-defined]
        elif not readable:
            self.assertIn(after[0], (400, 403) if request.socket else (400,), noted)  # type: ignore[attr-defined]
        elif not served and before[0] == 404 and path_line(request, path, lines) in ("", "anyone"):
            # Not served at all: the application's own missing page.
            self.assertEqual(without_caching(after), without_caching(before), noted)  # type: ignore[attr-defined]
        else:
            self.assertNotEqual(after[0], 500, noted)  # type: ignore[attr-defined]


def has_method(request: Asked) -> bool:
    """Whether a policy can say something of the method: the word for a handshake is none of a request."""
    return re.fullmatch(r"[A-Z]+", request.method) is not None and (request.socket or request.method != "WEBSOCKET")


LOST = 'accept line-without-endpoint "served beside it"'
SEVERAL = 'accept action-of-several-routes "one name for several"'


def path_line(request: Asked, path: list[str] | None, lines: Any) -> str:
    found = line_for(Spec("none", (("word", "none at all"),), None, "function"), request.method, path or [], lines, {})
    covered = any(speaks_of(methods, request.method) and covers(shape, path or []) for methods, shape, _ in lines)
    return found if covered else ("" if found == "nobody" else found)


def without_caching(answer: tuple[int, dict[str, str], bytes]) -> tuple[int, dict[str, str], bytes]:
    status, headers, content = answer
    return status, {name: value for name, value in headers.items() if name not in ("vary", "cache-control")}, content


def property_of(stack: Stack) -> Callable[[Any], None]:
    @examples(25, 1_000, suppress_health_check=list(HealthCheck), database=None)
    @given(st.integers(0, 2**40))
    def holds(self: Any, seed: int) -> None:
        self.stack = stack
        self.hold(seed)

    return holds


class RandomApplications(Property, unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)

    test_starlette = property_of(OnStarlette())
    test_fastapi = property_of(OnFastAPI())
    test_flask = property_of(OnFlask())

    def test_django(self) -> None:
        for waits in (False, True):
            with self.subTest(waits=waits):
                property_of(OnDjango(waits=waits))(self)


class SurveyedApplications(Property, unittest.TestCase):
    """What a survey shows beside an endpoint is what enforcement asks there."""

    def hold(self, seed: int) -> None:
        rng = random.Random(seed)
        specs = [self.as_framework(number, spec) for number, spec in enumerate(application(rng))]
        if not self.stack.sockets:
            specs = [dataclasses.replace(each, kind="function") if each.kind == "socket" else each for each in specs]
        lines, actions = policy_of(rng, specs)
        text = "roles\n  helper default\n  keeper\nendpoints\n"
        text += "".join(f"  {method} {shape} {requirement} {LOST}\n" for method, shape, requirement in lines)
        text += "".join(f"  action {name} {required} {SEVERAL}\n" for name, required in actions.items())
        app = self.stack.build(specs, None)
        routes = routes_of(app) or []
        try:
            policy = bloodroot.parse(text).bind(routes)
        except PolicyError:
            return
        result = survey([survey_application("app", app)], policy)
        rows = {(row.method, row.endpoint.spelling, row.endpoint.action): row for row in result.endpoints}
        for row in result.endpoints:
            whole = rows.get(("any", row.endpoint.spelling, row.endpoint.action))
            if whole is not None and row is not whole and not row.endpoint.methods:
                # An endpoint for any method is there once more only for methods that another line decides.
                self.assertNotEqual(row.line and row.line.place, whole.line and whole.line.place, text)
        for route in routes:
            template, exact = template_of(route)
            binding = policy.lookup.binding(route)
            for method in route.methods or ("any",):
                spelling = route.spelling or route.path
                for each in (method,) if method != "any" else ("GET", "POST", "DELETE", "OPTIONS"):
                    row = rows.get((each, spelling, route.action)) or rows.get(("any", spelling, route.action))
                    if row is None or each in row.closed:
                        continue  # another route is asked first for these requests, or nothing covers the method
                    asked = binding.line_for(each, unnamed_segments(template, exact))
                    shown = row.line.place if row.line is not None else None
                    about = f"seed {seed}: {each} {route}\n{text}"
                    self.assertEqual(shown, asked.place if asked is not None else None, about)

    test_starlette = property_of(OnStarlette())
    test_fastapi = property_of(OnFastAPI())
    test_flask = property_of(OnFlask())
