"""Guards around functions, methods and classes; jobs on somebody's behalf; what is checked when modules are imported."""

import asyncio
import contextlib
import functools
import gc
import logging
import subprocess
import sys
import threading
import unittest
import weakref
from pathlib import Path
from typing import Any
from unittest import mock

import flask
from django.views import View
from flask.views import MethodView
from starlette.applications import Starlette
from starlette.endpoints import HTTPEndpoint
from starlette.responses import PlainTextResponse
from starlette.routing import Route
from starlette.testclient import TestClient

import bloodroot
from bloodroot import Caller
from bloodroot.core.annotations import with_guards
from bloodroot.enforce import (
    EnforcementError,
    Refusal,
    Unsettled,
    active_policies,
    asgi,
    current,
    guard,
    on_behalf_of,
    use,
)
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from bloodroot.enforce.guards import guards_of
from tests.policies import POLICY
from tests.program import InFolder
from tests.servers import ask, serving, serving_wsgi

GROWER = Caller(3, {"grower"}, attributes={"status": "active"})
KEEPER = Caller(4, {"keeper"}, attributes={"status": "active"})
CLERK = Caller(5, {"clerk"}, attributes={"status": "active"})
OWN, OTHER = {"grower_id": 3}, {"grower_id": 9}


@guard("clerk or args.person_id == caller.id", policy=POLICY)
def parcels_of(person_id: int, *, state: str = "sent") -> str:
    return f"parcels of {person_id}, {state}"


@guard("clerk or args.person_id == caller.id", policy=POLICY)
async def parcels_later(person_id: int) -> str:
    await asyncio.sleep(0)
    return f"parcels of {person_id}"


@guard("keeper", policy=POLICY)
def in_steps() -> Any:
    yield "one"
    yield "two"


@guard("keeper", policy=POLICY)
async def in_steps_later() -> Any:
    yield "one"


@guard("plot:edit", policy=POLICY)
def relabel(plot: Any = None) -> str:
    if plot is not None:
        current().settle(plot)
    return "relabelled"


class Service:
    @guard("lot:edit", policy=POLICY)
    def edit(self, lot_id: int) -> str:
        return f"edited {lot_id}"

    @staticmethod
    @guard("args.lot_id == 7", policy=POLICY)
    def static(lot_id: int) -> str:
        return f"static {lot_id}"

    @guard("args.lots == caller.id or args.extra == caller.id", policy=POLICY)
    def spread(self, *lots: int, **more: int) -> str:
        return "spread"

    @guard("keeper", policy=POLICY)
    @classmethod
    def made(cls) -> str:
        return cls.__name__


