"""The stages of a request on their own, without a server: what is asked, of whom, and what is written down of it."""

import asyncio
import logging
import unittest
import uuid
from collections.abc import Callable, Iterator
from typing import Any
from unittest import mock

import bloodroot
from bloodroot import Caller, FieldsRefused
from bloodroot.core.binding import Route
from bloodroot.enforce import Audit
from bloodroot.enforce.enforcement import Enforcement, EnforcementOptions
from bloodroot.enforce.pipeline import Exchange, run
from bloodroot.request import WsgiRequest

POLICY = bloodroot.parse("""
policy "Orchard"
roles
  picker
conditions
  own     record.owner == caller.id
  theirs  path.id == caller.id
endpoints
  any /open/**           anyone
  GET /trees/{tree_id}   own
  GET /pickers           picker
  GET /baskets/{id}      theirs
""")
PICKER = Caller(3, {"picker"})
OWN = object()


class Asked:
    """Identifies everybody as one caller, and counts how often it was asked."""

    def __init__(self, caller: Any = PICKER) -> None:
        self.caller, self.times = caller, 0

    def __call__(self, request: Any) -> Any:
        self.times += 1
        return self.caller


def exchange(
    method: str, path: str, query: str = "", identify: Any = None, policy: bloodroot.Policy = POLICY, **how: Any
) -> Exchange:
    environ = {"REQUEST_METHOD": method, "PATH_INFO": path, "QUERY_STRING": query}
    return Exchange(Enforcement(policy, EnforcementOptions(identify or Asked(), **how)), WsgiRequest(environ), call)


def call(function: Callable[..., Any], arguments: tuple[Any, ...], blocks: bool) -> Any:
    return function(*arguments)


def decided(*request: str, **how: Any) -> Exchange:
    made = exchange(*request, **how)
    run(made.decide(OWN))
    return made


class BeforeTheHandler(unittest.TestCase):
    def test_what_can_be_read_in_two_ways_is_refused_before_the_caller_is_identified(self) -> None:
        for method, path, query, status in (
            ("GET", "/open/a", "", None),
            ("GET", "/open/a", "&".join(f"p{number}=1" for number in range(1000)), None),
            ("GET", "/open/a", "&".join(f"p{number}=1" for number in range(1001)), 400),
            ("GET", "/open//a", "", 400),
            ("GET", "/open/../pickers", "", 400),
            ("GET", "/open/a\\b", "", 400),
            ("get", "/open/a", "", 400),
            ("GET\n", "/open/a", "", 400),
        ):
            with self.subTest(f"{method} {path}", parameters=query.count("=")):
                who = Asked()
                made = exchange(method, path, query, who)
                answer = run(made.decide(OWN))
                self.assertEqual(answer and answer.status, status)
                self.assertEqual(who.times, 0 if status else 1)

    def test_what_goes_over_a_socket_cannot_be_withheld(self) -> None:
        """So nothing may be open when it is accepted, and one whose record has no loader is always refused."""
        trees = {"1": {"owner": 3}, "2": {"owner": 4}}
        for path, records, socket, status in (
            ("/trees/1", {}, False, None),
            ("/trees/1", {}, True, 500),
            ("/trees/1", {"tree_id": trees.get}, True, None),
            ("/trees/2", {"tree_id": trees.get}, True, 403),
            ("/pickers", {}, True, None),
        ):
            with self.subTest(path, socket=socket, records=list(records)):
                made = exchange("GET", path, records=records)
                made.socket = socket
                logging.disable(logging.CRITICAL)
                self.addCleanup(logging.disable, logging.NOTSET)
                answer = run(made.decide(OWN))
                self.assertEqual(answer and answer.status, status)

    def test_a_loader_gets_text_for_what_a_framework_has_read(self) -> None:
        class Lane:
            pass

        own, number = Lane(), uuid.UUID(int=7)
        for value, given in (("1", "1"), (7, "7"), (number, str(number)), (own, own)):
            with self.subTest(value=value):
                asked: list[Any] = []
                made = exchange("GET", "/trees/7", records={"tree_id": asked.append, "lane_id": asked.append})
                # The route has one more parameter, which may be left out of a path.
                served = made.enforcement.serve(
                    Route("tree", ("GET",), "/trees/{tree_id}", names=("tree_id", "lane_id"))
                )
                run(made.decide(OWN, served, {"tree_id": value}))
                self.assertEqual(asked, [given])

    def test_identify_gives_a_caller_or_nothing(self) -> None:
        async def later(request: Any) -> Any:
            await asyncio.sleep(0)
            return PICKER

        made = exchange("GET", "/pickers", identify=later)
        self.assertIsNone(asyncio.run(made.decide(OWN)))
        self.assertIs(made.access.caller, PICKER)
        for given in ("picker", {"id": 3}, True):
            with self.subTest(given=given), self.assertRaisesRegex(TypeError, type(given).__name__):
                decided("GET", "/open/a", identify=Asked(given))

    def test_where_nothing_can_be_awaited_nothing_is_let_in(self) -> None:
        class Later:
            def __await__(self) -> Iterator[None]:
                yield

        for request, how in (
            (("GET", "/open/a"), {"identify": lambda own: Later()}),
            (("GET", "/trees/3"), {"records": {"tree_id": lambda text: Later()}}),
        ):
            with self.subTest(request):
                made = exchange(*request, **how)
                with self.assertRaisesRegex(TypeError, "make it a plain function"):
                    run(made.decide(OWN))
                self.assertFalse(made.decided)


