"""The matrix."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from ...core.decision import Outcome
from ..sheet import Grid, Section, Sheet, plural, strong

if TYPE_CHECKING:
    from ..results import MatrixResult


def matrix(result: MatrixResult) -> Sheet:
    """Endpoints down the side by area of the path, kinds of caller across the top from least to most."""
    found = result.matrix
    cells = Counter(cell.outcome for row in found.rows for cell in found.cells(row))
    counts = ", ".join(f"{cells[outcome]} {outcome.value}" for outcome in Outcome)
    title = result.policy.title or "Policy"
    headline = (
        f"{title}: {plural(len(found.rows), 'endpoint')}, {plural(len(found.columns), 'kind')} of caller; {counts}"
    )
    return Sheet(
        strong(headline),
        (Section(grid=Grid(found, folded=result.folded, guards=result.guards)),),
        columns=("method", "path", *(column.name for column in found.columns)),
        rows=((row.method, row.path, *(cell.words() for cell in found.cells(row))) for row in found.rows),
    )
