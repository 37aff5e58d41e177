"""bloodroot tried: which cells of the matrix were tried."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .options import PersonasOption, ProjectFiles, with_options
from .output import JudgedDelivery

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ..core.matrix import Row


@with_options("TriedResult")
def tried(
    logs: Annotated[
        list[Path], typer.Argument(metavar="LOG", help="An audit log, of tests or production, or a probe's journal.")
    ],
    personas: PersonasOption = False,
    fail: Annotated[
        list[str] | None,
        typer.Option(
            "--fail", metavar="PATTERN", help='Fail where a cell at such endpoints was not, as "DELETE *"; repeatable.'
        ),
    ] = None,
    *,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """Show which cells of the matrix were tried, by tests, probes or production."""
    from collections import Counter
    from itertools import chain

    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..core.patterns import check_patterns, matches
    from ..review.tried import hold_tried, read_tried
    from . import inputs

    shown.check()
    rules, _, settings = inputs.bound_project(files)
    matrix = matrix_of_callers(rules, inputs.callers_of_personas(settings)) if personas else matrix_of_roles(rules)
    columns = inputs.columns_of_decisions(rules, matrix, settings, personas=personas)
    patterns = fail or []
    check_patterns("--fail", patterns, endpoints_of(matrix.rows))
    unread: Counter[Path] = Counter()
    decisions = chain.from_iterable(read_tried(log, unread) for log in logs)
    result = hold_tried(rules, matrix, decisions, columns, logs, unread)
    shown.deliver(result)
    if any(matches(endpoint, patterns) for endpoint in endpoints_of(cell.row for cell in result.lacking)):
        raise typer.Exit(1)
    shown.end(result.ending)


def endpoints_of(rows: Iterable[Row]) -> Iterator[str]:
    """The endpoints of rows of a matrix, as ``GET /trials``."""
    return (f"{method} {row.path}" for row in rows for method in row.methods)
