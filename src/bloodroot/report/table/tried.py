"""A matrix with what of it was tried, as a person reads it in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.text import Text

from ..words import GOOD, WARN, plural
from .matrix import sheets

if TYPE_CHECKING:
    from ...review.tried import Lacking, TriedResult

_MOST = 20


def tried(result: TriedResult, console: Console) -> RenderableType:
    """How many cells were tried, the matrix with a mark at each that was not, and these in words."""
    lacking = result.lacking
    of = plural(result.decisions, "decision")
    summary = f"{result.cells - len(lacking)} of {result.cells} cells tried, by {of} in {', '.join(result.files)}"
    parts: list[RenderableType] = [Text(summary, style=f"bold {WARN}" if lacking else f"bold {GOOD}")]
    parts += sheets(result.matrix, console, frozenset((id(each.row), each.column) for each in lacking))
    if lacking:
        parts += [Text("! not tried, or on one side only"), Text(), Text("No one asks", style="bold")]
        groups = _by_endpoint(result)
        parts += [Text(f"  {line}") for line in groups[:_MOST]]
        if len(groups) > _MOST:
            parts.append(Text(f"  and at {plural(len(groups) - _MOST, 'endpoint')} more; --format csv has every cell"))
    if result.others:
        text = (
            f"{plural(result.others, 'decision')} of callers who are in no column, or at endpoints in no row, left out"
        )
        parts += [Text(), Text(text, style="dim")]
    return Group(*parts, Text(), Text(_next(result)))


def _by_endpoint(result: TriedResult) -> list[str]:
    names = [column.name for column in result.matrix.columns]
    groups: dict[int, list[Lacking]] = {}
    for each in result.lacking:
        groups.setdefault(id(each.row), []).append(each)
    found = []
    for group in groups.values():
        by_side: dict[str, list[str]] = {}
        for each in group:
            by_side.setdefault(each.side, []).append(names[each.column])
        said = [f"as {', '.join(columns)}{side}" for side, columns in by_side.items()]
        found.append(f"{group[0].row.method} {group[0].row.path} {'; '.join(said)}")
    return found


def _next(result: TriedResult) -> str:
    if result.lacking:
        return "Next: bloodroot probe asks them all; bloodroot.testing makes a test of each endpoint and persona."
    return "Every cell was tried."
