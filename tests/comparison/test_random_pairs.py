"""Random pairs of policies: what a comparison says, and nothing else, is what their decisions show."""

import copy
import datetime
import random
import re
import unittest
from dataclasses import replace
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.comparison.changes import CellChange, Change, PolicyComparison, Side
from bloodroot.comparison.comparing import compare
from bloodroot.core.caller import imagined, with_roles
from bloodroot.core.decision import Decision
from bloodroot.core.paths import parse_template
from bloodroot.core.policy import Policy
from bloodroot.core.records import MISSING
from tests.comparison.random_pairs import GROUPS, ROLES, Draft
from tests.examples import first_seed, number

PAIRS = number(120, 1_000)
REQUESTS = 80
NOW = datetime.datetime(2026, 5, 4, tzinfo=datetime.UTC)
BEFORE, AFTER = NOW - datetime.timedelta(1), NOW + datetime.timedelta(1)
OPENS = {Change.GAINED, Change.WIDENED, Change.DIFFERENT}
CLOSES = {Change.LOST, Change.NARROWED, Change.DIFFERENT}


def pairs() -> Any:
    """Policies and what became of them, with a source of random numbers for each."""
    first = first_seed()
    for seed in range(first, first + PAIRS):
        source = random.Random(seed)
        draft = Draft(source)
        changed = copy.deepcopy(draft)
        changed.random = source
        for _ in range(source.choice((0, 1, 1, 2, 3))):
            changed.change()
        try:
            yield seed, source, bloodroot.parse(draft.text()), bloodroot.parse(changed.text())
        except bloodroot.PolicyError:
            continue


def answer(decision: Decision) -> object:
    found = decision.answer
    return decision.outcome, found and (found.status, found.message, found.location, found.hidden, found.otherwise)


def random_request(source: random.Random) -> tuple[Caller | None, str, str, dict[str, Any]]:
    pick = source.choice
    attributes = {"status": pick(("active", "left", "x")), "chief": source.random() < 0.3}
    scopes = pick((None, None, None, [], ["doc:read"], ["doc:edit"]))
    granted = pick(({}, {}, {}, {"doc:read": "x"}, {"doc:edit": "x"}))
    roles = source.sample(ROLES, pick((0, 1, 1, 2, 3)))
    groups = source.sample(GROUPS, pick((0, 0, 0, 1, 2)))
    counting = pick((None, (), (*roles[:1], *pick(((), ("signed-in",)))))) if scopes is not None else None
    caller = Caller(pick((1, 2)), roles, groups, attributes, scopes=scopes, granted=granted, scoped_roles=counting)
    parts = [pick(("a", "b", "a-q", "q-z", "1", "2", "a-z", "a-q-z", "zz")) for _ in range(source.randint(0, 4))]
    record = {
        "owner": pick((1, 2)),
        "keeper": pick((1, 2)),
        "size": pick((3, 4, 4.5, 5, 6)),
        "open": pick((True, False)),
    }
    record["until"] = pick((BEFORE, NOW, AFTER))
    if source.random() < 0.1:
        record.pop(pick(list(record)))
    known = {"record": record, "now": NOW, "query": pick(({}, {"year": "2026"}, {"year": "2025"}))}
    method = pick(("GET", "POST", "PUT", "HEAD", "DELETE"))
    return (None if source.random() < 0.15 else caller), method, "/" + "/".join(parts), known


def holding(names: Any) -> Caller:
    """A caller with roles and groups, by the names of a cell."""
    return with_roles(None, names)


def caller_of(cell: CellChange) -> Caller | None:
    """The caller that a change is shown with."""
    assert cell.shown is not None
    witness = cell.shown.witness
    if witness.roles is None:
        return None
    if not witness.caller and not cell.holding:
        return imagined(*witness.roles)
    scopes = scoped_roles = None
    if "token" in cell.holding:
        scopes = re.findall(r"\bdoc:\w+", cell.holding.split("token for ")[1])
        scoped_roles = () if "do not count" in cell.holding else None
    granted = {name: "x" for name in ("doc:read", "doc:edit") if name in cell.holding.split(", a token")[0]}
    if not cell.holding.startswith("granted"):
        granted = {}
    rest = {name: value for name, value in witness.caller.items() if name != "id"}
    plain = with_roles(witness.caller.get("id"), witness.roles, rest)
    return replace(plain, scopes=scopes, scoped_roles=scoped_roles, granted=granted)


