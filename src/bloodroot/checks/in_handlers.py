"""Findings about guards in handlers, and about records that nothing loads."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.binding import Route, template_of
from ..core.formulas import both
from ..core.lines import Line
from ..core.methods import ANY, covers
from ..core.paths import overlap, specificity
from ..core.requirements import asks_for_guard
from ..enforce.startup import guards_not_run, lacking_record, settles
from .finding import Finding, FindingKind, Needs, Severity
from .reach import Shape, Unit
from .subject import Subject

NOT_RUN = FindingKind(
    "guard-not-run",
    Severity.ERROR,
    "A guard is written where the framework never runs it.",
    "Put it below the decorator of the route, or around every class that serves the endpoint.",
    Needs.ROUTES,
)
MISSING = FindingKind(
    "guard-missing",
    Severity.WARNING,
    "A line leaves the decision to a guard, and no guard is around the handler.",
    "Put a guard around the handler, or say in the line what is required. Until then every response is withheld.",
    Needs.ROUTES,
)
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
NOT_SETTLED = FindingKind(
    "record-not-settled",
    Severity.ERROR,
    "A line depends on a record that nothing loads and that the handler does not settle: every response is withheld.",
    "Register a loader for a parameter of the path, or call current().settle(record) in the handler.",
    Needs.ROUTES,
)
KINDS = (NOT_RUN, MISSING, CONTRADICTS, UNKNOWN_NAME, NOT_SETTLED)


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    for problem in subject.guard_problems:
        yield UNKNOWN_NAME.at(problem.place, f"This guard cannot be understood: {problem.message}.")
    for guard, why in guards_not_run(subject.routes):
        yield NOT_RUN.at(guard.place, f'guard("{guard.text}"): {why}.')
    by_shape: dict[Shape, list[Route]] = {}
    for route in subject.routes:
        by_shape.setdefault(specificity(template_of(route)[0], exact=True), []).append(route)
    for unit in subject.reach.units:
        if unit.line.guards and not subject.guard_problems:
            yield from _contradicts(subject, unit)
        for route in by_shape.get(unit.shape, ()):
            if not route.methods or unit.method == ANY or unit.method in route.methods:
                yield from _missing(unit, route)
                yield from _not_settled(subject, unit, route)


def _missing(unit: Unit, route: Route) -> Iterator[Finding]:
    """A line that leaves the decision to a guard, where there is none."""
    around = route.guards_for(unit.method)
    if route.guarded is not None and not around and asks_for_guard(unit.line.requirement.formula):
        what = route.action + (f" for {unit.method}" if route.by_method is not None else "")
        yield MISSING.at(unit.line.place, f"{unit.words} is guarded, and no guard is around {what}.")


def _contradicts(subject: Subject, unit: Unit) -> Iterator[Finding]:
    """A line and a guard that each let somebody in, and nobody together."""
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


def _not_settled(subject: Subject, unit: Unit, route: Route) -> Iterator[Finding]:
    """A condition on a record that nobody knows when the response is there."""
    parameters = unit.template.names if route.names is None else route.names
    loaders = subject.loaders if subject.loaders is not None else frozenset(parameters)
    for line in _asking(subject, unit):
        lack = lacking_record(line, parameters, loaders)
        if lack is None:
            continue
        if lack.reference is not None:
            name = lack.reference.names[0]
            if subject.loaders is not None:
                yield NOT_SETTLED.at(
                    line.place, f"{unit.words} depends on records.{name}, and there is no loader for it."
                )
        elif not settles(route.handler):
            yield NOT_SETTLED.at(
                line.place,
                f"{unit.words} depends on a record, and has {lack.words}; its handler does not settle it.",
            )


def _asking(subject: Subject, unit: Unit) -> Iterator[Line]:
    yield unit.line
    for rule in subject.policy.lookup.rules_near(unit.template):
        if covers(rule.methods, unit.method) and overlap(rule.template, unit.template):
            yield rule
