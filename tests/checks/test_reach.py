"""How two endpoints compare is held against decisions, for policies, callers and records made at random."""

from __future__ import annotations

import random
import unittest
from typing import Any

from hypothesis import given

import bloodroot
from bloodroot.checks.checking import check
from bloodroot.checks.reach import Reach
from bloodroot.checks.subject import Subject
from bloodroot.checks.witnesses import witness_of
from bloodroot.core.caller import imagined
from bloodroot.core.reasoning import Reasoner
from bloodroot.language.parser import parse as parse_tree
from tests.core.random_policies import ROLES, policies, written
from tests.examples import examples

RECORDS: tuple[dict[str, Any], ...] = tuple(
    {name: value for name, value in (("owner", owner), ("age", age), ("kind", kind)) if value is not None}
    for owner in (None, 1, 2, "1")
    for age in (None, 2, 3, 5)
    for kind in (None, "seed", "leaf")
)
ATTRIBUTES: tuple[dict[str, Any], ...] = (
    {},
    {"status": "awake"},
    {"status": "asleep", "kind": "leaf"},
    {"kind": "seed"},
)


def allowed(policy: bloodroot.Policy, caller: bloodroot.Caller | None, method: str, path: str, record: Any) -> bool:
    return policy.decide(caller, method, path, record=record).allowed


class Comparing(unittest.TestCase):
    @examples(30, 3_000)
    @given(policies())
    def test_wider_is_what_decisions_show(self, made: tuple[str, list[str], list[str]]) -> None:
        head, lines, rules = made
        requirements = [
            line.split(" ", 2)[2] if not line.startswith("GET POST") else line.split(" ", 3)[3] for line in lines
        ]
        one, other = requirements[0], requirements[-1]
        text = written(head, [f"PUT /t/{{x}} {one}", f"PATCH /t/{{x}} {other}"], rules)
        policy = bloodroot.parse(text)
        subject = Subject(policy, parse_tree(text))
        reach = subject.reach
        units = {unit.method: unit for unit in reach.units}
        callers: list[bloodroot.Caller | None] = [None]
        for roles in ((), *((role,) for role in ROLES)):
            callers += [
                bloodroot.Caller(identity, roles, attributes=each) for identity in (None, 1) for each in ATTRIBUTES
            ]
        for here, there in (("PUT", "PATCH"), ("PATCH", "PUT")):
            wider = reach.wider(units[here].row, units[there].row)
            if wider is None:
                if not subject.reasoner.undecided:
                    for caller in callers:
                        for record in random.Random(1).sample(RECORDS, 12):
                            self.assertFalse(
                                allowed(policy, caller, here, "/t/1", record)
                                and not allowed(policy, caller, there, "/t/1", record),
                                (text, here, caller, record),
                            )
                continue
            witness = witness_of(subject, units[here], wider.columns, wider.assignment, wider.allowed)
            if witness is not None and wider.assignment is not None and witness.roles is not None:
                identity = witness.caller.get("id")
                rest = {name: value for name, value in witness.caller.items() if name != "id"}
                caller = bloodroot.Caller(identity, witness.roles, attributes=rest)
                record = witness.record or {}
                self.assertTrue(allowed(policy, caller, here, witness.path, record), (text, witness))
                self.assertFalse(allowed(policy, caller, there, witness.path, record), (text, witness))

    @examples(30, 3_000)
    @given(policies())
    def test_all_checks_of_any_policy(self, made: tuple[str, list[str], list[str]]) -> None:
        text = written(*made)
        policy = bloodroot.parse(text)
        found = check(Subject(policy, parse_tree(text))).findings
        again = check(Subject(bloodroot.parse(text), parse_tree(text))).findings
        self.assertEqual([(each.name, each.message) for each in found], [(each.name, each.message) for each in again])
        self._open_changes(policy, {each.place.line for each in found if each.name == "open-change"}, text)
        for finding in found:
            witness = finding.witness
            if finding.name == "closed-line":
                self._nobody(policy, finding.place.line)
            if witness is None or witness.roles is None or not witness.caller:
                continue
            rest = {name: value for name, value in witness.caller.items() if name != "id"}
            caller = bloodroot.Caller(witness.caller.get("id"), witness.roles, attributes=rest)
            decided = policy.decide(caller, witness.method, witness.path, record=witness.record)
            self.assertEqual(decided.outcome.value, witness.outcome, (text, finding))

    def _open_changes(self, policy: bloodroot.Policy, reported: set[int], text: str) -> None:
        """Every change is reported that a signed-out caller may make, and a signed-in one as well."""
        for line in policy.endpoints:
            for method in line.methods or ("PATCH",):
                path = line.template.fill(dict.fromkeys(line.template.names, "1"))
                decided = policy.decide(None, method, path)
                if method == "GET" or not decided.allowed or decided.line is not line:
                    continue
                signed_in = [policy.decide(imagined(role), method, path).outcome for role in ROLES]
                if any(each in ("allow", "depends") for each in signed_in):
                    self.assertIn(line.place.line, reported, text)

    def _nobody(self, policy: bloodroot.Policy, line: int) -> None:
        """No caller with any two roles is let in at a line that is said to let nobody in."""
        for each in policy.endpoints:
            if each.place.line != line:
                continue
            path = each.template.fill(dict.fromkeys(each.template.names, "1"))
            for roles in ((), *((one, other) for one in ROLES for other in ROLES)):
                for attributes in ATTRIBUTES:
                    for record in RECORDS[::5]:
                        caller = bloodroot.Caller(1, roles, attributes=attributes)
                        method = (each.methods or ("TRACE",))[0]
                        decided = policy.decide(caller, method, path, record=record)
                        self.assertFalse(decided.allowed and decided.line is each, (policy, each.text, caller))


class Names(unittest.TestCase):
    def test_kinds_of_callers_in_words(self) -> None:
        policy = bloodroot.parse("roles\n  a includes b\n  b\n  c\n  d\n  e\n  f\nendpoints\n  GET / anyone")
        reach = Reach(policy, (), Reasoner())
        for names, expected in (
            (("a", "b"), "b"),
            (("a",), "a"),
            (("a", "c"), "c and a"),
            (("signed-in", "a", "c"), "every signed-in caller"),
            (("signed-in", "signed-out"), "anyone"),
            (("c", "d", "e", "f", "b", "a"), "b, c, d and 2 more"),
            ((), "nobody"),
        ):
            self.assertEqual(reach.who(sum(reach.bit[name] for name in names)), expected)