class RandomPairs(unittest.TestCase):
    def test_what_is_said_is_what_decisions_show(self) -> None:
        said = shown = 0
        for seed, _, old, new in pairs():
            for cell in compare(Side(old, "old"), Side(new, "new")).cells:
                said += 1
                with self.subTest(seed=seed, cell=(cell.method, cell.path, cell.role, cell.old, cell.new)):
                    self.assertFalse(cell.change is Change.DIFFERENT and cell.old == cell.new)
                if cell.shown is None:
                    continue
                shown += 1
                witness = cell.shown.witness
                query = {
                    name[6:]: value for name, value in witness.others.items() if value is not MISSING and name != "now"
                }
                known = {"record": witness.record, "query": query, "now": witness.others.get("now")}
                decided = [
                    policy.decide(caller_of(cell), witness.method, witness.path, **known) for policy in (old, new)
                ]
                with self.subTest(seed=seed, cell=(cell.method, cell.path, cell.role, cell.holding, cell.change)):
                    outcomes = [each.outcome.value for each in decided]
                    if cell.change is Change.ANSWER:
                        self.assertNotIn("allow", outcomes)
                        self.assertNotEqual(*map(answer, decided))
                    else:
                        self.assertEqual(outcomes, [cell.shown.old, cell.shown.new])
                        self.assertEqual(outcomes.count("allow"), 1)
                        self.assertIn(cell.change, OPENS if outcomes[1] == "allow" else CLOSES)
        # A change without a request that shows it is rare: a path or a caller that cannot be made.
        self.assertGreater(shown, 0.97 * said)
        self.assertGreater(said, PAIRS / 2)

    def test_nothing_else_changes(self) -> None:
        differences = 0
        for seed, source, old, new in pairs():
            found = compare(Side(old, "old"), Side(new, "new"), counting=True)
            named = {method for policy in (old, new) for line in policy.endpoints for method in line.methods}
            named |= {method for policy in (old, new) for line in policy.standing for method in line.methods}
            for _ in range(REQUESTS):
                caller, method, path, known = random_request(source)
                decided = [policy.decide(caller, method, path, **known) for policy in (old, new)]
                if answer(decided[0]) == answer(decided[1]):
                    continue
                differences += 1
                with self.subTest(seed=seed, method=method, path=path, caller=caller, known=known):
                    self.assertFalse(found.same_access)
                    self._is_said(found, (old, new), caller, method, path, decided, named)
        self.assertGreater(differences, PAIRS / 3)

    def _is_said(
        self,
        found: PolicyComparison,
        policies: tuple[Policy, Policy],
        caller: Caller | None,
        method: str,
        path: str,
        decided: list[Decision],
        named: set[str],
    ) -> None:
        segments = path[1:].split("/") if path != "/" else []
        here = [
            cell
            for cell in found.cells
            if parse_template(cell.path).covers(segments)
            and (cell.method in (method, "any") or (cell.method, method) == ("GET", "HEAD"))
        ]
        held = [policy.roles.held(caller) for policy in policies]
        outcomes = [each.outcome.value for each in decided]
        wanted = OPENS if outcomes[1] == "allow" else CLOSES if outcomes[0] == "allow" else set(Change)
        if outcomes[1] == "allow":
            self.assertTrue(found.opens)
        if all(each.apart for each in held):
            # All who hold what is kept apart are treated alike.
            self.assertTrue({cell.change for cell in here} & wanted)
            return
        if any(each.apart for each in held) and any(each.kind == "apart" for each in found.declared):
            return
        if caller is not None and caller.scoped_roles is not None and any("some roles" in t for t in found.left_open):
            return
        theirs = []
        for cell in here:
            if (cell.role == "signed-out") != (caller is None):
                continue
            names = () if cell.role in ("signed-out", "signed-in") else cell.role.split(" with ")
            other = None if caller is None else holding(names)
            if all(not policy.roles.held(other).bits & ~each.bits for policy, each in zip(policies, held, strict=True)):
                theirs.append(cell)
        if "allow" not in outcomes:
            # What a token that is made for less hears may be said of others at the same endpoint alone.
            self.assertTrue(theirs or (caller is not None and here))
        else:
            self.assertTrue({cell.change for cell in theirs} & wanted)
