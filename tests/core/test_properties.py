"""What holds for every policy."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from bloodroot.core.caller import imagined
from bloodroot.core.endpoint_outcomes import outcome_at
from bloodroot.core.formulas import TRUE, Facts
from bloodroot.core.matrix import matrix_of_callers, matrix_of_roles
from tests.core.random_policies import PERMISSIONS, ROLES, policies, written
from tests.examples import examples

REQUESTS = [
    (method, path)
    for method in ("GET", "POST", "DELETE")
    for path in ("/", "/a", "/a/b", "/a/7", "/a/7/c", "/a/7/d", "/b/7.csv", "/b/7", "/b/7/8", "/c/7/8")
]
RECORDS = st.fixed_dictionaries(
    {},
    optional={"owner": st.sampled_from([3, 4, None]), "age": st.integers(1, 5), "kind": st.sampled_from(["seed", "x"])},
)
CALLERS = st.none() | st.builds(
    Caller,
    st.sampled_from([3, 4]),
    st.sets(st.sampled_from(ROLES)),
    attributes=st.fixed_dictionaries(
        {}, optional={"status": st.sampled_from(["awake", "asleep"]), "kind": st.just("y")}
    ),
)
# The same examples each time, so that a change is judged by itself; EXPLORE=1 looks for new ones.
slowly = examples(60)


class TheMatrixAndDecide(unittest.TestCase):
    @slowly
    @given(policies())
    def test_say_the_same_in_every_cell(self, made: tuple[str, list[str], list[str]]) -> None:
        policy = bloodroot.parse(written(*made))
        matrix = matrix_of_roles(policy)
        callers = [None, imagined(), *(imagined(column.name) for column in matrix.columns[2:])]
        for row in matrix.rows:
            for number, caller in enumerate(callers):
                cell = row.cell(number)
                outcome, _, remainder = outcome_at(policy, row.line, row.method, caller)
                if any(columns >> number & 1 for _, _, columns in row.marks):
                    # The cell shows what holds while a rule about the caller is met, which nobody knows yet.
                    self.assertEqual(outcome, "depends")
                    continue
                self.assertEqual(cell.outcome, outcome, f"{row.method} {row.path} as {matrix.columns[number].name}")
                if remainder is not None:
                    self.assertEqual(cell.remainder.words(), remainder.words())
                rules = [rule.overlaps(row.line.template) for rule in policy.standing]
                if None in rules or row.method == "any":
                    continue
                path = row.line.template.fill({"x": "7", "y": "8"})
                if policy.lookup.for_request(row.method, path) is row.line:
                    self.assertEqual(policy.decide(caller, row.method, path).outcome, cell.outcome)

    @slowly
    @given(policies(), st.lists(CALLERS, min_size=1, max_size=3))
    def test_say_the_same_of_callers(
        self, made: tuple[str, list[str], list[str]], callers: list[Caller | None]
    ) -> None:
        policy = bloodroot.parse(written(*made))
        matrix = matrix_of_callers(policy, {str(number): caller for number, caller in enumerate(callers)})
        for row in matrix.rows:
            for number, caller in enumerate(callers):
                self.assertEqual(row.cell(number).outcome, outcome_at(policy, row.line, row.method, caller)[0])


class Order(unittest.TestCase):
    @slowly
    @given(policies(), st.randoms(use_true_random=False), CALLERS, RECORDS)
    def test_of_lines_changes_nothing(self, made, random, caller, record) -> None:  # type: ignore[no-untyped-def]
        head, lines, rules = made
        shuffled = lines[:]
        random.shuffle(shuffled)
        one, other = bloodroot.parse(written(*made)), bloodroot.parse(written(head, shuffled, rules[::-1]))
        for method, path in REQUESTS:
            for supplied in (None, record):
                first = one.decide(caller, method, path, record=supplied)
                second = other.decide(caller, method, path, record=supplied)
                self.assertEqual(first.outcome, second.outcome)
                if len(rules) < 2:
                    self.assertEqual(first.reason, second.reason)


class Roles(unittest.TestCase):
    @slowly
    @given(policies(negative=False), CALLERS.filter(lambda caller: caller is not None), st.sampled_from(ROLES), RECORDS)
    def test_one_more_never_takes_access_away(self, made, caller, role, record) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(*made))
        richer = Caller(caller.id, {*caller.roles, role}, attributes=caller.attributes)
        for method, path in REQUESTS:
            if policy.decide(caller, method, path, record=record).allowed:
                self.assertTrue(policy.decide(richer, method, path, record=record).allowed, f"{method} {path}")

    @slowly
    @given(policies(), st.sampled_from(["GET", "POST"]))
    def test_nobody_passes_a_not_from_the_street(self, made, method) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(made[0], ["any /x not r1", "any /y not (r1 or p1:do)"], []))
        for path in ("/x", "/y"):
            self.assertIn(policy.decide(None, method, path).outcome, ("sign-in", "deny"))


class Scopes(unittest.TestCase):
    @slowly
    @given(
        policies(),
        CALLERS.filter(lambda caller: caller is not None),
        st.sets(st.sampled_from([*PERMISSIONS, "p1:*"])),
        RECORDS,
    )
    def test_never_add_anything(self, made, caller, scopes, record) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(*made))
        less = Caller(caller.id, caller.roles, attributes=caller.attributes, scopes=scopes)
        for method, path in REQUESTS:
            if policy.decide(less, method, path, record=record).allowed:
                self.assertTrue(policy.decide(caller, method, path, record=record).allowed, f"{method} {path}")


class Unknowns(unittest.TestCase):
    @slowly
    @given(policies(), CALLERS, RECORDS)
    def test_the_remainder_with_the_record_is_the_decision_with_the_record(self, made, caller, record) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(*made))
        for method, path in REQUESTS:
            early = policy.decide(caller, method, path)
            late = policy.decide(caller, method, path, record=record)
            if early.outcome == "depends":
                left = early.remainder.fold(Facts(0, 0, record=record))
                self.assertEqual(left is TRUE, late.allowed)
            else:
                self.assertEqual(early.allowed, late.allowed)

    @slowly
    @given(policies(), CALLERS, RECORDS, RECORDS)
    def test_what_is_missing_never_lets_anybody_in(self, made, caller, some, more) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(*made))
        whole = {**more, **some}
        for method, path in REQUESTS:
            if policy.decide(caller, method, path, record=some).allowed:
                # Whatever the missing attributes turn out to be, the answer was not built on them.
                self.assertTrue(policy.decide(caller, method, path, record=whole).allowed)


class Steps(unittest.TestCase):
    @slowly
    @given(policies(), CALLERS, RECORDS)
    def test_tell_what_was_decided(self, made, caller, record) -> None:  # type: ignore[no-untyped-def]
        policy = bloodroot.parse(written(*made))
        for method, path in REQUESTS:
            decision = policy.decide(caller, method, path, record=record)
            verdicts = [step.verdict for step in decision.steps]
            self.assertEqual(verdicts[-1] == "refused", decision.outcome in ("deny", "sign-in"))
            self.assertEqual("open" in verdicts and "refused" not in verdicts, decision.outcome == "depends")
