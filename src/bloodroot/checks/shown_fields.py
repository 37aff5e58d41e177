"""Findings about fields: sections that belong to nothing, and fields that are wider than the page that shows them."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.fields import FieldRules
from ..core.formulas import TRUE, Formula, either
from ..core.paths import Parameter
from .finding import Finding, Kind, Severity
from .reach import Unit
from .subject import Subject

UNRELATED = Kind(
    "unrelated-fields",
    Severity.WARNING,
    "A section of fields is for a kind of record that no permission and no path names, so that it may protect nothing.",
    "Write the kind as the program writes it where it asks for fields.",
)
WITHOUT_REST = Kind(
    "fields-without-rest",
    Severity.NOTE,
    "A section of fields says nothing of the fields that it does not name: they are closed to all callers.",
    "Add an entry for *, or accept the finding where all others are to stay closed.",
)
WIDER_FIELD = Kind(
    "field-wider-than-page",
    Severity.WARNING,
    "A field is readable by callers who may not see the page of its record.",
    "Require of the field at least what the page requires.",
)
WIDER_CHANGE = Kind(
    "field-change-wider-than-read",
    Severity.WARNING,
    "A field may be changed by callers who may not read it.",
    "Require of the change at least what reading requires.",
)
KINDS = (UNRELATED, WITHOUT_REST, WIDER_FIELD, WIDER_CHANGE)


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    names = {name.partition(":")[0] for name in (*subject.uses.names, *subject.policy.permissions) if ":" in name}
    for kind, rules in subject.policy.fields.items():
        place = next(iter(rules.rules.values())).place if rules.rules else None
        if place is None:
            continue
        pages = list(_pages(subject, kind))
        if kind not in names and not pages and not _in_paths(subject, kind):
            yield UNRELATED.at(place, f'No permission and no path is about a record of the kind "{kind}".')
        if "*" not in rules.rules:
            yield WITHOUT_REST.at(place, f"Fields of {kind} that have no entry here are closed to all callers.")
        yield from _wider(subject, rules, pages)


def _wider(subject: Subject, rules: FieldRules, pages: list[Unit]) -> Iterator[Finding]:
    reach = subject.reach
    for name, rule in rules.rules.items():
        read, change = reach.let_in_by(rule.read), reach.let_in_by(rule.change)
        called = f"The field {name} of {rules.kind}" if name != "*" else f"Each other field of {rules.kind}"
        missed = _beyond(subject, rule.read, pages)
        if pages and missed:
            yield WIDER_FIELD.at(
                rule.place,
                f"{called} is readable by {reach.who(missed)}, who may not see {pages[0].words}, or not always.",
                related=(pages[0].place,),
            )
        if change & ~read:
            yield WIDER_CHANGE.at(
                rule.place, f"{called} may be changed by {reach.who(change & ~read)}, who may not read it."
            )


def _beyond(subject: Subject, read: Formula, pages: list[Unit]) -> int:
    """The columns that may read a field where none of some pages lets them in."""
    reach = subject.reach
    found = 0
    for formula, columns in reach.spread(read):
        for name in reach.columns:
            column = reach.bit[name] & columns
            if not column:
                continue
            seen = [each for page in pages for each, others in page_groups(page) if others & column]
            if not reach.implies(formula, either(seen)) and (not seen or reach.contradicts(formula, either(seen))):
                found |= column
    return found


def page_groups(page: Unit) -> list[tuple[Formula, int]]:
    """The columns that a page lets in, by what it depends on, standing rules of callers alone aside."""
    return [(TRUE, page.row.allow), *page.row.depends]


def _pages(subject: Subject, kind: str) -> Iterator[Unit]:
    """The pages that show one record of a kind, by the usual names of paths: ``/trials/{trial_id}``."""
    for unit in subject.reach.units:
        if unit.method == "GET":
            segments = unit.template.segments
            if segments and isinstance(segments[-1], Parameter) and _is_about(segments[-1].name, segments[-2:-1], kind):
                yield unit


def _is_about(parameter: str, before: tuple[object, ...], kind: str) -> bool:
    name = _plain(kind)
    if _plain(parameter.removesuffix("_id").removesuffix("-id").removesuffix("Id")) == name:
        return True
    parent = before[0] if before else None
    return isinstance(parent, str) and _plain(parent) in _plurals(name)


def _in_paths(subject: Subject, kind: str) -> bool:
    forms = _plurals(_plain(kind))
    return any(
        isinstance(part, str) and _plain(part) in forms
        for unit in subject.reach.units
        for part in unit.template.segments
    )


def _plurals(name: str) -> tuple[str, ...]:
    return (name, f"{name}s", f"{name}es", f"{name[:-1]}ies" if name.endswith("y") else name)


def _plain(name: str) -> str:
    return name.lower().replace("-", "").replace("_", "")
