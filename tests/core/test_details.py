"""Small things that decisions rest on: values, affixes, time, what is missing, and words of steps."""

import datetime
import random
import unittest

import bloodroot
from bloodroot import Caller
from bloodroot.core.paths import overlap, parse_template, read_path
from bloodroot.core.routing import PathTree
from bloodroot.core.values import Value

POLICY = bloodroot.parse("""
roles
  member  default
  keeper
conditions
  here     now < record.until
  ours     record.kind in [caller.kind, "seed"]
  unowned  none == record.owner
  owned    record.owner != none
  own      record.by == caller.id
  fern     caller.kind == "fern"
  sent     query.sent == "yes"
permissions
  lot:read  member
  lot:edit  keeper, member if own
endpoints
  GET    /now           here
  GET    /kind          ours
  GET    /unowned       unowned
  GET    /owned         owned
  GET    /either        own or owned
  GET    /sent          sent
  GET    /fern          fern
  GET    /lots/{id}     lot:read
  PATCH  /lots/{id}     lot:edit
""")


class Details(unittest.TestCase):
    def test_the_longest_path_that_is_read(self) -> None:
        for length, is_read in ((16_383, True), (16_384, True), (16_385, False)):
            for path in ("/" + "a" * (length - 1), "/%61" + "a" * (length - 4)):
                with self.subTest(length, start=path[:4]):
                    self.assertEqual(read_path(path) is not None, is_read)

    def test_a_name_with_text_around_it_is_never_empty(self) -> None:
        for text, path, covers in (
            ("/v{n}.json", "/v1.json", True),
            ("/v{n}.json", "/v.json", False),
            ("/{n}.json", "/.json", False),
            ("/v{n}", "/v", False),
            ("/aba{n}aba", "/abaaba", False),
            ("/aba{n}aba", "/ababa", False),
        ):
            template, segments = parse_template(text), [path[1:]]
            tree = PathTree([(template, text)])
            with self.subTest(text, path=path):
                self.assertIs(template.covers(segments), covers)
                self.assertEqual(tree.find("GET", segments), text if covers else None)

    def test_values_that_compare_alike_are_equal_and_no_others(self) -> None:
        items = [1]
        for one, other, same in (
            (Value(1), Value(1), True),
            (Value(1), Value(1.0), False),
            (Value(1), Value(True), False),
            (Value("a"), Value("a"), True),
            (Value("1"), Value("1", textual=True), False),
            (Value(None), Value(None, literal=True), False),
            (Value(items), Value(items), True),
            (Value(items), Value([1]), False),
        ):
            with self.subTest(f"{one!r} {other!r}"):
                self.assertIs(one == other, same)
                self.assertFalse(same and hash(one) != hash(other))
        self.assertNotEqual(Value(1), 1)
        self.assertEqual([Value(value).words() for value in (None, True, 'a"b')], ["none", "true", r'"a\"b"'])

    def test_what_is_missing_and_what_is_none(self) -> None:
        member, kind = Caller(3), Caller(3, attributes={"kind": "fern"})
        for path, caller, record, reason in (
            ("/kind", kind, {"kind": "seed"}, None),
            ("/kind", kind, {"kind": "fern"}, None),
            ("/kind", kind, {"kind": "moss"}, "ours"),
            ("/kind", member, {"kind": "seed"}, "ours"),  # the caller has no kind, so that the list is not known
            ("/unowned", member, {"owner": None}, None),
            ("/unowned", member, {"owner": 3}, "unowned"),
            ("/unowned", member, {}, "unowned"),
            ("/owned", member, {"owner": 3}, None),
            ("/owned", member, {"owner": None}, "owned"),
            ("/owned", member, {}, "owned"),
            ("/either", member, {"by": 4, "owner": None}, "own"),
            ("/either", member, {"by": 4, "owner": 4}, None),
        ):
            with self.subTest(path, record=record):
                decision = POLICY.decide(caller, "GET", path, record=record)
                self.assertEqual((decision.allowed, decision.reason), (reason is None, reason))

    def test_the_time_that_is_given_is_the_time(self) -> None:
        for day, allowed in ((31, True), (1, False)):
            now = datetime.datetime(2026, 5 if allowed else 6, day, tzinfo=datetime.UTC)
            record = {"until": datetime.datetime(2026, 6, 1, tzinfo=datetime.UTC)}
            for caller in (Caller(3), Caller(3, {"keeper"})):
                self.assertIs(POLICY.decide(caller, "GET", "/now", record=record, now=now).allowed, allowed)
                later = {"until": now + datetime.timedelta(days=40_000)}
                self.assertTrue(POLICY.decide(caller, "GET", "/now", record=later).allowed)
                after = later["until"] + datetime.timedelta(days=1)
                self.assertFalse(POLICY.decide(caller, "GET", "/now", record=later, now=after).allowed)

    def test_steps_say_what_is_missing(self) -> None:
        for request, caller, given, text in (
            ("GET /sent", Caller(3), {"query": {}}, "query.sent is none"),
            ("GET /fern", Caller(3), {}, "caller.kind is missing"),
            ("GET /kind", Caller(3), {"record": {"kind": "seed"}}, "caller.kind is missing"),
            ("GET /either", Caller(3), {"record": {"owner": None}}, "the record has no by"),
            ("PATCH /lots/3", Caller(3), {}, "depends"),
        ):
            with self.subTest(request):
                decision = POLICY.decide(caller, *request.split(" "), **given)
                self.assertIn(text, " ".join(step.text for step in decision.steps))

    def test_a_guard_is_explained_by_itself(self) -> None:
        for requirement, caller, outcome in (("keeper", Caller(3), "deny"), ("keeper", Caller(4, {"keeper"}), "allow")):
            decision = POLICY.check(caller, POLICY.guard(requirement), method="GET", path="/now")
            with self.subTest(outcome):
                self.assertEqual(decision.outcome, outcome)
                steps = decision.steps
                self.assertEqual([step.name for step in steps if "now" in step.text], [])
                self.assertEqual(steps[-1].verdict, "passed" if outcome == "allow" else "refused")
                self.assertIn("keeper", steps[-1].text)

    def test_scopes_that_a_token_lacks(self) -> None:
        keeper = Caller(4, {"keeper"}, scopes={"lot:read"})
        for method, caller, missing in (
            ("PATCH", keeper, ("lot:edit",)),
            ("PATCH", Caller(3, scopes={"lot:read"}), ("lot:edit",)),  # whose owner may, for some lots
            ("PATCH", Caller(4, {"keeper"}), ()),
            ("PATCH", None, ()),
        ):
            with self.subTest(method, caller=caller):
                decision = POLICY.decide(caller, method, "/lots/7")
                self.assertEqual(POLICY.evaluator.scopes_missing(decision), missing)

    def test_rules_near_a_template_are_those_that_share_a_path_with_it(self) -> None:
        chance = random.Random(5)
        pieces = ("a", "b", "{x}", "*", "{x}.json", "a{x}")

        def template() -> str:
            parts = [chance.choice(pieces).replace("{x}", f"{{x{place}}}") for place in range(chance.randint(0, 3))]
            return "/" + "/".join(parts + (["**"] if chance.random() < 0.3 else []))

        for count in (4, 40):
            rules = "\n".join(f"  any {template()}  signed-in" for _ in range(count))
            try:
                policy = bloodroot.parse(f"always\n{rules}\nendpoints\n  any /**  anyone\n")
            except bloodroot.PolicyError as error:
                self.fail(str(error))
            for _ in range(200):
                asked = parse_template(template())
                expected = [r for r in policy.lookup.standing if overlap(r.template, asked) is not False]
                self.assertEqual(policy.lookup.rules_near(asked), expected)


if __name__ == "__main__":
    unittest.main()
