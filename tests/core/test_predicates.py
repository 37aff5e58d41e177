"""Predicates say what folding says, of every kind of value; flags say what requests are told."""

import datetime
import unittest
import uuid
from decimal import Decimal
from types import SimpleNamespace
from typing import Any
from urllib.parse import quote

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller, Route
from bloodroot.core.caller import CallerView
from bloodroot.core.formulas import FALSE, FAULTY, TRUE, Facts
from bloodroot.core.predicates import compiled
from tests.core.random_policies import PERMISSIONS, policies, written
from tests.examples import examples

slowly = examples(250, 5000)
NOW = datetime.datetime(2026, 5, 4, 12, tzinfo=datetime.UTC)
UUID = "6fa459ea-ee8a-3ca4-894e-db77e160355e"

VALUES = st.sampled_from(
    [0, 1, 2, -1, True, False, None, "", "1", "01", "1.0", "seed", "-1", UUID, UUID.upper(), uuid.UUID(UUID), b"1"]
    + [1.0, 0.1, float("nan"), float("inf"), Decimal(1), Decimal("0.1"), Decimal("NaN"), 10**30, "10" * 15]
    + [NOW, NOW.replace(tzinfo=None), NOW.date(), [1], (1,), [True], ["seed", 1], {"a": 1}, {1}, set(), [[1]], ...]
)
WORDS = ["record.a", "record.b", "record.a.b", "caller.id", "caller.a", "query.a", "path.a", "args.a", "records.a.b"]
OPERANDS = st.sampled_from(
    [*WORDS, *WORDS, "now", "none", "true", "1", "0.1", '"1"', '"seed"', f'"{UUID}"']
    + ["[]", '["seed", "1"]', "[1, record.a]", "[caller.id, none]", "[[1]]", "[now]"]
)
ATOMS = st.one_of(
    st.builds(
        "{} {} {}".format, OPERANDS, st.sampled_from(["==", "!=", "<", "<=", ">", ">=", "in", "not in"]), OPERANDS
    ),
    st.sampled_from(WORDS),
)
TESTS = st.recursive(
    ATOMS,
    lambda inner: st.one_of(
        st.builds("({} and {})".format, inner, inner),
        st.builds("({} or {})".format, inner, inner),
        st.builds("not ({})".format, inner),
    ),
    max_leaves=5,
)
SUPPLIED = st.none() | st.dictionaries(st.sampled_from("ab"), VALUES.filter(lambda value: value is not ...))


class Predicates(unittest.TestCase):
    def test_two_texts_that_may_mean_one_record(self) -> None:
        text = "conditions\n  same path.a == query.b\nendpoints\n  GET /{a} same\n"
        same = compiled(bloodroot.parse(text).conditions["same"].test)
        for one, other, found in (
            (UUID, UUID.upper(), FAULTY),
            ("1", "1", TRUE),
            ("1", "01", FAULTY),
            ("a", "b", FALSE),
        ):
            facts = Facts(0, 0, path={"a": one}, query={"b": other})
            self.assertEqual(same(facts), found.values(), (one, other))

    @slowly
    @given(
        TESTS,
        st.dictionaries(st.sampled_from("ab"), VALUES.filter(lambda value: value is not ...)),
        st.lists(SUPPLIED, min_size=2, max_size=2),
        VALUES,
        SUPPLIED,
        st.booleans(),
    )
    def test_say_what_folding_says(
        self, test: str, attributes: dict, records: list, number: Any, supplied: dict | None, objects: bool
    ) -> None:
        formula = (
            bloodroot.parse(f"conditions\n  it {test}\nendpoints\n  GET /{{a}} anyone if it").conditions["it"].test
        )
        caller = CallerView(Caller(None if number is ... else number, attributes=attributes))
        one = Facts(0, 0, caller, now=NOW)
        predicate = compiled(formula)
        for record in records:
            known = SimpleNamespace(**record) if objects and record is not None else record
            rest = {"query": supplied, "path": supplied, "args": supplied}
            whole = Facts(0, 0, caller, known, None if record is None else {"a": known}, now=NOW, **rest)
            one.record, one.records = whole.record, whole.records
            one.query = one.path = one.args = supplied
            found = formula.fold(whole)
            # One and the same facts, given one record after the other.
            self.assertEqual(predicate(one), found.values(), f"{test}\n{whole}\n{found}")

    def test_what_is_shared_many_times_is_folded(self) -> None:
        lines = ["conditions", "  c0 record.a == 1"]
        lines += [f"  c{n} (c{n - 1} and record.a == {n}) or (c{n - 1} and not record.b)" for n in range(1, 40)]
        policy = bloodroot.parse("\n".join([*lines, "endpoints", "  GET / anyone if c39"]))
        predicate = compiled(policy.conditions["c39"])
        for record, expected in (({"a": 1, "b": False}, TRUE), ({"a": 1, "b": True}, FALSE), ({"a": 1}, FAULTY)):
            self.assertEqual(predicate(Facts(0, 0, record=record)), expected.values())


