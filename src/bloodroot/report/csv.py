"""CSV (RFC 4180): the matrix as a table of words, the form that a reviewed table has too."""

from __future__ import annotations

import csv
import io
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ..core.matrix import Matrix


def matrix(result: Matrix) -> str:
    """``method``, ``path``, then a column for each kind of caller: ``allow``, ``deny``, ``sign-in`` or ``if NAME``."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["method", "path", *(column.name for column in result.columns)])
    for row in result.rows:
        writer.writerow([row.method, row.path, *(cell.words() for cell in result.cells(row))])
    return text.getvalue()