class Functions(unittest.TestCase):
    def test_each_kind_of_function(self) -> None:
        service = Service()
        for call, lets_in, keeps_out in (
            (lambda: parcels_of(3), (GROWER, CLERK), (KEEPER, None)),
            (lambda: parcels_of(person_id=3, state="packed"), (GROWER, CLERK), (KEEPER,)),
            (lambda: asyncio.run(parcels_later(3)), (GROWER, CLERK), (KEEPER, None)),
            (lambda: list(in_steps()), (KEEPER,), (GROWER, None)),
            (lambda: asyncio.run(_all(in_steps_later())), (KEEPER,), (GROWER, None)),
            (lambda: service.edit(1), (KEEPER,), (GROWER, CLERK, None)),
            (lambda: Service.edit(service, 1), (KEEPER,), (GROWER,)),
            (lambda: Service.static(7), (KEEPER, None), ()),
            (lambda: service.static(8), (), (KEEPER, None)),
            (lambda: service.spread(extra=3), (GROWER,), (KEEPER,)),
            (lambda: Service.made(), (KEEPER,), (GROWER,)),
            (lambda: relabel(OWN), (GROWER, KEEPER), (CLERK,)),
            (lambda: relabel(OTHER), (KEEPER,), (GROWER, CLERK)),
        ):
            for caller in lets_in:
                with on_behalf_of(caller, POLICY):
                    self.assertTrue(call())
            for caller in keeps_out:
                with self.assertRaises(Refusal), on_behalf_of(caller, POLICY):
                    call()

    def test_why_somebody_was_refused(self) -> None:
        for caller, call, reason, step in (
            (None, lambda: parcels_of(3), "signed-out", "a signed-in caller might be let in"),
            (KEEPER, lambda: Service().edit(1) and parcels_of(3), "condition", "args.person_id == caller.id"),
            (CLERK, lambda: Service().edit(1), "role", "requires lot:edit (lot:edit is given to keeper)"),
            (GROWER, lambda: relabel(OTHER), "own-plot", "record.grower_id is 9"),
        ):
            with self.subTest(reason), self.assertRaises(Refusal) as caught, on_behalf_of(caller, POLICY):
                call()
            self.assertEqual(caught.exception.decision.reason, reason)
            self.assertIn(step, caught.exception.decision.steps[-1].text)
            self.assertIn("test_guards.py", caught.exception.decision.guard.place.at)

    def test_where_nobody_acts_a_guard_refuses(self) -> None:
        with (
            self.assertLogs("bloodroot.enforce", "ERROR"),
            self.assertRaisesRegex(RuntimeError, "around parcels_of was called where no caller acts, so it refuses"),
        ):
            parcels_of(3)
        found: list[object] = []

        def elsewhere() -> None:
            logging.disable(logging.CRITICAL)
            try:
                found.append(parcels_of(3))
            except RuntimeError:
                found.append("refused")
            logging.disable(logging.NOTSET)

        with on_behalf_of(CLERK, POLICY):
            # A thread of its own knows nothing of who acts here.
            thread = threading.Thread(target=elsewhere)
            thread.start()
            thread.join()
            self.assertEqual(asyncio.run(asyncio.to_thread(parcels_of, 3)), "parcels of 3, sent")
        self.assertEqual(found, ["refused"])
        with self.assertRaises(RuntimeError):
            current()

    def test_a_job_that_leaves_something_open_is_told(self) -> None:
        message = r"nothing settled plot:edit \(.*test_guards.py:\d+\); call current"
        with self.assertRaisesRegex(Unsettled, message), on_behalf_of(GROWER, POLICY):
            relabel()
        with on_behalf_of(GROWER, POLICY) as acting:
            relabel()
            acting.settle(OWN)
        with self.assertRaises(ZeroDivisionError), on_behalf_of(GROWER, POLICY):
            relabel()
            _ = 1 / 0
        with on_behalf_of(KEEPER, POLICY), self.assertRaises(Refusal), on_behalf_of(None):
            parcels_of(3)

    def test_a_wrong_call_is_told_as_python_does(self) -> None:
        with (
            self.assertRaisesRegex(TypeError, "a caller is a bloodroot.Caller or None, not str"),
            on_behalf_of("clerk", POLICY),
        ):
            self.fail("nobody of this kind can act")
        with on_behalf_of(CLERK, POLICY), self.assertRaisesRegex(TypeError, "person_id"):
            parcels_of()
        for what in (3, "text", type("Empty", (), {})):
            with self.assertRaisesRegex(TypeError, "guard"):
                guard("keeper", policy=POLICY)(what)


class Jobs(unittest.TestCase):
    def test_what_is_about_a_request_is_refused_with_a_reason(self) -> None:
        with on_behalf_of(CLERK, POLICY):
            self.assertEqual((current().caller, current().policy, current().record), (CLERK, POLICY, None))
            for name in ("decision", "method", "path", "query", "records", "steps", "unidentified", "invalid_token"):
                with self.subTest(name), self.assertRaisesRegex(EnforcementError, f"{name} is about a request"):
                    getattr(current(), name)
            self.assertFalse(hasattr(current(), "something_else"))


class SeveralPolicies(unittest.TestCase):
    def test_which_of_several_policies_decides_is_said_and_not_guessed(self) -> None:
        first, second = (bloodroot.parse(f"roles\n  keeper\n  {name}\nendpoints\n  GET / keeper") for name in "ab")
        with mock.patch.object(active_policies, "_policies", []):
            with self.assertRaisesRegex(EnforcementError, "no policy is in force"), on_behalf_of(None):
                self.fail("nothing decides")
            use(first)
            with on_behalf_of(None) as acting:
                self.assertIs(acting.policy, first)
            use(second)
            with self.assertRaisesRegex(EnforcementError, "2 policies are in force"), on_behalf_of(None):
                self.fail("one of them would be a guess")
            with on_behalf_of(None, second), on_behalf_of(KEEPER) as acting:
                self.assertIs(acting.policy, second)


async def _all(steps: Any) -> list[Any]:
    return [each async for each in steps]


