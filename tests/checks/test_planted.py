"""A policy in which everything agrees has no findings; one line made more open has, whenever a caller can tell."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot.checks.checking import check
from bloodroot.checks.subject import Subject
from bloodroot.language.parser import parse as parse_tree
from tests.checks.test_reach import ATTRIBUTES, RECORDS
from tests.core.random_policies import ROLES, policies, requirements
from tests.examples import examples

FAMILIES = {
    "open-change",
    "change-wider-than-read",
    "action-wider-than-form",
    "form-wider-than-action",
    "put-and-patch-differ",
    "api-differs",
    "write-without-condition",
    "delete-wider-than-change",
}
# Each endpoint of a thing, with whether it requires what reading or what changing requires.
READS = ("GET /lots/{id}", "GET /api/lots/{id}")
CHANGES = (
    "GET /lots/{id}/edit",
    "POST /lots/{id}",
    "PUT /lots/{id}",
    "PATCH /lots/{id}",
    "DELETE /lots/{id}",
    "POST /lots/{id}/close",
    "PATCH /api/lots/{id}",
    "GET /lots/new",
    "POST /lots",
    "POST /api/lots",
)


def found(text: str) -> tuple[set[str], int]:
    """The findings of these families, and how many questions were left open."""
    subject = Subject(bloodroot.parse(text), parse_tree(text))
    names = {finding.name for finding in check(subject).findings} & FAMILIES
    return names, subject.reasoner.undecided


def callers() -> list[bloodroot.Caller | None]:
    several = [(), *((role,) for role in ROLES), *((one, other) for one in ROLES for other in ROLES if one < other)]
    known: list[bloodroot.Caller | None] = [None]
    return known + [bloodroot.Caller(1, roles, attributes=each) for roles in several for each in ATTRIBUTES]


class Planted(unittest.TestCase):
    @examples(25, 500)
    @given(
        policies(),
        requirements(1),
        requirements(1),
        requirements(1),
        st.sampled_from([each for each in CHANGES if "close" not in each]),
    )
    def test_one_line_that_is_more_open(self, made: Any, reads: str, changes: str, instead: str, where: str) -> None:
        head, *_ = made
        both = f"(({reads}) and ({changes}))"
        lines = dict.fromkeys(READS, f"({reads})") | dict.fromkeys(CHANGES, both)

        def text(lines: dict[str, str]) -> str:
            return "\n".join([head, "endpoints", *(f"  {line} {asked}" for line, asked in lines.items())])

        sound = text(lines)
        policy = bloodroot.parse(sound)
        anyone = [policy.decide(None, *each.replace("{id}", "1").split(" ")).allowed for each in CHANGES]
        names, _ = found(sound)
        self.assertEqual(names - ({"open-change"} if any(anyone) else set()), set(), sound)
        planted = text({**lines, where: instead})
        other = bloodroot.parse(planted)
        method, path = where.replace("{id}", "1").split(" ")
        seen = any(
            other.decide(caller, method, path, record=record).allowed
            and not policy.decide(caller, method, path, record=record).allowed
            for caller in callers()
            for record in RECORDS[::7]
        )
        names, undecided = found(planted)
        if seen and not undecided:
            self.assertTrue(names, planted)
