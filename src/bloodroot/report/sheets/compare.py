"""Two policies side by side."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from ...comparison.changes import Change
from ..compared import (
    SIGNS,
    cells_by_endpoint,
    declared_in_words,
    endpoint_in_words,
    headline,
    how_to_see,
    named_alike,
    next_step,
)
from ..sheet import ARROW, Cell, Line, Meaning, Section, Sheet, endpoint, line, place, quiet, strong

if TYPE_CHECKING:
    from ...comparison.changes import Declared, PolicyComparison
    from ..compared import Alike

_MEANINGS = {
    Change.GAINED: Meaning.WARN,
    Change.WIDENED: Meaning.WARN,
    Change.DIFFERENT: Meaning.OPEN,
    Change.LOST: Meaning.ASKS,
    Change.NARROWED: Meaning.ASKS,
    Change.ANSWER: Meaning.QUIET,
}


def compare(result: PolicyComparison) -> Sheet:
    """What changes in one line, then endpoint by endpoint, then beside them."""
    meaning = Meaning.GOOD if result.same_access else Meaning.WARN if result.opens else Meaning.PLAIN
    between = line(quiet(f"{result.old.name} "), Cell("→", Meaning.QUIET, "->"), quiet(f" {result.new.name}"))
    sections = [Section(lines=(between,), tight=True)]
    if result.endpoints:
        sections.append(Section((strong("Lines"),), rows=tuple(_lines(result))))
    for title, answers in (("Who gets in", False), ("What refused callers get", True)):
        sections += _at_endpoints(result, title, answers=answers)
    for title, named in (
        ("Fields", result.fields),
        ("Permissions that code asks for", result.permissions),
        ("Conditions that code asks for", result.conditions),
    ):
        if named:
            rows = ((f"{name}  {', '.join(alike.roles)}".rstrip(), alike) for name, alike in named_alike(named))
            sections.append(Section((strong(title),), tuple(_changes(rows))))
    if result.declared:
        sections.append(Section((strong("Declared otherwise"),), tuple(map(_declared, result.declared))))
    if result.left_open:
        texts = (Cell(f"Not compared: {endpoint}.", Meaning.WARN, bold=True) for endpoint in result.left_open)
        sections.append(Section(lines=tuple(map(line, texts))))
    how = how_to_see(result)
    return Sheet(
        Cell(headline(result), meaning),
        tuple(sections),
        (next_step(result), *((how,) if how else ())),
        ("change", "method", "path", "caller", "holding", "before", "after", "proved"),
        (
            (cell.change.value, cell.method, cell.path, cell.role, cell.holding, cell.old, cell.new, cell.proved)
            for cell in result.cells
        ),
    )


def _declared(declared: Declared) -> Line:
    text = f"{'+' if declared.opens else ' '} {declared_in_words(declared)}"
    return line(Cell(text, Meaning.WARN if declared.opens else Meaning.PLAIN), indent=4)


def _lines(result: PolicyComparison) -> Iterator[tuple[Cell | str, ...]]:
    for change in result.endpoints:
        yield (
            f"   {'new' if change.new else 'gone'}",
            endpoint(f"{change.method} {change.path}"),
            place(change.line.place.at),
            quiet(endpoint_in_words(change)),
        )


def _at_endpoints(result: PolicyComparison, title: str, *, answers: bool) -> Iterator[Section]:
    for number, each in enumerate(cells_by_endpoint(result, answers=answers)):
        where = each.new_line or each.old_line
        head = line(endpoint(f"{each.method} {each.path}"), "  ", place(where), indent=2)
        changes = _changes((", ".join(alike.roles), alike) for alike in each.changes)
        yield Section(() if number else (strong(title),), (head, *changes), tight=bool(number))


def _changes(rows: Iterable[tuple[str, Alike]]) -> Iterator[Line]:
    for subject, alike in rows:
        sign = f"{SIGNS[alike.change]} {alike.change.value:10}"
        ascii_sign = sign.replace("±", "~")
        doubt = "" if alike.proved else "  (could not be proved)"
        change = Cell(sign, _MEANINGS[alike.change], ascii_sign, bold=True)
        yield line(change, f"{subject}: {alike.old} ", ARROW, f" {alike.new}{doubt}", indent=4)
        shown = alike.example
        if shown is not None:
            before, after = quiet(f"{shown.command}  {shown.old} "), quiet(f" {shown.new}")
            yield line(before, Cell("→", Meaning.QUIET, "->"), after, indent=16)
