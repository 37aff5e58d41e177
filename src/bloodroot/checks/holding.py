"""Findings about conditions: those that never hold, those that always do, and lines that let no caller in."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from itertools import combinations

from ..core.conditions import Comparison, Reference
from ..core.endpoint_outcomes import asked_at
from ..core.finding import Finding, FindingKind, Severity
from ..core.formulas import FALSE, FAULTY, Facts, Formula, can_be_true, walk
from ..core.lines import Line
from ..core.matrix import Row
from ..core.records import UNKNOWN
from ..core.requirements import asks_for_guard, permissions_in, references_in, roles_in
from ..core.roles import SIGNED_IN
from ..core.values import Value
from ..language import tree
from ..language.operators import OPERATORS
from ..language.problems import Place
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
ALWAYS_FAULTY = FindingKind(
    "always-faulty",
    Severity.ERROR,
    "A comparison is of values that can never be compared: it is neither true nor false, whatever they are.",
    "Compare values of one kind: moments as in now < 2027-01-01, the time of the day with now.time.",
)
KINDS = (NEVER_HOLDS, ALWAYS_HOLDS, CLOSED_LINE, ALWAYS_FAULTY)
_MOST_ROLES = 6  # whose combinations are tried


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    for entry in all_entries(subject.document):
        if isinstance(entry, tree.Condition):
            yield from _condition(subject, entry)
    yield from _inline(subject)
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
    faulty = [part for part in walk(test) if isinstance(part, Comparison) and is_always_faulty(part)]
    if faulty:
        yield _faulty(entry.place, faulty[0])
    elif subject.reasoner.never(test).holds:
        yield NEVER_HOLDS.at(entry.place, f'The condition "{condition.name}" can never be true: {test.words()}.')
    elif subject.reasoner.never_false(test).holds:
        yield ALWAYS_HOLDS.at(entry.place, f'The condition "{condition.name}" is never false: {test.words()}.')


def _inline(subject: Subject) -> Iterator[Finding]:
    """Comparisons that lines and grants make themselves, without a condition of a name."""
    policy = subject.policy
    named = {id(part) for condition in policy.conditions.values() for part in walk(condition.test)}
    for entry in subject.document.entries(tree.Permission):
        formula = policy.permissions.get(entry.name.text)
        yield from _faulty_in(formula, named, entry.place) if formula is not None else ()
    for line in (*policy.endpoints, *policy.standing):
        if not line.requirement.plain:
            formula = line.declared.formula if line.declared is not None else line.requirement.formula
            yield from _faulty_in(formula, named, line.place)


def _faulty_in(formula: Formula, named: set[int], place: Place) -> Iterator[Finding]:
    for part in walk(formula):
        if isinstance(part, Comparison) and id(part) not in named and is_always_faulty(part):
            named.add(id(part))  # said once, however many lines share it
            yield _faulty(place, part)


def _faulty(place: Place, part: Comparison) -> Finding:
    return ALWAYS_FAULTY.at(place, f"{part.words()} can never be compared.")


_MOMENT = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)


def is_always_faulty(part: Comparison) -> bool:
    """Whether the two sides of a comparison can never be compared, by what is known before there is a request."""
    if not any(True for _ in references_in(part)):
        return part.fold(Facts(0, 0, now=_MOMENT)) is FAULTY
    is_order = part.operator in OPERATORS and OPERATORS[part.operator].is_order
    for side, other in ((part.left, part.right), (part.right, part.left)):
        if not isinstance(side, Value):
            continue
        if part.operator == "in" and side is part.right:
            return True  # no collection at all
        if is_order and (side.value is None or isinstance(side.value, bool)):
            return True
        # What a path and a query have is text.
        is_text = isinstance(other, Reference) and other.root in ("path", "query") and not other.optional
        if is_text and isinstance(side.value, bool | datetime.time):
            return True
    return False


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
            return False  # no role has a permission: that is a finding of its own
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
