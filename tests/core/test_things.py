"""Roles held in things: the engine against a naive reading of the documents, and what a policy may not say."""

import datetime
import pickle
import unittest
import uuid
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from tests.core.naive_things import IDS, MISSING, THINGS, ThingWorld, thing_callers, thing_worlds
from tests.examples import examples

callers = thing_callers()
ids = st.fixed_dictionaries({thing: st.sampled_from(IDS) for thing in THINGS})
queries = st.sampled_from([{}, {"q": 1}, {"q": 2}, {"q": 3}])


class Naive(unittest.TestCase):
    @examples(200)
    @given(thing_worlds(), st.lists(callers, min_size=3, max_size=3), st.lists(ids, min_size=4, max_size=4), queries)
    def test_requests(self, world: ThingWorld, who: list, where: list, query: dict) -> None:
        policy = bloodroot.parse(world.text())
        texts = {name: str(value) for name, value in query.items()}
        for caller in who:
            for each in where:
                path = world.template().format(**{f"{thing}_id": each[thing] for thing in THINGS})
                records = world.at_hand(each)
                decision = policy.decide(caller, "GET", path, records=records, query=texts)
                about = f"{path} {caller} {records} {decision}\n{world.text()}"
                allowed = world.allows(caller, each, query)
                if not self.is_settled(decision, query):
                    continue
                self.assertEqual(decision.allowed, allowed, about)
                verdicts = [step.verdict for step in decision.steps]
                self.assertEqual(verdicts[-1] == "refused", not allowed, about)
                if decision.reason == "elsewhere":
                    self.assertIsNone(world.place(each), about)
                early = policy.decide(caller, "GET", path, query=texts)
                if world.place(each) is None:
                    # A caller who is refused whatever the records are gets that refusal.
                    self.assertEqual(decision.reason, early.reason or "elsewhere", about)
                if early.outcome != "depends":
                    self.assertEqual(early.allowed, allowed, about)

    def is_settled(self, decision: bloodroot.Decision, query: dict) -> bool:
        """What depends with all records at hand is a role in what the query names: its chain is not known."""
        if decision.outcome == "depends":
            self.assertIn("in query.q", decision.remainder.words())
            self.assertTrue(query)
        return decision.outcome != "depends"

    @examples(150)
    @given(thing_worlds(), callers, ids)
    def test_permissions_with_a_record_in_hand(self, world: ThingWorld, caller: Caller | None, each: dict) -> None:
        policy = bloodroot.parse(world.text())
        for name, roles in world.grants.items():
            thing = name.split(":")[0]
            record = world.record(thing, each[thing])
            way = world.way(thing, each[thing])
            # Only the record itself is at hand: what it belongs to is known, and no more.
            known = dict(list(way.items())[:2])
            found = [world.holds(caller, role, known) for role in roles]
            allowed = policy.may(caller, name, record=record)
            self.assertEqual(policy.flags(caller, [name], record=record), {name: allowed})
            sure = True in found
            about = f"{name} {record} {caller} {found}\n{world.text()}"
            if len(way) <= 2 or MISSING in known.values() or None in known.values():
                self.assertEqual(allowed, sure, about)
            elif allowed:
                self.assertTrue(sure, about)


POLICY = """
roles
  member default
  admin includes owner
things
  studio {studio_id}
  kiln {kiln_id} in studio by studio_id
  firing {firing_id} in kiln by kiln_id
roles in studio
  viewer
  editor includes viewer
  owner includes editor, stoker
roles in kiln
  stoker
permissions
  kiln:edit editor
  firing:edit editor, stoker
endpoints
  GET / anyone
  GET /studios viewer in any studio
  GET /studios/{studio_id} viewer
  GET /studios/{studio_id}/kilns/{kiln_id} viewer
  PUT /kilns/{kiln_id} kiln:edit
"""


