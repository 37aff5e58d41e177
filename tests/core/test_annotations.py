"""A policy with guards folded into its lines decides as the line and the guards do one after the other."""

from __future__ import annotations

import unittest
from dataclasses import dataclass
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot.core.annotations import with_guards
from bloodroot.core.binding import Route
from bloodroot.core.matrix import matrix_of_callers, matrix_of_roles
from bloodroot.language.problems import Place, SourceText
from tests.core.random_policies import PATHS, RULES, policies, requirements, written
from tests.examples import examples

CALLERS: tuple[bloodroot.Caller | None, ...] = (
    None,
    bloodroot.Caller(),
    *(bloodroot.Caller(1, {role}, attributes={"status": "awake"}) for role in ("r0", "r1", "r2", "r3", "r4")),
    bloodroot.Caller(2, {"r0", "r4"}, attributes={"status": "asleep", "kind": "leaf"}),
)
ALL_RECORDS = ({}, {"owner": 1, "age": 5, "kind": "seed"}, {"owner": 2, "age": 1, "kind": "leaf"})


@dataclass(eq=False)
class DeclaredGuard:
    text: str
    place: Place
    policy: Any


def guard(text: str, policy: Any = None) -> Any:
    return DeclaredGuard(text=text, place=Place(SourceText("app.py", (text,)), 1, 1, len(text)), policy=policy)


