"""Four-valued evaluation against a plain one that knows everything."""

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot.core.formulas import FALSE, FAULTY, TRUE, Facts, can_be_true
from tests.examples import examples
from tests.policies import POLICY

NAMES = ["a", "b", "c"]
ATOMS = st.sampled_from(
    [*(f"record.{name} == {value}" for name in NAMES for value in (1, 2)), *(f"record.{n} < 2" for n in NAMES)]
)
TESTS = st.recursive(
    ATOMS,
    lambda inner: st.one_of(
        st.builds("({} and {})".format, inner, inner),
        st.builds("({} or {})".format, inner, inner),
        st.builds("(not {})".format, inner),
    ),
    max_leaves=8,
)
# Each attribute: a number, text that cannot be compared with one, or nothing at all.
VALUES = st.sampled_from([1, 2, "text", None, ...])
slowly = examples(300)


def formula_of(test: str) -> Any:
    return bloodroot.parse(f"conditions\n  it {test}\nendpoints\n  GET / anyone if it").conditions["it"].test


def record_of(values: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not ...}


def plain(test: str, record: dict[str, Any]) -> bool | None:
    """Kleene's three values with Python's own evaluation of the parts; None is faulty."""

    def atom(name: str, sign: str, value: int) -> bool | None:
        if not isinstance(record.get(name), int):
            return None
        return record[name] == value if sign == "==" else record[name] < value

    def run(text: str) -> bool | None:
        text = text.strip()
        if not text.startswith("("):
            reference, sign, value = text.split()
            return atom(reference.partition(".")[2], sign, int(value))
        text = text[1:-1]
        if text.startswith("not "):
            found = run(text[4:])
            return None if found is None else not found
        depth = 0
        for place, char in enumerate(text):
            depth += (char == "(") - (char == ")")
            for word in (" and ", " or "):
                if depth == 0 and text.startswith(word, place):
                    left, right = run(text[:place]), run(text[place + len(word) :])
                    strong = word == " or "
                    if strong in (left, right):
                        return strong
                    return None if None in (left, right) else not strong
        raise AssertionError(text)

    return run(test)


class Evaluation(unittest.TestCase):
    @slowly
    @given(TESTS, st.fixed_dictionaries(dict.fromkeys(NAMES, VALUES)))
    def test_with_a_record_it_is_the_plain_one(self, test: str, values: dict[str, Any]) -> None:
        record = record_of(values)
        found = formula_of(test).fold(Facts(0, 0, record=record))
        self.assertIs(found, {True: TRUE, False: FALSE, None: FAULTY}[plain(test, record)])

    @slowly
    @given(TESTS, st.fixed_dictionaries(dict.fromkeys(NAMES, VALUES)))
    def test_what_remains_gives_the_same_later(self, test: str, values: dict[str, Any]) -> None:
        record = record_of(values)
        early = formula_of(test).fold(Facts(0, 0))
        late = formula_of(test).fold(Facts(0, 0, record=record))
        self.assertIs(early.fold(Facts(0, 0, record=record)), late)
        if late is TRUE:
            self.assertTrue(can_be_true(early))

    @slowly
    @given(
        TESTS, st.fixed_dictionaries({name: st.sampled_from([1, 2, ...]) for name in NAMES}), st.sampled_from([1, 2])
    )
    def test_a_faulty_part_decides_nothing(self, test: str, values: dict[str, Any], instead: int) -> None:
        partly = formula_of(test).fold(Facts(0, 0, record=record_of(values)))
        whole = {name: instead if value is ... else value for name, value in values.items()}
        if partly in (TRUE, FALSE):
            self.assertIs(formula_of(test).fold(Facts(0, 0, record=whole)), partly)

    def test_a_policy_is_asked_by_many_threads(self) -> None:
        from concurrent.futures import ThreadPoolExecutor

        callers = [
            bloodroot.Caller(n, {("keeper", "clerk", "grower", "reviewer")[n % 4]}, attributes={"status": "active"})
            for n in range(200)
        ]

        def ask(caller: bloodroot.Caller) -> list[str]:
            return [
                POLICY.decide(caller, m, p).outcome
                for m, p in (("PUT", "/lots/7"), ("POST", "/parcels"), ("GET", "/rota"))
            ]

        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(ask, callers * 5))
        self.assertEqual(answers, [ask(caller) for caller in callers] * 5)