class Identifiers(unittest.TestCase):
    def test_they_compare_as_text_of_a_path_does(self) -> None:
        one = uuid.UUID("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11")
        policy = bloodroot.parse(POLICY)
        for key, text, allowed in (
            (7, "7", True),
            ("7", "7", True),
            (7, "07", False),
            ("07", "7", False),
            (7, "7.0", False),
            (7, "+7", False),
            (Decimal("7.0"), "7", True),
            (7.0, "7", True),
            (float("nan"), "nan", False),
            (True, "1", False),
            (None, "None", False),
            (datetime.date(2026, 1, 1), "2026-01-01", False),
            (one, str(one), True),
            (one, str(one).upper(), True),
            (one, one.hex, False),
            (str(one), str(one).upper(), False),
            ("clay-hill", "clay-hill", True),
            ("clay-hill", "Clay-Hill", False),
            ("clay hill", "clay%20hill", True),
        ):
            caller = Caller(1, roles_in={"studio": {key: {"viewer"}}})
            with self.subTest(key=key, text=text):
                self.assertEqual(policy.decide(caller, "GET", f"/studios/{text}").allowed, allowed)
                inner = policy.decide(caller, "PUT", "/kilns/1", record={"studio_id": key})
                self.assertFalse(inner.allowed)

    def test_of_records(self) -> None:
        one = uuid.UUID("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11")
        policy = bloodroot.parse(POLICY)
        for key, value, allowed in ((7, 7, True), ("7", 7, True), (7, "7", True), (str(one).upper(), one, True),
                                    (one, one, True), ("07", 7, False), (1, True, False), (7, None, False)):  # fmt: skip
            caller = Caller(1, roles_in={"studio": {key: {"editor"}}})
            with self.subTest(key=key, value=value):
                decision = policy.decide(caller, "PUT", "/kilns/1", record={"studio_id": value})
                self.assertEqual(decision.allowed, allowed)

    def test_an_odd_spelling_opens_nothing_under_not(self) -> None:
        policy = bloodroot.parse(
            POLICY.replace("GET /studios/{studio_id} viewer", "GET /studios/{studio_id} not viewer")
        )
        caller = Caller(1, roles_in={"studio": {7: {"viewer"}}})
        for text, allowed in (("7", False), ("07", False), ("7.0", False), ("8", True), ("clay", True)):
            self.assertEqual(policy.decide(caller, "GET", f"/studios/{text}").allowed, allowed, text)


class Callers(unittest.TestCase):
    def test_what_is_held_stays_as_it_was_given(self) -> None:
        given = {"studio": {7: {"viewer"}}}
        caller = Caller(1, roles_in=given)
        given["studio"][8] = {"owner"}
        given["studio"][7].add("owner")
        self.assertEqual(caller.roles_in, {"studio": {7: frozenset({"viewer"})}})
        self.assertEqual(pickle.loads(pickle.dumps(caller)), caller)
        self.assertEqual(caller, Caller(1, roles_in={"studio": {7: ["viewer"]}}))

    def test_shapes_that_would_be_misread_are_refused(self) -> None:
        for held in ({"studio": {7: "viewer"}}, {"studio": [7]}, [7], {"studio": {7: {"viewer": False}}}, "studio"):
            with self.subTest(held=held), self.assertRaisesRegex(TypeError, "roles_in"):
                Caller(1, roles_in=held)

    def test_a_role_of_a_thing_gives_nothing_without_one(self) -> None:
        policy = bloodroot.parse(POLICY)
        for caller in (Caller(1, {"owner"}), Caller(1, roles_in={"kiln": {7: {"owner"}}}), Caller(1, groups={"owner"})):
            self.assertFalse(policy.decide(caller, "GET", "/studios/7").allowed)
        steps = policy.decide(Caller(1, {"owner"}), "GET", "/studios/7").steps
        self.assertIn('the role "owner" outside of a studio', steps[0].text)


