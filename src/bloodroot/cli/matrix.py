"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from ..report.registry import Format
from . import completing
from .options import PersonasOption, ProjectFiles, with_options
from .output import Delivery, UsageError

if TYPE_CHECKING:
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..review.observed import Cells


@dataclass(frozen=True)
class MatrixPart:
    """The part of a matrix that is shown.

    Attributes:
        personas: whether it has a column for each persona, and not for each role.
        only: patterns of the endpoints; empty for all.
        role: names of the columns; empty for all.
        open_to_anyone: whether only what lets signed-out callers in is shown.
    """

    personas: PersonasOption = False
    only: Annotated[
        list[str],
        typer.Option(
            "--only",
            metavar="PATTERN",
            help='Only such endpoints, as "/trials*" or "DELETE *"; repeatable.',
            autocompletion=completing.words(completing.pattern),
        ),
    ] = field(default_factory=list)
    role: Annotated[
        list[str],
        typer.Option(
            "--role",
            metavar="NAME",
            help="Only this column, a role or a persona; repeatable.",
            autocompletion=completing.words(completing.column),
        ),
    ] = field(default_factory=list)
    open_to_anyone: Annotated[
        bool, typer.Option("--open", help="Only endpoints that let signed-out callers in, if only sometimes.")
    ] = False


@with_options("MatrixResult")
def matrix(
    files: ProjectFiles,
    part: MatrixPart,
    *,
    fold: Annotated[bool, typer.Option("--fold", help="Show endpoints that treat callers alike as one row.")] = False,
    guards: Annotated[bool, typer.Option("--guards", help="Show what guards in handlers require.")] = False,
    observed: Annotated[
        Path | None,
        typer.Option("--observed", metavar="JOURNAL", help="With --format html: what a probe observed."),
    ] = None,
    shown: Delivery,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..report.results import MatrixResult
    from ..review.observed import observed_cells
    from . import inputs

    shown.check()
    if observed is not None and shown.chosen_format() is not Format.HTML:
        raise UsageError("--observed is shown by --format html; bloodroot tried JOURNAL shows what was tried")
    if (fold or guards) and shown.chosen_format() is not Format.TABLE:
        raise UsageError("--fold and --guards are for the table; other formats have every endpoint and every guard")
    rules, _, settings = inputs.bound_project(files)
    callers = inputs.callers_of_personas(settings) if part.personas else None
    whole = matrix_of_callers(rules, callers) if callers is not None else matrix_of_roles(rules)
    selected = _selected(rules, whole, part)
    if callers is not None:
        callers = {column.name: callers[column.name] for column in selected.matrix.columns}
    cells = None
    if observed is not None:
        columns = inputs.columns_of_decisions(rules, whole, settings, personas=part.personas)
        cells = selected.own(observed_cells(rules, selected.matrix, observed, columns))
    shown.deliver(MatrixResult(rules, selected.matrix, callers, cells, fold, guards))


class _Selected(NamedTuple):
    """A part of a matrix.

    Attributes:
        matrix: the part.
        numbers: the numbers of its columns in the whole.
    """

    matrix: Matrix
    numbers: list[int]

    def own(self, cells: Cells) -> Cells:
        """Those cells that the part has, with its own columns; they are by number of row and of column in the whole."""
        return {
            (row, self.numbers.index(column)): observed
            for (row, column), observed in cells.items()
            if column in self.numbers
        }


def _selected(policy: Policy, matrix: Matrix, part: MatrixPart) -> _Selected:
    """The part of a matrix that is shown.

    Raises:
        UsageError: there is no such column or endpoint.
    """
    from ..core.matrix import matrix_of_roles
    from ..core.patterns import check_patterns, matches
    from ..core.selecting import open_to_signed_out, with_columns, with_rows
    from ..language.problems import suggestion

    names = [column.name for column in matrix.columns]
    for name in part.role:
        if name not in names:
            guess = suggestion(name, names) or f"; known are {', '.join(names)}"
            raise UsageError(f'--role: there is no column "{name}"{guess}')
    numbers = [number for number, name in enumerate(names) if not part.role or name in part.role]
    if only := part.only:
        check_patterns("--only", only, (f"{method} {row.path}" for row in matrix.rows for method in row.methods))
        matrix = with_rows(matrix, lambda row: any(matches(f"{method} {row.path}", only) for method in row.methods))
    if part.open_to_anyone:
        opened = open_to_signed_out(matrix_of_roles(policy))
        matrix = with_rows(matrix, lambda row: (row.methods, row.line.order, row.path) in opened)
    return _Selected(with_columns(matrix, numbers) if part.role else matrix, numbers)
