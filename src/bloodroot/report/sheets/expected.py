"""A matrix, or an application, compared with reviewed tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..sheet import Cell, Meaning, Section, Sheet, endpoint, place, plural, strong, text_section

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ...review.expected import ExpectedResult, Redefined

_MOST_UNSAID = 12
_MOST_REDEFINED = 40


def expected(result: ExpectedResult) -> Sheet:
    """The counts, each cell and definition that differs with both places, and what no table has."""
    sections = []
    if result.mismatches:
        heads = ("", "caller", "expected", "is", "table", "line")
        sections.append(Section(heads=heads, rows=tuple(_mismatches(result))))
    if result.redefined and result.written is None:
        shown = result.redefined[:_MOST_REDEFINED]
        rows = tuple(_redefined(each) for each in shown)
        sections.append(Section(heads=("definition", "expected", "is", "table", "line"), rows=rows))
        more = len(result.redefined) - len(shown)
        if more:
            sections.append(text_section([f"and {plural(more, 'definition')} more"]))
    if result.unsaid and result.written is None:
        names = (f"{' '.join(row.methods)} {row.path}" for row in result.unsaid)
        sections.append(text_section(names, title="Endpoints that no table has:", most=_MOST_UNSAID))
    if result.callers and result.written is None:
        sections.append(text_section(result.callers, title="Callers that no table has a column for:"))
    if result.doubts:
        sections.append(text_section((doubt.words for doubt in result.doubts), title="What the probe itself says:"))
    well = not (result.mismatches or result.redefined or result.unsaid or result.callers)
    return Sheet(
        Cell(_headline(result), Meaning.GOOD if well and not result.doubts else Meaning.WRONG),
        tuple(sections),
        (_next(result),),
        ("method", "path", "caller", "expected", "actual", "table"),
        _data(result),
    )


def _data(result: ExpectedResult) -> Iterator[tuple[str, ...]]:
    """A row for each thing that is not as expected."""
    for mismatch in result.mismatches:
        row = mismatch.row
        yield row.method, row.path, mismatch.column, mismatch.expected, mismatch.actual, row.at
    for each in result.redefined:
        found = each.actual or each.expected
        assert found is not None
        yield found.kind, found.name, "", *_texts(each), each.expected.at if each.expected else ""
    for missing in result.unsaid:
        yield " ".join(missing.methods), missing.path, "", "", "in no table", ""
    for caller in result.callers:
        yield "", "", caller, "", "in no table", ""


def _headline(result: ExpectedResult) -> str:
    tables = ", ".join(result.files)
    counts = (
        (result.mismatches, "cell"),
        (result.redefined, "definition"),
        (result.unsaid, "endpoint"),
        (result.callers, "caller"),
    )
    differ = [plural(len(found), what) for found, what in counts if found]
    if result.written is not None and not result.agreed and not result.mismatches:
        return (
            f"{tables} is new: {plural(len(result.unsaid), 'endpoint')}, {plural(len(result.redefined), 'definition')}"
        )
    if differ:
        return f"{', '.join(differ)} not as in {tables}; {result.agreed} as expected"
    also = f"; {plural(result.silent, 'cell')} of it empty, and not looked at" if result.silent else ""
    what = "cells" if result.observed else "cells and definitions"
    return f"{result.agreed} {what} as in {tables}{also}"


def _texts(each: Redefined) -> tuple[str, str]:
    said = (each.expected.text or "defined") if each.expected is not None else "not in a table"
    actual = (each.actual.text or "defined") if each.actual is not None else "not defined"
    return said, actual


def _redefined(each: Redefined) -> tuple[Cell | str, ...]:
    said, actual = _texts(each)
    return (
        strong(each.name),
        said,
        strong(actual),
        each.expected.at if each.expected is not None else "",
        place(each.actual.place.at) if each.actual is not None else "",
    )


def _mismatches(result: ExpectedResult) -> Iterator[tuple[Cell | str, ...]]:
    uncovered: set[str] = set()
    for mismatch in result.mismatches:
        name = endpoint(f"{mismatch.row.method} {mismatch.row.path}")
        if mismatch.line is not None:
            yield (
                name,
                mismatch.column,
                mismatch.expected or "no more than its cells",
                strong(mismatch.actual or "no more than its cells"),
                mismatch.row.at,
                place(mismatch.line.place.at),
            )
        elif mismatch.row.at not in uncovered:
            # Nothing covers the endpoint: one row for all of its cells.
            uncovered.add(mismatch.row.at)
            wanted = "a line" if mismatch.actual == "no line" else "an answer"
            yield name, f"all {len(mismatch.row.cells)}", wanted, strong(mismatch.actual), mismatch.row.at, ""


def _next(result: ExpectedResult) -> str:
    if result.written is not None:
        added = f", {plural(len(result.unsaid), 'endpoint')} added" if result.unsaid else ""
        defined = f", {plural(len(result.redefined), 'definition')} written" if result.redefined else ""
        changed = plural(len(result.mismatches), "cell")
        return f"Wrote {result.written}: {changed} changed{added}{defined}. Have it reviewed."
    if result.mismatches or result.redefined:
        return "Next: correct what is wrong; or, where the change is right, add --update and have the table reviewed."
    if result.unsaid or result.callers:
        return "Next: add what is missing with --update, and have the table reviewed."
    if any(doubt.found for doubt in result.doubts):
        return "Every cell is as expected, but the probe found what the table does not show: run bloodroot probe again."
    if result.doubts:
        return "Every cell is as expected, but the probe did not judge everything; --allow-unjudged accepts that."
    if result.silent:
        return "Everything else is as expected. Fill the empty cells in, or add --allow-unjudged."
    return "Every cell and every definition is as expected, and everything is in the tables."
