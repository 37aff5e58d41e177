"""A matrix held against reviewed tables, as a person reads it in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ..words import GOOD, WRONG, plural

if TYPE_CHECKING:
    from ...review.expected import ExpectedResult

_MOST_UNSAID = 12


def expected(result: ExpectedResult, _: Console) -> RenderableType:
    """The counts, each cell that differs with both places, and what no table says."""
    differ = len(result.mismatches)
    style = f"bold {WRONG}" if differ else f"bold {GOOD}"
    of = ", ".join(result.files)
    parts: list[RenderableType] = [
        Text(f"{plural(differ, 'cell')} not as in {of}, {result.agreed} as expected", style=style)
    ]
    if differ:
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
        for head in ("", "caller", "expected", "is", "table", "line"):
            table.add_column(head, overflow="fold")
        uncovered: set[str] = set()
        for each in result.mismatches:
            if each.line is None and each.row.at in uncovered:
                continue
            caller, wanted = each.column, each.expected
            if each.line is None:
                # Nothing covers the endpoint: one row for all of its cells.
                uncovered.add(each.row.at)
                caller, wanted = f"all {len(each.row.cells)}", "a line"
            line = each.line.place.at if each.line is not None else ""
            endpoint = f"{each.row.method} {each.row.path}"
            table.add_row(endpoint, caller, wanted, Text(each.actual, style="bold"), each.row.at, line)
        parts += [Text(), table]
    if result.unsaid and result.written is None:
        parts += [Text(), Text("Endpoints that no table has:", style="bold")]
        parts += [Text(f"  {' '.join(row.methods)} {row.path}") for row in result.unsaid[:_MOST_UNSAID]]
        if len(result.unsaid) > _MOST_UNSAID:
            parts.append(Text(f"  and {len(result.unsaid) - _MOST_UNSAID} more"))
    return Group(*parts, Text(), Text(_next(result)))


def _next(result: ExpectedResult) -> str:
    if result.written is not None:
        added = f", {plural(len(result.unsaid), 'endpoint')} added" if result.unsaid else ""
        return f"Wrote {result.written}: {plural(len(result.mismatches), 'cell')} changed{added}. Have it reviewed."
    if result.mismatches:
        return "Next: correct what is wrong; or, where the change is right, add --update and have the table reviewed."
    if result.unsaid:
        return "Next: add these endpoints with --update, and have the table reviewed."
    return "Every cell that the tables have is as expected, and every endpoint is in them."