class Importing(InFolder):
    def test_a_name_that_the_policy_does_not_know_fails_at_start(self) -> None:
        self.write(
            "services.py",
            """
            from bloodroot.enforce import guard

            @guard("lot:edit")
            def edit(): ...

            @guard(
                "kepper or args.lot_id == 7"
            )
            def look(): ...
            """,
        )
        policy = "import bloodroot; from bloodroot.enforce import use, asgi; from tests.policies import POLICY; "
        root = str(Path(__file__).parent.parent.parent)
        for order in (
            "import services; use(POLICY)",
            "use(POLICY); import services",
            "import services; asgi.AccessMiddleware(None, POLICY, identify=None)",
        ):
            done = subprocess.run(
                [sys.executable, "-c", policy + order],
                cwd=self.folder,
                capture_output=True,
                text=True,
                env={"PYTHONPATH": root},
            )
            self.assertEqual(done.returncode, 1, order)
            self.assertIn('services.py:7:6: unknown role "kepper"; did you mean "keeper"?', done.stderr)
            self.assertIn('    7 |     "kepper or args.lot_id == 7"', done.stderr)

    def test_mistakes_where_the_guard_is_made(self) -> None:
        for text, message in (
            ("kepper", 'unknown role "kepper"; did you mean "keeper"?'),
            ("lot:raed", 'unknown permission "lot:raed"'),
            ("args.id == ", "expected something to compare"),
            ("args", '"args" alone says nothing'),
            ("", "expected a role"),
            ("keeper clerk", 'did not expect "clerk" here'),
            ("lot:*", "what is asked for must be one permission"),
        ):
            with self.subTest(text), self.assertRaises(bloodroot.PolicyError) as caught:
                guard(text, policy=POLICY)
            self.assertIn(message, str(caught.exception))

    def test_one_policy_in_force_is_enough(self) -> None:
        one = bloodroot.parse("roles\n  miller\nendpoints\n  GET / anyone\n")
        use(one)

        @guard("miller")
        def grind() -> str:
            return "flour"

        use(POLICY)  # which knows no miller, and need not
        with on_behalf_of(Caller(1, {"miller"}), one):
            self.assertEqual(grind(), "flour")
        with self.assertRaises(bloodroot.PolicyError), on_behalf_of(CLERK, POLICY):
            grind()
        gc.collect()  # what other tests have left
        before = active_policies.guards()
        del grind
        gc.collect()
        self.assertEqual(active_policies.guards(), before - 1)


def identify(request: Any) -> Caller | None:
    return {"grower": GROWER, "keeper": KEEPER, "clerk": CLERK}.get(request.headers.get("x-caller") or "")


class ClassBased(unittest.TestCase):
    """Handlers that are classes, in the three frameworks that have them."""

    POLICY = bloodroot.parse(
        "roles\n  grower\n  keeper\n  clerk\nendpoints\n  GET POST /lots/{lot_id} guarded\n  GET /open anyone\n"
    )
    CASES = (("keeper", "GET", 200), ("keeper", "POST", 200), ("clerk", "GET", 403), ("", "GET", 401))

    def check(self, port: int) -> None:
        for caller, method, status in self.CASES:
            with self.subTest(f"{method} as {caller}"):
                self.assertEqual(ask(port, method, "/lots/7", X_Caller=caller)[0], status)

    def test_starlette(self) -> None:
        @guard("keeper", policy=self.POLICY)
        class Lot(HTTPEndpoint):
            def get(self, request: Any) -> Any:
                return PlainTextResponse("lot")

            async def post(self, request: Any) -> Any:
                return PlainTextResponse("changed")

        self.assertEqual(len(guards_of(Lot)), 1)
        app = Starlette(routes=[Route("/lots/{lot_id}", Lot)])
        with serving(asgi.AccessMiddleware(app, self.POLICY, identify=identify, settles=["*"])) as port:
            self.check(port)

    def test_flask(self) -> None:
        @guard("keeper", policy=self.POLICY)
        class Lot(MethodView):
            def get(self, lot_id: str) -> str:
                return "lot"

            def post(self, lot_id: str) -> str:
                return "changed"

        app = flask.Flask("tarn")
        app.add_url_rule("/lots/<lot_id>", view_func=Lot.as_view("lot"))
        started = for_flask.protect(app, self.POLICY, identify=identify)
        self.assertEqual([each for each in started.idle if "guard" in each], [])
        with serving_wsgi(app) as port:
            self.check(port)

    def test_django(self) -> None:
        @guard("args.lot_id == '8' or keeper".replace("'", '"'), policy=self.POLICY)
        class Lot(View):
            def get(self, request: Any, lot_id: str) -> Any:
                return "lot"

        view = Lot()
        with on_behalf_of(CLERK, self.POLICY):
            self.assertEqual(view.get(None, lot_id="8"), "lot")
            with self.assertRaises(Refusal):
                view.get(None, "7")


def injects(**more: Any) -> Any:
    """A decorator that calls its function with other arguments than it gets itself."""

    def around(function: Any) -> Any:
        @functools.wraps(function)
        def wrapper(*args: Any, **named: Any) -> Any:
            return function("session", *args, **named, **more)

        return wrapper

    return around


