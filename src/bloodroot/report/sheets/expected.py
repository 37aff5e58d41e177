"""A matrix, or an application, compared with reviewed tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..sheet import Cell, Meaning, Section, Sheet, endpoint, place, plural, strong, text_section

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ...review.expected import ExpectedResult

_MOST_UNSAID = 12


def expected(result: ExpectedResult) -> Sheet:
    """The counts, each cell that differs with both places, and the endpoints that no table has."""
    differ, tables = len(result.mismatches), ", ".join(result.files)
    headline = f"{plural(differ, 'cell')} not as in {tables}, {result.agreed} as expected"
    if not differ:
        headline = f"{plural(result.agreed, 'cell')} as in {tables}"
    sections = []
    if differ:
        heads = ("", "caller", "expected", "is", "table", "line")
        sections.append(Section(heads=heads, rows=tuple(_mismatches(result))))
    if result.unsaid and result.written is None:
        names = (f"{' '.join(row.methods)} {row.path}" for row in result.unsaid)
        sections.append(text_section(names, title="Endpoints that no table has:", most=_MOST_UNSAID))
    return Sheet(
        Cell(headline, Meaning.WRONG if differ else Meaning.GOOD),
        tuple(sections),
        (_next(result),),
        ("method", "path", "caller", "expected", "actual", "table"),
        (
            (
                mismatch.row.method,
                mismatch.row.path,
                mismatch.column,
                mismatch.expected,
                mismatch.actual,
                mismatch.row.at,
            )
            for mismatch in result.mismatches
        ),
    )


def _mismatches(result: ExpectedResult) -> Iterator[tuple[Cell | str, ...]]:
    uncovered: set[str] = set()
    for mismatch in result.mismatches:
        name = endpoint(f"{mismatch.row.method} {mismatch.row.path}")
        if mismatch.line is not None:
            yield (
                name,
                mismatch.column,
                mismatch.expected,
                strong(mismatch.actual),
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
        return f"Wrote {result.written}: {plural(len(result.mismatches), 'cell')} changed{added}. Have it reviewed."
    if result.mismatches:
        return "Next: correct what is wrong; or, where the change is right, add --update and have the table reviewed."
    if result.unsaid:
        return "Next: add these endpoints with --update, and have the table reviewed."
    return "Every cell that the tables have is as expected, and every endpoint is in them."