CALLERS = st.none() | st.builds(
    Caller,
    st.sampled_from([3, "3", None]),
    st.sets(st.sampled_from([f"r{n}" for n in range(5)]), max_size=2),
    attributes=st.dictionaries(st.just("status"), st.sampled_from(["awake", "asleep"])),
    scopes=st.none() | st.none() | st.sets(st.sampled_from(PERMISSIONS)),
    granted=st.dictionaries(st.sampled_from(PERMISSIONS), st.just("the directory"), max_size=1),
)
KEYS = st.sampled_from([3, -3, "b", "a b", "7.csv", "x/y", "..", "05", ";", "é", "%41", uuid.UUID(UUID), True])
RECORD = st.fixed_dictionaries({"id": KEYS, "owner": st.sampled_from([3, 4]), "age": st.sampled_from([2, 5])})
ENDPOINTS = ["GET /", "GET /a/{id}", "POST /a/{id}/c", "POST /a/b", "GET /b/{id}", "DELETE /b/{id}.csv", "HEAD /a/{id}"]
ENDPOINTS += ["GET /c/{id}/{owner}", "GET /a/{id}/d", "PURGE /b/{id}/x", "GET /a/b/", "POST /c/{id}/5"]
MORE = "  any /** anyone if both\n  GET /c/{x}/5 self\n  POST /c/{y}/5 r1\n"


TEMPLATES = ["/a/{x}", "/a/b", "/a/{x}/c", "/a/3", "/{y}/{x}", "/b/{x}.csv", "/b/*", "/**", "/a/**", "/b/{x}", "/3/{z}"]


class FlagsOfEndpoints(unittest.TestCase):
    @examples(60, 600)
    @given(
        st.dictionaries(st.sampled_from(TEMPLATES), st.sampled_from(["", "r0", "r1 if mine", "nobody"]), min_size=1),
        st.dictionaries(st.sampled_from(TEMPLATES), st.sampled_from(["r0", "r1", "anyone"]), min_size=1, max_size=3),
        st.lists(RECORD, min_size=1, max_size=3),
    )
    def test_of_policies_that_are_bound(self, routes: dict, lines: dict, records: list) -> None:
        """Some routes have the line of an action, which beats every line for a path; others are left to those."""
        actions = {f"a{n}": (path, asks) for n, (path, asks) in enumerate(routes.items())}
        text = "roles\n  r0\n  r1\nconditions\n  mine record.owner == 3\nendpoints\n"
        text += "".join(f"  action {name} {asks}\n" for name, (_, asks) in actions.items() if asks)
        written = {path: asks for path, asks in lines.items() if not routes.get(path)}
        text += "".join(f"  GET {path} {asks}\n" for path, asks in written.items()) or "  GET /none anyone\n"
        policy = bloodroot.parse(text)
        served = [Route(name, ("GET",), path) for name, (path, _) in actions.items()]
        try:
            policy = policy.bind(served)
        except bloodroot.PolicyError:
            return  # a line for a path that is written for the route of an action in other words
        for caller in (None, Caller(3, {"r0"}), Caller(3, {"r1"})):
            for record in records:
                for asked in ("GET /a/{id}", "GET /a/{id}/c", "GET /b/{id}", "GET /{owner}/{id}"):
                    path = asked[4:]
                    for name in ("id", "owner"):
                        path = path.replace(f"{{{name}}}", quote(str(record[name]), safe=""))
                    decision = policy.decide(caller, "GET", path, record=record)
                    about = f"{asked} {path} {caller} {record} {decision}\n{text}\n{served}"
                    try:
                        self.assertEqual(policy.flags(caller, [asked], record=record)[asked], decision.allowed, about)
                    except bloodroot.UnknownNameError:
                        self.assertIsNone(decision.line, about)

    @examples(60, 600)
    @given(policies(), CALLERS, st.lists(RECORD, min_size=1, max_size=3), st.booleans())
    def test_say_what_requests_are_told(self, made: Any, caller: Caller | None, records: list, apart: bool) -> None:
        text = written(*made).replace("conditions\n", "conditions\n  self path.x == caller.id\n", 1)
        text = text.replace("endpoints\n", f"endpoints\n{MORE}", 1)
        if apart:
            text = text.replace("permissions\n", "  apart r0, r1\npermissions\n", 1)
        try:
            policy = bloodroot.parse(text)
        except bloodroot.PolicyError:
            return  # one role that is kept apart includes the other
        flags = policy.flags_of_each(caller, [*ENDPOINTS, *PERMISSIONS], records)
        for record, found in zip(records, flags, strict=True):
            for asked in ENDPOINTS:
                method, path = asked.split(" ")
                for name in ("id", "owner"):
                    path = path.replace(f"{{{name}}}", quote(str(record[name]), safe=""))
                decision = policy.decide(caller, method, path, record=record)
                self.assertEqual(found[asked], decision.allowed, f"{asked} {path} {caller} {record} {decision}\n{text}")
            for name in PERMISSIONS:
                self.assertEqual(found[name], policy.may(caller, name, record=record))