class Arguments(unittest.TestCase):
    """A guard sees what the function gets, or is refused where it is made."""

    def test_what_is_seen(self) -> None:
        def positional(owner: int, /, **more: Any) -> str:
            return "seen"

        def default(owner: int = 3) -> str:
            return "seen"

        def keyword(*owners: int, owner: int) -> str:
            return "seen"

        asks = guard("args.owner == caller.id", policy=POLICY)
        for function, args, named, seen in (
            (positional, (3,), {}, True),
            (positional, (4,), {}, False),
            # One name for two values: neither is taken for the one that was meant.
            (positional, (4,), {"owner": 3}, False),
            (positional, (3,), {"owner": 4}, False),
            (default, (), {}, True),
            (default, (4,), {}, False),
            (keyword, (4, 4), {"owner": 3}, True),
            (keyword, (3, 3), {"owner": 4}, False),
        ):
            with self.subTest(function.__name__, args=args, named=named), on_behalf_of(GROWER, POLICY):
                if seen:
                    self.assertEqual(asks(function)(*args, **named), "seen")
                else:
                    with self.assertRaises(Refusal):
                        asks(function)(*args, **named)

    def test_what_a_decorator_below_hides_is_an_error(self) -> None:
        def labels(session: str, owner: int) -> int:
            return owner

        for text in ("args.owner == caller.id", "keeper or args.session == caller.id"):
            with self.assertRaisesRegex(bloodroot.PolicyError, "a decorator below this guard hides the arguments of"):
                guard(text, policy=POLICY)(injects()(labels))
        # Below it the guard sees them, and one that requires none may stand above.
        below = injects()(guard("args.owner == caller.id", policy=POLICY)(labels))
        above = guard("grower", policy=POLICY)(injects(owner=9)(labels))
        with on_behalf_of(GROWER, POLICY):
            self.assertEqual((below(3), above()), (3, 9))
            with self.assertRaises(Refusal):
                below(4)

    def test_a_condition_that_hides_the_argument_is_found_as_well(self) -> None:
        policy = bloodroot.parse("conditions\n  mine args.owner == caller.id\nendpoints\n  GET / anyone\n")
        use(policy)
        with self.assertRaisesRegex(bloodroot.PolicyError, "hides the arguments"):
            guard("mine")(injects()(lambda session, owner: owner))


class Policies(unittest.TestCase):
    """Several applications with policies of their own in one process."""

    ONE = bloodroot.parse("roles\n  clerk\n  keeper\nendpoints\n  GET /x anyone\n")
    OTHER = bloodroot.parse("roles\n  keeper\n  clerk\nendpoints\n  GET /x anyone\n")

    def test_a_guard_decides_with_the_policy_it_was_checked_against(self) -> None:
        # The roles of the two have each other's bits.
        @guard("keeper", policy=self.ONE)
        def edit() -> str:
            return "edited"

        for policy in (self.ONE, self.OTHER):
            with on_behalf_of(KEEPER, policy):
                self.assertEqual(edit(), "edited")
            with on_behalf_of(CLERK, policy), self.assertRaises(Refusal):
                edit()

    def test_the_guards_of_an_application_are_held_against_its_own_policy(self) -> None:
        other = bloodroot.parse("roles\n  miller\nendpoints\n  GET / anyone\n")
        use(other)

        @guard("miller")
        def grind(request: Any) -> Any: ...

        app = Starlette(routes=[Route("/x", grind)])
        with self.assertRaisesRegex(bloodroot.PolicyError, 'unknown role "miller"'):
            for_starlette.protect(app, self.ONE, identify=identify)

    def test_applications_of_one_process_share_no_words(self) -> None:
        policies = [bloodroot.parse(f"roles\n  {role}\nendpoints\n  GET /x guarded\n") for role in ("miller", "baker")]
        for first in (True, False):
            with (
                self.subTest(policies_first=first),
                mock.patch.object(active_policies, "_policies", []),
                mock.patch.object(active_policies, "_guards", weakref.WeakSet()),
            ):
                if first:
                    use(*policies)
                apps = []
                for role in ("miller", "baker"):

                    @guard(role)
                    async def serve(request: Any) -> PlainTextResponse:
                        return PlainTextResponse("flour")

                    apps.append(Starlette(routes=[Route("/x", serve)]))
                if not first:
                    use(*policies)
                for app, policy, role in zip(apps, policies, ("miller", "baker"), strict=True):
                    for_starlette.protect(app, policy, identify=lambda request, role=role: Caller(1, {role}))
                    self.assertEqual(TestClient(app).get("/x").text, "flour")
                with self.assertRaisesRegex(bloodroot.PolicyError, "unknown role"):
                    guard("butcher")

    def test_a_refusal_names_guard_caller_and_function(self) -> None:
        message = r'guard\("lot:edit"\) in .*test_guards.py:\d+ around Service.edit refused the caller 5: role'
        with self.assertRaisesRegex(Refusal, message), on_behalf_of(CLERK, POLICY):
            Service().edit(1)
        with self.assertRaisesRegex(Refusal, "refused a signed-out caller: signed-out"), on_behalf_of(None, POLICY):
            Service().edit(1)