class Annotated(unittest.TestCase):
    @examples(60, 5_000)
    @given(policies(), st.data())
    def test_it_decides_as_line_and_guards_do(
        self, made: tuple[str, list[str], list[str]], data: st.DataObject
    ) -> None:
        head, lines, rules = made
        lines = [
            *lines,
            *(f"any {path} guarded" for path in ("/**", "/b/*") if not any(f" {path} " in each for each in lines)),
        ]
        if data.draw(st.booleans()):
            rules = [*(each for each in rules if not each.startswith("/a/** ")), "/a/** guarded or signed-in"]
        policy = bloodroot.parse(written(head, lines, rules))
        paths = data.draw(st.lists(st.sampled_from([*PATHS, *RULES]), min_size=1, max_size=4, unique=True))
        routes = [
            Route(
                f"a{number}",
                data.draw(st.sampled_from([("GET",), ("POST",), ("GET", "POST"), ()])),
                path,
                guards=tuple(map(guard, data.draw(st.lists(requirements(1), max_size=2)))),
            )
            for number, path in enumerate(paths)
        ]
        both, problems = with_guards(policy, routes)
        self.assertEqual(problems, ())
        bound = policy.bind(routes)
        for route in routes:
            path = route.path.replace("{x}", "5").replace("{y}", "6").replace("**", "z").replace("*", "q")
            segments = path.strip("/").split("/") if path != "/" else []
            for method in route.methods or ("GET", "DELETE"):
                # What the router serves there is this route, unless an earlier or a more specific one is in its place.
                if both.lookup.find(method, segments) is None or self._served(routes, method, path) is not route:
                    continue
                for caller in CALLERS:
                    for record in ALL_RECORDS[:2] if method == "GET" else ALL_RECORDS[2:]:
                        said = both.decide(caller, method, path, record=record)
                        line = bound.decide(caller, method, path, record=record, guarded=bool(route.guards))
                        guards = [
                            policy.check(caller, policy.guard(each.text), record=record, method=method, path=path)
                            for each in route.guards
                        ]
                        expected = line.allowed and all(each.allowed for each in guards)
                        about = (written(head, lines, rules), route, method, path, caller, record)
                        self.assertEqual(said.allowed, expected, about)
                        refused = any(step.verdict == "refused" for step in said.steps)
                        self.assertEqual(said.reason is not None, refused, about)

    def _served(self, routes: list[Route], method: str, path: str) -> Route | None:
        """The one route for a path, where there is no doubt which it is."""
        found = [
            route
            for route in routes
            if (not route.methods or method in route.methods)
            and bloodroot.core.paths.parse_template(route.path).covers(
                path.strip("/").split("/") if path != "/" else []
            )
        ]
        return found[0] if len(found) == 1 else None

    def test_the_matrix_and_the_steps_show_the_guard(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper includes helper\n  helper\nconditions\n  own record.owner == caller.id\n"
            "endpoints\n  any /** guarded\n  GET /open anyone\n  GET /b helper\nalways\n  /** guarded or signed-in\n"
        )
        other = bloodroot.parse("roles\n  keeper\nendpoints\n  GET / anyone\n")
        routes = [
            Route("a", ("GET", "POST"), "/a/{x}", guards=(guard("keeper or helper if own"),)),
            Route("b", ("GET",), "/b", guards=(guard("keeper"), guard("own"))),
            Route("open", ("GET",), "/open"),
            Route("own", ("GET",), "/own", guards=(guard("keeper", other),)),
            Route("odd", ("GET",), "/odd", guards=(guard("keepr"),)),
        ]
        found, problems = with_guards(policy, routes)
        self.assertEqual([problem.message for problem in problems], ['unknown role "keepr"; did you mean "keeper"?'])
        matrix = matrix_of_roles(found)
        rows = {f"{row.method} {row.path}": [cell.words() for cell in matrix.cells(row)] for row in matrix.rows}
        self.assertEqual(
            rows,
            {
                "GET /a/{x}": ["sign-in", "deny", "if own", "allow"],
                "POST /a/{x}": ["sign-in", "deny", "if own", "allow"],
                "GET /own": ["if guarded", "if guarded", "if guarded", "if guarded"],
                # What a guard requires that cannot be understood, no one has.
                "GET /odd": ["deny", "deny", "deny", "deny"],
                "any /**": ["if guarded", "if guarded", "if guarded", "if guarded"],
                "GET /open": ["if guarded", "allow", "allow", "allow"],
                "GET /b": ["sign-in", "deny", "deny", "if own"],
            },
        )
        steps = found.decide(bloodroot.Caller(3, {"helper"}), "GET", "/b").steps
        self.assertEqual(
            [(step.name, step.verdict) for step in steps][-2:], [("roles", "passed"), ("roles", "refused")]
        )
        self.assertEqual(steps[-1].where, "app.py:1")
        self.assertEqual(len(matrix_of_callers(found, {"one": None}).rows), len(matrix.rows))

    def test_a_guard_requires_parameters_of_the_path(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  any /** guarded\n  GET /m/me keeper\n")
        route = Route("m", ("GET",), "/m/{member_id}", True, guards=(guard("keeper or path.member_id == caller.id"),))
        found, _ = with_guards(policy, [route])
        for path, caller, allowed in (
            ("/m/3", bloodroot.Caller(3), True),
            ("/m/4", bloodroot.Caller(3), False),
            ("/m/4", bloodroot.Caller(3, {"keeper"}), True),
            ("/m/me", bloodroot.Caller("me"), False),
            ("/m/me", bloodroot.Caller("me", {"keeper"}), True),
        ):
            self.assertEqual(found.decide(caller, "GET", path).allowed, allowed, (path, caller))

    def test_class_based_handlers_have_guards_by_method(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\n  helper\nendpoints\n  any /** guarded\n  action own keeper\n")
        keeper, helper = guard("keeper"), guard("helper")
        by_method = {"GET": (helper,), "POST": (helper, keeper), "DELETE": ()}
        routes = [
            Route("lots", ("GET", "POST", "DELETE"), "/lots", True, guards=(helper, keeper), by_method=by_method),
            Route("own", ("GET", "POST"), "/own", True, guards=(helper,), by_method={"GET": (helper,), "POST": ()}),
        ]
        found, _ = with_guards(policy, routes)
        for method, path, roles, expected in (
            ("GET", "/lots", {"helper"}, "allow"),
            ("HEAD", "/lots", {"helper"}, "allow"),
            ("POST", "/lots", {"helper"}, "deny"),
            ("POST", "/lots", {"helper", "keeper"}, "allow"),
            ("DELETE", "/lots", {"helper", "keeper"}, "depends"),
            ("GET", "/own", {"keeper"}, "deny"),
            ("GET", "/own", {"keeper", "helper"}, "allow"),
            ("POST", "/own", {"keeper"}, "allow"),
        ):
            self.assertEqual(
                found.decide(bloodroot.Caller(1, roles), method, path).outcome, expected, (method, path, roles)
            )
