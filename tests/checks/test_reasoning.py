"""What is said of conditions is held against the engine, on conditions and values made at random."""

from __future__ import annotations

import datetime
import random
import unittest
import uuid
from decimal import Decimal
from functools import lru_cache
from typing import Any

import bloodroot
from bloodroot.checks.proving import prove
from bloodroot.core.formulas import Formula
from bloodroot.core.reasoning import tried
from bloodroot.core.records import MISSING
from tests.examples import number

CASES = number(240, 20_000)
NOW = datetime.datetime(2026, 5, 1, tzinfo=datetime.UTC)
REFERENCES = ("caller.id", "caller.team", "record.a", "record.b", "record.c", "path.x", "query.q", "record.tags")
CONSTANTS = ('"a"', '"b"', '"5"', "5", "6", "5.5", "true", "none", "now")
VALUES: tuple[Any, ...] = (
    *("a", "b", "c", "5", "6", "05", "x1", "", 5, 6, 5.5, 4, 7, 1, 0, True, False, None, MISSING),
    *(Decimal(5), float("nan"), NOW, NOW + datetime.timedelta(days=1), NOW.replace(tzinfo=None), NOW.date(), b"a"),
    *(uuid.UUID(int=5), str(uuid.UUID(int=5)), [], ["a"], [5, 6], ["a", 5], ["5"], [None], {"a": 5}),
)


def operand(chance: random.Random) -> str:
    return chance.choice(REFERENCES if chance.random() < 0.65 else CONSTANTS)


def expression(chance: random.Random, depth: int = 2) -> str:
    if depth and chance.random() < 0.7:
        kind = chance.choice(("and", "and", "or", "not"))
        if kind == "not":
            return f"not ({expression(chance, depth - 1)})"
        return f"({expression(chance, depth - 1)}) {kind} ({expression(chance, depth - 1)})"
    if chance.random() < 0.08:
        return chance.choice(REFERENCES)
    operator = chance.choice(("==", "==", "==", "!=", "in", "not in", "<", ">="))
    right = operand(chance)
    if operator in ("in", "not in"):
        right = chance.choice(("record.tags", f"[{operand(chance)}, {operand(chance)}]", "caller.team"))
    return f"{operand(chance)} {operator} {right}"


@lru_cache(maxsize=64)
def policy_with(text: str) -> bloodroot.Policy:
    return bloodroot.parse(f"conditions\n  it {text}\nendpoints\n  GET /{{x}} anyone if it")


def condition(text: str) -> Formula:
    return policy_with(text).conditions["it"].test


def holds(text: str, values: dict[str, Any]) -> bool:
    """Whether a condition lets a request in, asked as an application asks."""
    roots: dict[str, dict[str, Any]] = {"caller": {}, "record": {}, "query": {}}
    for name, value in values.items():
        root, _, rest = name.partition(".")
        if value is not MISSING and root in roots:
            roots[root][rest] = value
    identity = roots["caller"].pop("id", None)
    caller = bloodroot.Caller(identity, attributes=roots["caller"])
    path = f"/{values.get('path.x', 'x')}"
    now = values.get("now", NOW)
    return policy_with(text).decide(caller, "GET", path, record=roots["record"], query=roots["query"], now=now).allowed


def anything(chance: random.Random) -> dict[str, Any]:
    """Values for all references, of which few are different, so that they often meet."""
    few = chance.sample(VALUES, 3)
    values = {name: chance.choice(few if chance.random() < 0.7 else VALUES) for name in REFERENCES}
    texts = [
        value
        for value in (*few, "a", "5")
        if isinstance(value, str | int) and not isinstance(value, bool) and value != ""
    ]
    values["path.x"] = str(chance.choice(texts))
    query = chance.choice((MISSING, *map(str, texts)))
    values["query.q"] = query
    return values


class Reasoning(unittest.TestCase):
    def test_what_the_solver_says_is_so(self) -> None:
        chance = random.Random(8)
        decided = opened = 0
        for _ in range(CASES // 4):
            one, other = expression(chance), expression(chance)
            if chance.random() < 0.3:
                other = f"({one}) or ({other})"
            before, proof = tried(condition(one), condition(other)), prove(condition(one), condition(other))
            with self.subTest(one=one, other=other):
                if before.holds is not None and proof.holds is not None:
                    self.assertEqual(before.holds, proof.holds)
                opened += before.holds is None
                decided += before.holds is None and proof.holds is not None
                if proof.holds is False:
                    self.assertTrue(holds(one, proof.assignment) and not holds(other, proof.assignment))
                elif proof.holds:
                    for _ in range(60):
                        values = anything(chance)
                        self.assertFalse(holds(one, values) and not holds(other, values), values)
        # It decides most of what trying values leaves open.
        self.assertGreater(decided, opened // 2)

    def test_what_never_holds_and_what_is_implied(self) -> None:
        chance = random.Random(7)
        said = {True: 0, False: 0, None: 0}
        for _ in range(CASES):
            one = expression(chance)
            other = f"({one}) or ({expression(chance, 1)})" if chance.random() < 0.2 else expression(chance)
            if chance.random() < 0.3:
                other = "1 == 2"
            proof = tried(condition(one), condition(other))
            said[proof.holds] += 1
            with self.subTest(one=one, other=other):
                if proof.holds is False:
                    values = {**proof.assignment}
                    self.assertTrue(holds(one, values), values)
                    self.assertFalse(holds(other, values), values)
                elif proof.holds:
                    for _ in range(60):
                        values = anything(chance)
                        self.assertFalse(holds(one, values) and not holds(other, values), values)
        # Few questions are left open, and both answers are given often.
        self.assertGreater(min(said[True], said[False]), CASES // 10, said)
        self.assertLess(said[None], CASES // 3, said)