class Leaking(unittest.TestCase):
    def test_a_generator_leaks_no_caller(self) -> None:
        def steps() -> Any:
            with on_behalf_of(KEEPER, POLICY):
                yield current().caller

        async def later() -> Any:
            with contextlib.ExitStack() as stack:
                stack.enter_context(on_behalf_of(KEEPER, POLICY))
                yield current().caller

        with self.assertRaisesRegex(RuntimeError, "on_behalf_of is used in the generator steps"):
            next(steps())
        with self.assertRaisesRegex(RuntimeError, "on_behalf_of is used in the generator later"):
            asyncio.run(_all(later()))
        with self.assertRaises(RuntimeError):
            current()

    def test_work_behind_a_withheld_answer_is_refused_and_told(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nconditions\n  own record.owner == caller.id\nendpoints\n  GET /x/{id} signed-in and own\n"
        )
        found: list[object] = []
        done = threading.Event()

        @guard("signed-in", policy=policy)
        def work() -> str:
            return "worked"

        async def behind() -> None:
            await asyncio.sleep(0.05)
            try:
                found.append(work())
            except Refusal as error:
                found.append(str(error))
            done.set()

        async def handler(request: Any) -> Any:
            tasks.append(asyncio.create_task(behind()))
            return PlainTextResponse("forgotten")

        tasks: list[Any] = []
        app = Starlette(routes=[Route("/x/{id}", handler)])
        for_starlette.protect(app, policy, identify=identify)
        with self.assertLogs("bloodroot.enforce", "ERROR") as logs, serving(app) as port:
            self.assertEqual(ask(port, "GET", "/x/1", X_Caller="clerk")[0], 500)
            done.wait(5)
        self.assertIn("refuses: the response was withheld", str(found))
        self.assertIn("was asked after the response of GET /x/1 was withheld", str(logs.output))


class OfThePath(unittest.TestCase):
    """A guard names the parameters of the path as its route does, whatever the line calls them; and so does what is shown."""

    LINES = (
        "any /** guarded",
        "any /{kind}/{a} guarded",
        "any /m/{member_id} guarded",
        "any /{member_id}/{a} guarded and first",  # the same name for another part
    )

    def test_it_decides_and_is_shown_alike(self) -> None:
        for line in self.LINES:
            text = f'conditions\n  first path.member_id == "m"\nendpoints\n  {line}\n'
            for answers, routes in (self.on_starlette(text), self.on_flask(text)):
                with self.subTest(line, framework=type(routes[0].handler).__name__):
                    expected = [403, 403] if "first" in line else [200, 403]
                    self.assertEqual(answers, expected)
                    shown, _ = with_guards(bloodroot.parse(text), routes)
                    if "first" not in line:
                        allowed = [shown.decide(Caller(3), "GET", path).allowed for path in ("/m/3", "/m/4")]
                        self.assertEqual(allowed, [True, False])

    def on_starlette(self, text: str) -> tuple[list[int], Any]:
        @guard("path.member_id == caller.id")
        def member(request: Any) -> Any:
            return PlainTextResponse("here")

        app = Starlette(routes=[Route("/m/{member_id}", member)])
        for_starlette.protect(app, bloodroot.parse(text), identify=lambda request: Caller(3))
        client = TestClient(app, raise_server_exceptions=False)
        return [client.get(path).status_code for path in ("/m/3", "/m/4")], for_starlette.routes(app)

    def on_flask(self, text: str) -> tuple[list[int], Any]:
        app = flask.Flask("paths", static_folder=None)

        @app.get("/m/<member_id>")
        @guard("path.member_id == caller.id")
        def member(member_id: str) -> str:
            return "here"

        for_flask.protect(app, bloodroot.parse(text), identify=lambda request: Caller(3))
        client = app.test_client()
        return [client.get(path).status_code for path in ("/m/3", "/m/4")], for_flask.routes(app)
