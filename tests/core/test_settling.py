"""What is decided in two steps, before a record is known and after, is what one whole decision says."""

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller, Outcome
from bloodroot.core.paths import read_path
from bloodroot.core.question import Question
from bloodroot.core.reasons import Trace
from tests.core.random_policies import CONDITIONS, ROLES, policies, written
from tests.examples import examples

SETTINGS = examples(80)
values = st.sampled_from([1, 2, "1", None, "seed", True])
records = st.none() | st.dictionaries(st.sampled_from(["owner", "age", "kind"]), values)
callers = st.none() | st.builds(
    Caller,
    st.sampled_from([1, "1", None]),
    st.sets(st.sampled_from(ROLES)),
    attributes=st.dictionaries(st.sampled_from(["status", "kind"]), st.sampled_from(["awake", "seed", 1])),
    scopes=st.none() | st.sets(st.sampled_from(["p0:do", "p1:do"])),
)


def whole(policy: bloodroot.Policy, question: Question) -> tuple[Outcome, str | None]:
    """A decision without anything that is kept for sets of roles."""
    segments = read_path(question.path) or []
    line = policy.lookup.by_path(question.method, segments)
    verdict = policy.evaluator._weigh(question, segments, line, Trace())
    return verdict.outcome, verdict.reason


class Settling(unittest.TestCase):
    @SETTINGS
    @given(
        policies(),
        callers,
        records,
        records,
        st.sampled_from(["/", "/a", "/a/b", "/a/1", "/b/1", "/b/1.csv", "/c/1/2"]),
    )
    def test_step_by_step(self, parts: Any, caller: Any, first: Any, second: Any, path: str) -> None:
        policy = bloodroot.parse(written(*parts))
        for method in ("GET", "POST", "HEAD"):
            question = Question(caller, method, path)
            question.query = {}
            decided = policy.decide(caller, method, path, query={})
            self.assertEqual((decided.outcome, decided.reason), whole(policy, question))
            # One record, and then another one: each is decided for itself.
            for record in (first, second):
                if record is None or decided.outcome is not Outcome.DEPENDS:
                    continue
                known = question.with_(record=record)
                settled = policy.evaluator.settle(decided, known)
                self.assertEqual((settled.outcome, settled.reason), whole(policy, known), record)
                again = policy.decide(caller, method, path, record=record, query={})
                self.assertEqual((again.outcome, again.reason), (settled.outcome, settled.reason))

    def test_records_by_the_names_of_the_path(self) -> None:
        """A name means the part of the path that the line itself calls so."""
        policy = bloodroot.parse(
            "conditions\n  first records.a.owner == caller.id\n  last record.owner == caller.id\n"
            "  inside record.parent == records.a.id\n  ready records.b.open\nendpoints\n  GET /x/{a}/y/{b} inside\n  GET /z/{a} first\n"
            "always\n  /x/{b}/**  ready\n"
        )
        parent, child = {"id": 1, "open": True, "owner": 3}, {"parent": 1, "open": False, "owner": 4}
        caller = Caller(3)
        for path, found, outcome in (
            # What a name stands for is what its loader gives for that string. The rule's b is another text here than the
            # line's, so that what was loaded for the one says nothing of the other.
            ("/x/1/y/2", {"a": parent, "b": child}, Outcome.DEPENDS),
            ("/x/1/y/2", {"a": parent, "b": {**child, "open": True}}, Outcome.DEPENDS),
            ("/x/1/y/1", {"a": parent, "b": child}, Outcome.DENY),
            ("/x/1/y/1", {"a": parent, "b": {**child, "open": True}}, Outcome.ALLOW),
            ("/x/1/y/1", {"a": {**parent, "id": 2}, "b": {**child, "open": True}}, Outcome.DENY),
            ("/x/1/y/1", {"a": parent}, Outcome.DEPENDS),
            ("/z/1", {"a": parent}, Outcome.ALLOW),
            ("/z/1", {"a": child}, Outcome.DENY),
            ("/z/1", {}, Outcome.DEPENDS),
        ):
            with self.subTest(path, found=found):
                record = found.get("b")
                self.assertIs(policy.decide(caller, "GET", path, record=record, records=found).outcome, outcome)
        self.assertEqual(len(CONDITIONS), 6)

    def test_a_framework_may_call_other_parts_by_a_name(self) -> None:
        """Where a line and a route mean two parts of a path by one name, a condition on it is faulty."""
        policy = bloodroot.parse(
            "conditions\n  own records.a.owner == caller.id\n  self path.a == caller.id\nendpoints\n"
            "  GET /x/{a}/y/{b} own\n  GET /s/{a}/t/{b} self\n"
        )
        line = {
            path: policy.lookup.by_path("GET", segments)
            for path, segments in (("/x/1/y/2", ["x", "1", "y", "2"]), ("/s/1/t/2", ["s", "1", "t", "2"]))
        }
        for path, caller, named, outcome in (
            ("/x/1/y/2", 3, {"a": "1", "b": "2"}, Outcome.ALLOW),
            ("/x/1/y/2", 3, {"a": "2", "b": "1"}, Outcome.DEPENDS),
            ("/s/1/t/2", 1, {"a": "1", "b": "2"}, Outcome.ALLOW),
            ("/s/1/t/2", 2, {"a": "2", "b": "1"}, Outcome.DENY),
            ("/s/1/t/2", 1, {"a": "2", "b": "1"}, Outcome.DENY),
        ):
            question = Question(Caller(caller), "GET", path)
            question.routed, question.line, question.values = True, line[path], named
            question.records = {"a": {"owner": 3}}
            with self.subTest(path, named=named):
                self.assertIs(policy.evaluator.decide_routed(question, path.strip("/").split("/")).outcome, outcome)