class WhileAResponseGoesOn(unittest.TestCase):
    def test_the_same_caller_goes_on_for_as_long_as_they_are_let_in(self) -> None:
        for before, path, after, goes_on in (
            (PICKER, "/pickers", PICKER, True),
            (PICKER, "/pickers", Caller(3), False),
            (PICKER, "/pickers", Caller(4, {"picker"}), False),
            (PICKER, "/pickers", None, False),
            (PICKER, "/pickers", bloodroot.Unidentified("the token has ended"), False),
            (PICKER, "/baskets/3", PICKER, True),
            (PICKER, "/baskets/3", Caller(3), True),
            (PICKER, "/open/a", PICKER, True),
            (PICKER, "/open/a", Caller(4), False),
            (PICKER, "/open/a", None, False),
            (None, "/open/a", None, True),
            (None, "/open/a", bloodroot.Unidentified("the token has ended"), True),
            (None, "/open/a", PICKER, False),
        ):
            with self.subTest(path, before=before, after=after):
                who = mock.Mock(side_effect=[before, after], spec=["__call__"])
                made = decided("GET", path, identify=who)
                self.assertIs(run(made.again(OWN)), goes_on)

    def test_when_that_is_due(self) -> None:
        for every, seconds, due in ((None, 9999.0, False), (60, 59.0, False), (60, 60.0, True)):
            who = mock.Mock(return_value=PICKER, spec=["__call__", "again"])
            who.again = every
            made = exchange("GET", "/pickers", identify=who)
            self.assertFalse(made.is_due)
            with self.subTest(every=every, seconds=seconds), mock.patch("time.monotonic", lambda: 1000.0):
                run(made.decide(OWN))
                with mock.patch("time.monotonic", lambda passed=seconds: 1000.0 + passed):
                    self.assertIs(made.is_due, due)


