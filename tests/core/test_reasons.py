"""Why a request is refused, which denial answers, and circles of redirects."""

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.report.registry import Format, write
from bloodroot.report.results import MatrixResult
from tests.examples import examples

AWAKE, ASLEEP = {"status": "active"}, {"status": "suspended"}


class Reasons(unittest.TestCase):
    POLICY = bloodroot.parse("""
roles
  member   default
  keeper
  grower
permissions
  lot:see   nobody
  lot:edit  keeper
conditions
  active   caller.status == "active"  "Your account is suspended."
  shown    record.shown
  mine     record.owner == caller.id
  sent     query.sent != none
endpoints
  GET   /desk      active or signed-out
  GET   /door      signed-out
  GET   /half      signed-out or keeper
  GET   /both      keeper if active and mine
  GET   /turned    keeper if active and not shown
  GET   /either    (keeper if shown) or (grower if mine)
  GET   /mixed     (active or shown) and mine
  GET   /granted   lot:see
  GET   /refused   nobody
  GET   /sent      keeper if sent
""")

    def test_each(self) -> None:
        hidden, shown = {"owner": 9, "shown": False}, {"owner": 1, "shown": True}
        for path, caller, record, reason in (
            ("/desk", Caller(1, attributes=ASLEEP), None, "active"),
            ("/desk", Caller(1), None, "active"),
            ("/desk", Caller(1, attributes=AWAKE), None, None),
            ("/door", Caller(1, attributes=AWAKE), None, "signed-in"),
            ("/half", Caller(1, {"grower"}), None, "role"),
            ("/both", Caller(1, {"keeper"}, attributes=ASLEEP), shown, "active"),
            ("/both", Caller(1, {"keeper"}, attributes=AWAKE), hidden, "mine"),
            ("/both", Caller(1, {"keeper"}, attributes=ASLEEP), None, "active"),
            ("/turned", Caller(1, {"keeper"}, attributes=ASLEEP), shown, "active"),
            ("/turned", Caller(1, {"keeper"}, attributes=AWAKE), shown, "condition"),
            ("/turned", Caller(1, {"keeper"}, attributes=AWAKE), hidden, None),
            ("/either", Caller(2, {"keeper"}), hidden, "shown"),
            ("/either", Caller(2, {"grower"}), hidden, "mine"),
            ("/mixed", Caller(2, attributes=AWAKE), shown, "mine"),
            ("/granted", None, None, "signed-out"),
            ("/granted", Caller(1), None, "role"),
            ("/granted", Caller(1, granted={"lot:see": "the directory"}), None, None),
            ("/refused", None, None, "role"),
        ):
            with self.subTest(path, caller=caller, record=record):
                decision = self.POLICY.decide(caller, "GET", path, record=record)
                self.assertEqual(decision.reason, reason)
                self.assertEqual(decision.steps[-1].verdict == "refused", reason is not None)
        self.assertEqual(
            self.POLICY.decide(Caller(1, attributes=ASLEEP), "GET", "/desk").answer.message,
            "Your account is suspended.",
        )

    def test_a_parameter_of_the_query_that_was_not_sent(self) -> None:
        keeper = Caller(1, {"keeper"})
        for query, outcome in (({}, "deny"), ({"sent": "1"}, "allow"), (None, "depends")):
            self.assertEqual(self.POLICY.decide(keeper, "GET", "/sent", query=query).outcome, outcome)


class Truth(unittest.TestCase):
    def test_a_decision_has_none(self) -> None:
        decision = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /desk keeper\n").decide(None, "GET", "/desk")
        with self.assertRaisesRegex(TypeError, "ask for its allowed"):
            bool(decision)


class Apart(unittest.TestCase):
    def test_what_is_open_to_anyone(self) -> None:
        policy = bloodroot.parse("""
roles
  clerk
  reviewer
  helper
  apart  clerk, reviewer
permissions
  lot:read  clerk, reviewer
  lot:see   anyone
conditions
  shown  record.shown
endpoints
  GET /one    anyone
  GET /two    signed-in or signed-out
  GET /three  signed-out
  GET /four   signed-in
  GET /five   clerk or signed-out
  GET /six    shown
fields lot
  name   read anyone
  place  read clerk
""")
        both = Caller(1, {"clerk", "reviewer"})
        for path, record, outcome in (
            ("/one", None, "allow"),
            ("/two", None, "allow"),
            ("/three", None, "deny"),
            ("/four", None, "deny"),
            ("/five", None, "deny"),
            ("/six", None, "depends"),
            ("/six", {"shown": True}, "allow"),
            ("/six", {"shown": False}, "deny"),
        ):
            with self.subTest(path):
                decision = policy.decide(both, "GET", path, record=record)
                self.assertEqual((decision.outcome, decision.reason), (outcome, "apart" if outcome == "deny" else None))
        self.assertEqual(policy.flags(both, ["lot:read", "lot:see"]), {"lot:read": False, "lot:see": True})
        self.assertEqual(policy.readable(both, "lot", {"name": 1, "place": 2}), {"name"})
        for asked, allowed in (("clerk", False), ("signed-in or signed-out", True), ("not helper", False)):
            self.assertIs(policy.check(both, policy.guard(asked)).allowed, allowed)


