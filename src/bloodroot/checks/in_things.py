"""Findings about things: records in other records, and the roles that are held in them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ..core.binding import template_of
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import walk
from ..core.paths import specificity
from ..core.requirements import HoldingSomewhere, conditions_in, references_in
from ..enforce.start_checks import mentions
from ..language import tree
from .reach import Unit
from .subject import Subject, all_entries

UNUSED_THING = FindingKind(
    "unused-thing",
    Severity.WARNING,
    "A thing is declared that no path, permission, fields or other thing names.",
    "Name its parameter as the paths do, or remove it.",
)
NOT_ASSIGNED = FindingKind(
    "role-never-assigned",
    Severity.WARNING,
    "Roles are held in a thing, and neither tokens nor the directory say who holds them where.",
    "Say where they are: roles_in under [identity] or under [directory.queries], or keep them in Bloodroot's tables.",
    Needs.SETTINGS,
)
NOT_FILTERED = FindingKind(
    "list-not-filtered",
    Severity.WARNING,
    "An endpoint lets in every caller who holds a role in any record, and its handler does not seem to ask in which.",
    "Filter the list with rows, or ask policy.where; accept the finding where nothing of a record is shown.",
    Needs.ROUTES,
)
UNTIED = FindingKind(
    "nested-record-untied",
    Severity.WARNING,
    "A path names one record within another, a condition looks at the outer one alone, and nothing says that the inner "
    "one belongs to it: a record is reached through another's parent.",
    "Declare both under things, or compare them in a condition, as in record.plot_id == records.plot_id.id.",
)
KINDS = (UNUSED_THING, NOT_ASSIGNED, NOT_FILTERED, UNTIED)
_ASKING = ("rows", "where", "may", "flags", "flags_of_each", "settle")


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    if subject.policy.roles.things:
        yield from _unused(subject)
        yield from _not_assigned(subject)
        yield from _not_filtered(subject)
    yield from _untied(subject)


def _unused(subject: Subject) -> Iterator[Finding]:
    policy = subject.policy
    named = {name for line in (*policy.endpoints, *policy.standing) for name in line.template.names}
    if subject.survey is not None:
        named |= {name for endpoint in subject.survey.endpoints for name in endpoint.template.names}
    things = policy.roles.things.by_name
    used = {name for name, thing in things.items() if not named.isdisjoint(thing.parameters)}
    used |= {thing.parent for thing in things.values() if thing.parent is not None}
    used |= {name.split(":")[0] for name in policy.permissions} | {*policy.fields}
    for entry in subject.document.entries(tree.Thing):
        if entry.name.text not in used and not policy.unbound:
            yield UNUSED_THING.at(entry.place, f'Nothing names the thing "{entry.name.text}".')


def _not_assigned(subject: Subject) -> Iterator[Finding]:
    settings, roles = subject.settings, subject.policy.roles
    if settings is None or not (settings.identity or settings.directory):
        return
    directory = settings.directory
    if directory is not None and (not directory.queries or "roles_in" in directory.queries):
        return
    given = {thing for source in settings.identity for thing in source.claims.roles_in}
    entries = {entry.name.text: entry for entry in all_entries(subject.document) if isinstance(entry, tree.Role)}
    everywhere = 0
    for bits in roles.closure.values():
        everywhere |= bits
    for thing in roles.things.by_name:
        names = [name for name in roles.roles_of(thing) if not everywhere & roles.bit_in[name]]
        if names and thing not in given:
            yield NOT_ASSIGNED.at(
                entries[names[0]].place, f"Nothing says in which {thing} a caller is {' or '.join(names)}."
            )


def _not_filtered(subject: Subject) -> Iterator[Finding]:
    shapes = {}
    for unit in subject.reach.units:
        parts = [part for part in walk(unit.line.requirement.formula) if isinstance(part, HoldingSomewhere)]
        if parts and unit.method in ("GET", "any"):
            shapes[unit.shape] = unit, parts[0]
    for route in subject.routes:
        shape = specificity(template_of(route)[0], exact=True)
        if shape in shapes and route.handler is not None and not mentions(route.handler, _ASKING):
            unit, part = shapes[shape]
            yield NOT_FILTERED.at(
                unit.place, f"{unit.words} lets in every {part.words()}, and {route.action} does not ask in which."
            )


def _untied(subject: Subject) -> Iterator[Finding]:
    things = subject.policy.roles.things
    for unit in subject.reach.units:
        names = unit.line.template.names or unit.template.names
        if len(names) < 2 or not subject.reach.let_in(unit.row) & ~subject.reach.signed_out:
            continue
        tied = [things.by_parameter[name] for name in names if name in things.by_parameter]
        if len(tied) == len(names) and all(things.are_tied([("", one), ("", tied[-1])]) for one in tied[:-1]):
            continue
        looked_at, inner = _looked_at(unit, names)
        if looked_at and not inner:
            condition = next(iter(conditions_in(unit.line.requirement.formula)), None)
            name = f"the condition {condition.name}" if condition is not None else "what it requires"
            yield UNTIED.at(
                unit.place,
                f"{unit.words} names {{{names[-1]}}} within {{{looked_at}}}, and {name} looks at the latter alone.",
            )


class _LookedAt(NamedTuple):
    """Which records a line looks at.

    Attributes:
        outer: an outer parameter that is looked at, or an empty string.
        inner: whether the last one, or its record, is.
    """

    outer: str
    inner: bool


def _looked_at(unit: Unit, names: tuple[str, ...]) -> _LookedAt:
    """Which records of its path a line looks at."""
    outer, inner = "", False
    for reference in references_in(unit.line.requirement.formula):
        if reference.root == "record" or (reference.root in ("path", "records") and reference.names[0] == names[-1]):
            inner = True
        elif reference.root in ("path", "records") and reference.names[0] in names:
            outer = outer or reference.names[0]
    return _LookedAt(outer, inner)