class Mistakes(unittest.TestCase):
    def test_each_is_told(self) -> None:
        for change, message in (
            (
                ("kiln {kiln_id} in studio by studio_id", "kiln {studio_id} in studio by studio_id"),
                "identifies a studio",
            ),
            (("studio {studio_id}", "studio {studio_id} in firing by firing_id"), "belong to each other in a circle"),
            (("in studio by studio_id", "in studoi by studio_id"), 'unknown thing "studoi"; did you mean "studio"'),
            (("roles in kiln", "roles in kilm"), 'unknown thing "kilm"; did you mean "kiln"'),
            (("  stoker\n", "  stoker includes viewer\n"), '"viewer" is held in a studio'),
            (("  stoker\n", "  stoker includes member\n"), '"member" is held everywhere'),
            (("  stoker\n", "  stoker default\n"), "cannot be a default"),
            (("  stoker\n", "  stoker\n  apart stoker, viewer\n"), '"viewer" is no role in a kiln'),
            (("editor includes viewer", "editor includes viewer\n  apart editor, viewer"), "keeps apart"),
            (
                ("  member default", "  member default\n  apart admin, editor"),
                "is held in particular records of studio",
            ),
            (("  member default", "  member default\n  viewer"), 'role "viewer" is declared already'),
            (
                ("roles in kiln", 'groups\n  "staff" editor\nroles in kiln'),
                "a group gives roles that are held everywhere",
            ),
            (("GET /studios viewer in any studio", "GET /studios viewer"), "no parameter of this path leads to one"),
            (
                ("GET /studios viewer in any studio", "GET /studios kiln:edit"),
                "kiln:edit requires editor, which is held",
            ),
            (("viewer in any studio", "viewer in any kiln"), '"viewer" is held in a studio'),
            (("viewer in any studio", "member in any studio"), "is a role that is held everywhere"),
            (("viewer in any studio", "viewr in any studio"), 'unknown role "viewr"; did you mean "viewer"'),
            (("viewer in any studio", "viewer in studio"), 'expected "any" and a thing'),
            (("by kiln_id", "by record.kiln_id"), 'write the attribute without "record."'),
            (("by kiln_id", "by a.b.c.d.e.f"), "at most 5 names long"),
            (("in studio by studio_id", "in studio"), 'expected "by" and the attribute'),
            (("{kiln_id} in", "{studio} in"), "has the name of another thing"),
            (("{kiln_id} in", "{kiln_id} {kiln_id} in"), "is here twice"),
            (("{kiln_id} in", "{1} in"), "cannot name a parameter"),
            (("endpoints", "fields clay\n  weight read viewer\nendpoints"), "clay is no thing"),
            (("permissions", "conditions\n  elsewhere caller.x\npermissions"), "is a reason of its own"),
            (("permissions", "conditions\n  stoker caller.x\npermissions"), "is the name of a role already"),
            (("endpoints", "always\n  /kilns/** viewer\nendpoints"), "no parameter of this path leads to one"),
        ):
            with self.subTest(change=change), self.assertRaises(bloodroot.PolicyError) as caught:
                bloodroot.parse(POLICY.replace(*change, 1))
            self.assertIn(message, str(caught.exception))


class Answers(unittest.TestCase):
    def test_what_is_elsewhere_looks_like_a_missing_page(self) -> None:
        caller = Caller(1, roles_in={"studio": {7: {"owner"}}})
        denials = 'denials\n  any status 403 "No."\n'
        for more, status in (("", 404), (denials, 404), (f"{denials}  elsewhere status 409\n", 409)):
            policy = bloodroot.parse(POLICY + more)
            decision = policy.decide(caller, "GET", "/studios/7/kilns/30", record={"studio_id": 8})
            self.assertEqual((decision.reason, decision.answer.status), ("elsewhere", status))
        self.assertEqual(decision.steps[-1].text, "kiln 30 is in studio 8; the path says studio 7")


if __name__ == "__main__":
    unittest.main()
