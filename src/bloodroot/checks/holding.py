"""Findings about conditions: those that never hold, those that always do, and lines that let nobody in."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from ..core.endpoint_outcomes import asked_at
from ..core.finding import Finding, FindingKind, Severity
from ..core.formulas import FALSE, Facts, Formula, can_be_true, walk
from ..core.lines import Line
from ..core.matrix import Row
from ..core.records import UNKNOWN
from ..core.requirements import asks_for_guard, permissions_in, roles_in
from ..core.roles import SIGNED_IN
from ..language import tree
from .reach import Unit
from .subject import Subject, all_entries

NEVER_HOLDS = FindingKind(
    "never-holds",
    Severity.ERROR,
    "A condition, or what a line requires of some callers, can never be true.",
    "Compare it with what can be, or remove what rests on it.",
)
ALWAYS_HOLDS = FindingKind(
    "always-holds",
    Severity.WARNING,
    "A condition is never false: it refuses no caller for what it tests.",
    "Correct the comparison, or remove the condition.",
)
CLOSED_LINE = FindingKind(
    "closed-line",
    Severity.WARNING,
    "A line lets no caller in, whatever roles they hold, and does not say nobody.",
    "Correct what it requires, or write nobody where that is meant.",
)
KINDS = (NEVER_HOLDS, ALWAYS_HOLDS, CLOSED_LINE)
_MOST_ROLES = 6  # whose combinations are tried


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    for entry in all_entries(subject.document):
        if isinstance(entry, tree.Condition):
            yield from _condition(subject, entry)
    closed: set[Line] = set()
    tested: set[object] = set()
    for unit in subject.reach.units:
        if not subject.reach.let_in(unit.row):
            # What a line and a guard cannot both let in is another finding.
            if unit.line not in closed and not unit.line.guards and _lets_nobody_in(subject, unit):
                closed.add(unit.line)
                yield CLOSED_LINE.at(
                    unit.place,
                    f"{unit.words} lets no caller in: nothing can meet {unit.line.requirement.words()}"
                    f"{_with_rules(unit.row)}.",
                )
            continue
        for formula, columns in unit.row.depends:
            if formula in tested or len(list(walk(formula))) < 3:
                continue
            tested.add(formula)
            if subject.reasoner.never(formula).holds:
                yield NEVER_HOLDS.at(
                    unit.place,
                    f"{unit.words} never lets in {subject.reach.who(columns)}: {formula.words()} cannot hold.",
                )


def _condition(subject: Subject, entry: tree.Condition) -> Iterator[Finding]:
    condition = subject.policy.conditions.get(entry.name.text)
    if condition is None:
        return
    test = condition.test
    if subject.reasoner.never(test).holds:
        yield NEVER_HOLDS.at(entry.place, f'The condition "{condition.name}" can never be true: {test.words()}.')
    elif subject.reasoner.never_false(test).holds:
        yield ALWAYS_HOLDS.at(entry.place, f'The condition "{condition.name}" is never false: {test.words()}.')


def _with_rules(row: Row) -> str:
    return " and the standing rules" if row.marks else ""


def _lets_nobody_in(subject: Subject, unit: Unit) -> bool:
    """Whether no caller is let in, of one role or of several, at a line that does not say so itself."""
    formulas = [formula for _, formula in asked_at(subject.policy, unit.line, unit.method)]
    if any(formula is FALSE or asks_for_guard(formula) for formula in formulas):
        return False
    anything = Facts(0, ~0, caller=UNKNOWN)
    for formula in formulas:
        if any(not can_be_true(permission.grants.fold(anything)) for permission in permissions_in(formula)):
            return False  # nobody holds a permission: that is a finding of its own
    names = list(dict.fromkeys(name for formula in formulas for name in roles_in(formula)))
    if len(names) > _MOST_ROLES:
        return False
    return not any(
        _may_pass(subject, formulas, chosen)
        for count in range(2, len(names) + 1)
        for chosen in combinations(names, count)
    )


def _may_pass(subject: Subject, formulas: list[Formula], chosen: tuple[str, ...]) -> bool:
    """Whether a caller who holds all of these roles may pass."""
    roles = subject.policy.roles
    bits = roles.base | SIGNED_IN
    for name in chosen:
        bits |= roles.closure_of[name]
    if roles.are_apart(bits):
        return False
    facts = Facts(bits, bits, caller=UNKNOWN)
    return all(can_be_true(formula.fold(facts)) for formula in formulas)