class AfterTheHandler(unittest.TestCase):
    def test_what_a_handler_raises(self) -> None:
        made = decided("GET", "/pickers")
        fields = FieldsRefused("tree", ("height",))
        group: Callable[..., Any] = ExceptionGroup
        for raised, status in (
            (fields, 403),
            (group("tasks", [ValueError(), fields]), 403),
            (group("tasks", [ValueError(), group("more", [OSError(), fields])]), 403),
            (group("tasks", [ValueError()]), None),
            (FieldsRefused("tree", tuple(f"f{number}" for number in range(20))), 403),
            (FieldsRefused("tree", tuple(f"f{number}" for number in range(21))), 403),
            (ValueError(), None),
        ):
            with self.subTest(repr(raised)):
                answer = made.raised(raised)
                self.assertEqual(answer and answer.status, status)
                if answer is not None:
                    self.assertEqual("more" in answer.message, len(getattr(raised, "fields", ())) > 20)

    def test_what_a_handler_answers_before_anything_is_settled(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        for path, failed, status, given in (
            ("/pickers", False, 200, None),
            ("/pickers", False, 404, None),
            ("/pickers", True, 500, None),
            ("/trees/1", False, 200, 500),
            ("/trees/1", False, 404, 404),
            ("/trees/1", False, 409, 409),
            ("/trees/1", False, 500, 500),
            ("/trees/1", True, 499, 500),
            ("/trees/1", True, 500, None),  # the application's own page for its mistakes
            ("/trees/1", True, 503, None),
        ):
            with self.subTest(path, status=status, failed=failed):
                made = decided("GET", path)
                made.failed = failed
                answer = made.responded(status)
                self.assertEqual(answer and answer.status, given)

    def test_a_refusal_is_written_down_once_and_only_of_what_was_decided(self) -> None:
        refused = exchange("GET", "/pickers", identify=Asked(Caller(4)))
        unserved = exchange("GET", "/nothing")
        run(unserved.decide_without_route(OWN, missing=True))
        with self.assertLogs("bloodroot.audit", logging.INFO) as logged:
            answer = run(refused.decide(OWN))
            assert answer is not None
            for made in (refused, unserved):
                undone = mock.Mock()
                made.undo = undone
                made.refuse(answer)
                made.refuse(answer)
                self.assertEqual(undone.call_count, 2)
        self.assertEqual([vars(record)["path"] for record in logged.records], ["/pickers"])

    def test_what_is_allowed_is_written_down_where_it_is_wanted(self) -> None:
        for audit, count in ((Audit("all"), 1), (Audit("refused"), 0)):
            made = decided("GET", "/pickers", audit=audit)
            with self.subTest(count), self.assertLogs("bloodroot.audit", logging.INFO) as logged:
                logging.getLogger("bloodroot.audit").info("so that there is a line")
                made.let_out(streams=False, sized=lambda: True)
                self.assertEqual(len(logged.records) - 1, count)

    def test_a_token_that_was_made_for_less_is_told_what_it_lacks(self) -> None:
        policy = bloodroot.parse("roles\n  picker\npermissions\n  tree:cut  picker\nendpoints\n  GET /cut  tree:cut")
        for caller, challenge in (
            (Caller(3, {"picker"}, scopes={"tree:see"}), 'scope="tree:cut"'),
            (Caller(3, scopes={"tree:see"}), None),
            (Caller(3), None),
            (None, None),
        ):
            made = exchange("GET", "/cut", identify=Asked(caller), policy=policy)
            answer = run(made.decide(OWN))
            assert answer is not None
            with self.subTest(caller=caller):
                headers = dict(made.response(answer, OWN).headers)
                found = headers.get("www-authenticate", "")
                self.assertEqual("scope=" in found, challenge is not None, headers)
                self.assertIn(challenge or "", found)

    def test_what_no_route_serves_is_refused_by_path_lines_alone(self) -> None:
        for path, missing, caller, unserved, status in (
            ("/nothing", True, PICKER, True, None),
            ("/nothing", True, None, True, None),
            ("/nothing", False, PICKER, False, 403),
            ("/open/a", True, None, False, None),
            ("/pickers", True, None, False, 401),
            ("/pickers", True, PICKER, False, None),
            ("/pickers", False, Caller(4), False, 403),
        ):
            made = exchange("GET", path, identify=Asked(caller))
            with self.subTest(path, missing=missing, caller=caller):
                answer = run(made.decide_without_route(OWN, missing=missing))
                self.assertEqual((made.unserved, answer and answer.status), (unserved, status))

    def test_nothing_is_loaded_for_those_who_are_refused_anyway(self) -> None:
        policy = bloodroot.parse(
            "roles\n  picker\nconditions\n  own record.owner == caller.id\n"
            "endpoints\n  GET /trees/{tree_id}  picker if own"
        )
        for caller, loads in ((PICKER, 1), (Caller(3), 0), (None, 0)):
            loaded: list[str] = []
            made = exchange(
                "GET", "/trees/1", identify=Asked(caller), policy=policy, records={"tree_id": loaded.append}
            )
            run(made.decide(OWN))
            self.assertEqual(len(loaded), loads)

    def test_a_record_that_lacks_what_is_asked_for_is_told_with_its_line(self) -> None:
        with self.assertLogs("bloodroot.enforce", logging.WARNING) as logged:
            decided("GET", "/trees/1", records={"tree_id": lambda text: {"height": 3}})
        (line,) = logged.output
        self.assertIn("GET /trees/1 is refused: ", line)
        self.assertTrue(line.endswith("(<text>:10)"), line)


if __name__ == "__main__":
    unittest.main()
