"""CSV (RFC 4180), for spreadsheets; the matrix in the form that a reviewed table has too."""

from __future__ import annotations

import csv
import io
from typing import Any

from .sheet import Sheet, printable


def write(sheet: Sheet) -> str:
    """The list of a sheet."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(sheet.columns)
    writer.writerows([_inert(cell) for cell in row] for row in sheet.rows)
    return text.getvalue()


def _inert(cell: Any) -> Any:
    """A cell that no spreadsheet takes for a formula: names in it may come from a directory or an application."""
    if not isinstance(cell, str):
        return cell
    cell = printable(cell)
    return f"'{cell}" if cell[:1] in ("=", "+", "-", "@") else cell
