"""Findings about guards in handlers, records that nothing loads, and caches."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.binding import Route, template_of
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import both
from ..core.methods import ANY
from ..core.paths import specificity
from ..enforce.loaders import names_at
from ..enforce.start_checks import CACHED, MISSING, NOT_LOADED, NOT_RUN, NOT_SETTLED, AtRoute, find_at, guards_not_run
from .reach import Shape, Unit
from .subject import Subject

CONTRADICTS = FindingKind(
    "guard-contradicts-line",
    Severity.ERROR,
    "A line and the guards of its handler let no caller in together, though each of them would let some in.",
    "Require the same in both, or leave the decision to one of them.",
    Needs.ROUTES,
)
UNKNOWN_NAME = FindingKind(
    "guard-unknown-name",
    Severity.ERROR,
    "A guard requires something that the policy does not know.",
    "Correct the name in the guard, or declare it in the policy.",
    Needs.ROUTES,
)
KINDS = (NOT_RUN, MISSING, CONTRADICTS, UNKNOWN_NAME, NOT_SETTLED, NOT_LOADED, CACHED)


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    for problem in subject.guard_problems:
        yield UNKNOWN_NAME.at(problem.place, f"This guard cannot be understood: {problem.message}.")
    yield from guards_not_run(subject.routes)
    by_shape: dict[Shape, list[Route]] = {}
    for route in subject.routes:
        by_shape.setdefault(specificity(template_of(route)[0], exact=True), []).append(route)
    for unit in subject.reach.units:
        if unit.line.guards and not subject.guard_problems:
            yield from _contradicts(subject, unit)
        for route in by_shape.get(unit.shape, ()):
            if not route.methods or unit.method == ANY or unit.method in route.methods:
                rules = tuple(subject.policy.lookup.rules_over(unit.template, unit.method))
                at = AtRoute(unit.words, unit.method, route, unit.line, rules)
                loaders = None if subject.loaders is None else set(names_at(subject.loaders, at.route, at.method))
                yield from find_at(subject.policy.roles, at, loaders)


def _contradicts(subject: Subject, unit: Unit) -> Iterator[Finding]:
    """A line and a guard that each let some callers in, and none together."""
    line = unit.line
    if subject.reach.let_in(unit.row) or line.declared is None:
        return
    alone = subject.reach.let_in_by(line.declared.formula)
    guards = subject.reach.let_in_by(both(guard.requirement.formula for guard in line.guards))
    if alone and guards:
        places = tuple(guard.place for guard in line.guards)
        required = " and ".join(guard.text for guard in line.guards)
        yield CONTRADICTS.at(
            line.place,
            f"{unit.words} requires {line.declared.words()}, and the guard in {places[0].at} requires {required}: "
            "no caller meets both.",
            related=places,
        )
