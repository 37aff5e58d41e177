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
        found = areas.setdefault(row.area, [])
        last = found[-1] if found else None
        if last and last.row.line is row.line and last.cells == cells and marked(last.row) == marked(row):
            last.rows.append(row)
            last.names = [f"{' '.join(each.method for each in last.rows)} {row.path}"]
        else:
            found.append(Joined(row.area, [f"{row.method} {row.path}"], [row], cells))
    alone = [each for area, found in areas.items() if len(found) == 1 or area == "/" for each in found]
    for each in alone:
        each.area = "/"
    return alone + [each for area, found in areas.items() if len(found) > 1 and area != "/" for each in found]


def folded_rows(rows: Rows, marked: Marked) -> list[Joined]:
    """All endpoints that treat callers alike in one row, in the order of the first of each."""
    found: dict[object, Joined] = {}
    for joined_row in joined_rows(rows, marked):
        row = joined_row.row
        marks = tuple((rule.requirement.words(), columns) for rule, _, columns in row.marks)
        key = (
            tuple((cell.outcome, cell.remainder and cell.remainder.words()) for cell in joined_row.cells),
            marks,
            tuple(marked(row)),
            tuple(guard.text for guard in row.line.guards),
        )
        if key in found:
            found[key].names += joined_row.names
            found[key].rows += joined_row.rows
        else:
            joined_row.area = ""
            found[key] = joined_row
    return list(found.values())
