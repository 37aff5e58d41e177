"""Rows of a matrix that are shown as one: the methods of one line, or all endpoints that treat callers alike."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ..core.matrix import Cell, Row

Rows = list[tuple["Row", list["Cell"]]]
Marked = Callable[["Row"], list[bool]]


@dataclass(slots=True)
class Joined:
    """What is shown in one row.

    Attributes:
        area: what it is shown under; an empty string for nothing.
        names: the endpoints, as ``GET POST /sign-in``.
        rows: their rows.
        cells: the cells that they have in common.
    """

    area: str
    names: list[str]
    rows: list[Row]
    cells: list[Cell]

    @property
    def row(self) -> Row:
        """The first of the rows."""
        return self.rows[0]


def joined_rows(rows: Rows, marked: Marked) -> list[Joined]:
    """Rows by area, with the methods of one line and the same cells in one row.

    Areas of one row are gathered under ``/``: a heading for each of them would be longer than what it heads.

    Args:
        rows: the rows with their cells.
        marked: what is marked in a row; rows with different marks are not joined.
    """
    areas: dict[str, list[Joined]] = {}
    for row, cells in rows:
        joined = areas.setdefault(row.area, [])
        last = joined[-1] if joined else None
        if last and last.row.line is row.line and last.cells == cells and marked(last.row) == marked(row):
            last.rows.append(row)
            last.names = [f"{' '.join(each.method for each in last.rows)} {row.path}"]
        else:
            joined.append(Joined(row.area, [f"{row.method} {row.path}"], [row], cells))
    alone = [each for area, joined in areas.items() if len(joined) == 1 or area == "/" for each in joined]
    for each in alone:
        each.area = "/"
    return alone + [each for area, joined in areas.items() if len(joined) > 1 and area != "/" for each in joined]


def folded_rows(rows: Rows, marked: Marked) -> list[Joined]:
    """All endpoints that treat callers alike in one row, in the order of the first of each."""
    by_line: dict[object, Joined] = {}
    for joined_row in joined_rows(rows, marked):
        row = joined_row.row
        marks = tuple((rule.requirement.words(), columns) for rule, _, columns in row.marks)
        key = (
            tuple((cell.outcome, cell.remainder and cell.remainder.words()) for cell in joined_row.cells),
            marks,
            tuple(marked(row)),
            tuple(guard.text for guard in row.line.guards),
        )
        if key in by_line:
            by_line[key].names += joined_row.names
            by_line[key].rows += joined_row.rows
        else:
            joined_row.area = ""
            by_line[key] = joined_row
    return list(by_line.values())
