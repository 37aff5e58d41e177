"""The engine against a naive reading of the documents, on policies at random."""

import unittest

from hypothesis import assume, given
from hypothesis import strategies as st

import bloodroot
from bloodroot.core.caller import imagined
from bloodroot.core.matrix import matrix_of_callers, matrix_of_roles
from bloodroot.core.methods import ANY
from tests.core.naive import CALLERS, CONDITIONS, METHODS, RECORDS, ROLES, World, requirements, said, worlds
from tests.examples import examples

slowly = examples(80)


class Naive(unittest.TestCase):
    @slowly
    @given(worlds(), st.sampled_from(RECORDS))
    def test_requests(self, world: World, record: dict[str, object]) -> None:
        policy = bloodroot.parse(world.text())
        for method in METHODS:
            asked = world.asked(method)
            for caller in CALLERS:
                decision = policy.decide(caller, method, "/x", record=record)
                about = f"{method} {caller} {record} {decision}\n{world.text()}"
                self.assertEqual(decision.allowed, world.allows(caller, asked, record), about)
                self.explained(world, asked, decision, record, about)
                early = policy.decide(caller, method, "/x")
                if early.outcome != "depends":
                    every = {world.allows(caller, asked, other) for other in RECORDS}
                    self.assertEqual(every, {early.allowed}, about)

    @slowly
    @given(worlds(), requirements, st.sampled_from(RECORDS))
    def test_guards_and_permissions(self, world: World, asks: object, record: dict[str, object]) -> None:
        policy = bloodroot.parse(world.text())
        guard = policy.guard(said(asks))
        for caller in CALLERS:
            decision = policy.check(caller, guard, method="GET", path="/x", record=record)
            about = f"{said(asks)} {caller} {record} {decision}\n{world.text()}"
            self.assertEqual(decision.allowed, world.allows(caller, [asks], record), about)
            self.explained(world, [asks], decision, record, about)
            flags = policy.flags(caller, list(world.grants), record=record)
            for name in world.grants:
                allowed = world.allows(caller, [("name", name)], record)
                self.assertEqual((policy.may(caller, name, record=record), flags[name]), (allowed, allowed), about)

    def explained(self, world: World, asked: list, decision: bloodroot.Decision, record: dict, about: str) -> None:
        """The reason is one that the documents give, and the steps end where the decision does."""
        caller, verdicts = decision.question.caller, [step.verdict for step in decision.steps]
        self.assertEqual("refused" in verdicts, not decision.allowed, about)
        self.assertEqual(verdicts[-1] == "refused", not decision.allowed, about)
        others = [each for each in CALLERS if each is not None]
        if decision.reason == "signed-in":
            possible = (world.allows(each, asked, other) for each in others for other in RECORDS)
            self.assertFalse(any(possible), about)
        if caller is None and not decision.allowed and any(world.allows(each, asked, record) for each in others):
            self.assertEqual(decision.reason, "signed-out", about)
        if decision.reason in CONDITIONS:
            self.assertIsNot(CONDITIONS[decision.reason][1](caller, record), True, about)

    @slowly
    @given(worlds(), st.sampled_from(METHODS))
    def test_the_matrix(self, world: World, method: str) -> None:
        policy = bloodroot.parse(world.text())
        line = policy.lookup.for_request(method, "/x")
        assume(line is not None)
        of_callers = {str(number): caller for number, caller in enumerate(CALLERS)}
        of_roles = {"signed-out": None, "signed-in": imagined(), **{role: imagined(role) for role in ROLES}}
        for matrix, callers in (
            (matrix_of_callers(policy, of_callers), of_callers),
            (matrix_of_roles(policy), of_roles),
        ):
            rows = [row for row in matrix.rows if row.line is line]
            wanted = (method, "GET", ANY) if method == "HEAD" else (method, ANY)
            row = next(row for each in wanted for row in rows if each in row.methods)
            for number, column in enumerate(matrix.columns):
                decision = policy.decide(callers[column.name], method, "/x")
                about = f"{method} {column.name} {row}\n{world.text()}"
                cell = row.cell(number)
                outcome = "depends" if cell.standing else cell.outcome
                self.assertEqual(outcome, decision.outcome, about)
                if decision.remainder is not None:
                    words = set(decision.remainder.words().split(" and "))
                    self.assertEqual(set(cell.words().removeprefix("if ").split(" and ")), words, about)
