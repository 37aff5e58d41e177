"""Findings about fields: sections that belong to nothing, and fields that are wider than the page that shows them."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.fields import FieldRules
from ..core.finding import Finding, FindingKind, Severity
from ..core.formulas import TRUE, Formula, either
from ..core.paths import Parameter
from .reach import Unit
from .subject import Subject

UNRELATED = FindingKind(
    "unrelated-fields",
    Severity.WARNING,
    "A section of fields is for a kind of record that no permission and no path names, so that it may protect nothing.",
    "Write the kind as the program writes it where it asks for fields.",
)
WITHOUT_REST = FindingKind(
    "fields-without-rest",
    Severity.NOTE,
    "A section of fields says nothing of the fields that it does not name: they are closed to all callers.",
    "Add an entry for *, or accept the finding where all others are to stay closed.",
)
WIDER_FIELD = FindingKind(
    "field-wider-than-page",
    Severity.WARNING,
    "A field is readable by callers who may not see the page of its record.",
    "Require of the field at least what the page requires.",
)
WIDER_CHANGE = FindingKind(
    "field-change-wider-than-read",
    Severity.WARNING,
    "A field may be changed by callers who may not read it.",
    "Require of the change at least what reading requires.",
)
KINDS = (UNRELATED, WITHOUT_REST, WIDER_FIELD, WIDER_CHANGE)


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    by_name, words = _pages_by_name(subject) if subject.policy.fields else ({}, set())
    names = {name.partition(":")[0] for name in (*subject.uses.names, *subject.policy.permissions) if ":" in name}
    for kind, rules in subject.policy.fields.items():
        place = next(iter(rules.rules.values())).place if rules.rules else None
        if place is None:
            continue
        forms = _plurals(_plain(kind))
        pages = list(dict.fromkeys(page for form in forms for page in by_name.get(form, ())))
        if kind not in names and not pages and words.isdisjoint(forms):
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
    mask = 0
    for formula, columns in reach.spread(read):
        for name in reach.columns:
            column = reach.bit[name] & columns
            if not column:
                continue
            seen = [asked for page in pages for asked, others in page_groups(page) if others & column]
            if not reach.implies(formula, either(seen)) and (not seen or reach.contradicts(formula, either(seen))):
                mask |= column
    return mask


def page_groups(page: Unit) -> list[tuple[Formula, int]]:
    """The columns that a page lets in, by what it depends on, standing rules of callers alone aside."""
    return [(TRUE, page.row.allow), *page.row.depends]


def _pages_by_name(subject: Subject) -> tuple[dict[str, list[Unit]], set[str]]:
    """Pages that show one record, by what paths say they are about (``/trials/{trial_id}``), and all words of paths."""
    pages: dict[str, list[Unit]] = {}
    words: set[str] = set()
    for unit in subject.reach.units:
        segments = unit.template.segments
        words.update(_plain(part) for part in segments if isinstance(part, str))
        if unit.method != "GET" or not segments or not isinstance(segments[-1], Parameter):
            continue
        name = segments[-1].name.removesuffix("_id").removesuffix("-id").removesuffix("Id")
        names = {_plain(name), *(_plain(part) for part in segments[-2:-1] if isinstance(part, str))}
        for each in names:
            pages.setdefault(each, []).append(unit)
    return pages, words


def _plurals(name: str) -> tuple[str, ...]:
    return (name, f"{name}s", f"{name}es", f"{name[:-1]}ies" if name.endswith("y") else name)


def _plain(name: str) -> str:
    return name.lower().replace("-", "").replace("_", "")