class Denials(unittest.TestCase):
    def test_head_is_answered_by_its_own_denial(self) -> None:
        lines = ["GET /x role status 404", "HEAD /x role status 410", "/x any status 403", "role status 401"]
        for order in itertools.permutations(lines):
            text = "\n  ".join(["roles\n  r0\nendpoints\n  any /** r0\ndenials", *order])
            policy = bloodroot.parse(text)
            found = [policy.decide(Caller(1), method, "/x").answer.status for method in ("GET", "HEAD", "POST")]
            self.assertEqual(found, [404, 410, 403])
            self.assertEqual(policy.decide(Caller(1), "HEAD", "/y").answer.status, 401)

    @examples(150)
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["", "GET ", "HEAD ", "GET POST ", "HEAD POST "]),
                st.sampled_from(["", "/a/b ", "/a/{x}b ", "/a/b{x} ", "/a/{x} ", "/a/* ", "/a/** ", "/** "]),
                st.sampled_from(["role", "any", "closed"]),
            ),
            max_size=6,
            unique=True,
        ),
        st.randoms(use_true_random=False),
    )
    def test_their_order_chooses_nothing(self, entries, random) -> None:  # type: ignore[no-untyped-def]
        lines = [f"  {''.join(entry)} status {400 + number}\n" for number, entry in enumerate(entries)]
        shuffled = random.sample(lines, len(lines))
        try:
            one, other = (
                bloodroot.parse("roles\n  r0\nendpoints\n  any /a/b r0\ndenials\n" + "".join(each))
                for each in (lines, shuffled)
            )
        except bloodroot.PolicyError:
            return  # two denials for the same refusals
        for method, path in itertools.product(("GET", "HEAD", "POST", "PUT"), ("/a/b", "/a/bb", "/a", "/b")):
            found = [policy.decide(Caller(1), method, path).answer.status for policy in (one, other)]
            self.assertEqual(*found)


class Circles(unittest.TestCase):
    def test_of_redirects(self) -> None:
        head = "roles\n  a\n  b\n  apart a, b\nconditions\n  shown  caller.shown\n  mine  caller.mine\nendpoints\n"
        out = "\n  /x signed-out status 401\n  /y signed-out status 401"
        for lines, denials, message in (
            # A caller who holds both roles is sent to and fro.
            ("GET /x not c\n  GET /y not d", "/x any go /y\n  /y any go /x" + out, "the caller is c, d: /y → /x → /y"),
            # The condition that refuses has no name, or is one of two.
            ("GET /x a if not shown", "/x any go /x\n  /x role status 403" + out, "the caller is a: /x → /x"),
            ("GET /x a if (shown or mine)", "/x mine go /x", None),
            ("GET /x a if shown and mine", "/x mine go /x", "the caller is a: /x → /x"),
            ("GET /x c", "apart go /x", "the caller is a, b: /x → /x"),
            ("GET /x active-page", "", "unknown"),
            # One redirect leads on to a page, and the other one back.
            ("GET /x a if shown and mine\n  GET /y anyone", "/x shown go /y\n  /x mine go /x", "/x → /x"),
            ("GET /x signed-in\n  GET /y signed-out", "signed-out go /y\n  signed-in go /x", None),
            ("GET /x c\n  GET /y signed-out", "signed-out go /y\n  signed-in go /x\n  role go /y", "/y → /x → /y"),
        ):
            text = head.replace("  apart", "  c\n  d\n  apart") + f"  {lines}\ndenials\n  {denials}\n"
            with self.subTest(lines, denials=denials):
                if message is None:
                    bloodroot.parse(text)
                    continue
                with self.assertRaisesRegex(bloodroot.PolicyError, message):
                    bloodroot.parse(text)


class Matrix(unittest.TestCase):
    def test_methods_that_rules_treat_in_other_ways(self) -> None:
        policy = bloodroot.parse("""
roles
  grower
  keeper
conditions
  active  caller.status == "active"
endpoints
  any       /lots      grower
  GET POST  /plots     grower
always
  POST PUT  /**        active
  DELETE    /lots      keeper
  HEAD      /plots     keeper
""")
        self.assertEqual(
            str(write(MatrixResult(policy, matrix_of_roles(policy)), Format.CSV)).splitlines(),
            [
                "method,path,signed-out,signed-in,grower,keeper",
                "POST PUT,/lots,sign-in,deny,if active,deny",
                "DELETE,/lots,sign-in,deny,deny,deny",
                "any,/lots,sign-in,deny,allow,deny",
                "GET,/plots,sign-in,deny,allow,deny",
                "POST,/plots,sign-in,deny,if active,deny",
                "HEAD,/plots,sign-in,deny,deny,deny",
            ],
        )
