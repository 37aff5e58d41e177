"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from ..report.registry import Format
from . import completing
from .output import (
    Color,
    ColorOption,
    OutOption,
    PersonasOption,
    PolicyOption,
    SettingsOption,
    UsageError,
    format_option,
)

if TYPE_CHECKING:
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..review.observed import Cells
    from ..settings import Settings


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: PersonasOption = False,
    only: Annotated[
        list[str] | None,
        typer.Option(
            "--only",
            metavar="PATTERN",
            help='Only such endpoints, as "/trials*" or "DELETE *"; repeatable.',
            autocompletion=completing.words(completing.pattern),
        ),
    ] = None,
    role: Annotated[
        list[str] | None,
        typer.Option(
            "--role",
            metavar="NAME",
            help="Only this column, a role or a persona; repeatable.",
            autocompletion=completing.words(completing.column),
        ),
    ] = None,
    open_to_anyone: Annotated[
        bool, typer.Option("--open", help="Only endpoints that let signed-out callers in, if only sometimes.")
    ] = False,
    fold: Annotated[bool, typer.Option("--fold", help="Show endpoints that treat callers alike as one row.")] = False,
    guards: Annotated[bool, typer.Option("--guards", help="Show what guards in handlers require.")] = False,
    observed: Annotated[
        Path | None,
        typer.Option("--observed", metavar="JOURNAL", help="With --format html: what a probe observed."),
    ] = None,
    form: Annotated[str | None, format_option("MatrixResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..report.results import MatrixResult
    from . import inputs, output

    output.check_out(form, out)
    if observed is not None and output.format_of(form, out) is not Format.HTML:
        raise UsageError("--observed is shown by --format html; bloodroot tried JOURNAL shows what was tried")
    if (fold or guards) and output.format_of(form, out) is not Format.TABLE:
        raise UsageError("--fold and --guards are for the table; other formats have every endpoint and every guard")
    rules, project = inputs.bound_project(policy, settings)
    callers = inputs.callers_of_personas(project) if personas else None
    whole = matrix_of_callers(rules, callers) if callers is not None else matrix_of_roles(rules)
    shown, numbers = _selected(rules, whole, only or [], role or [], open_to_anyone=open_to_anyone)
    if callers is not None:
        callers = {whole.columns[number].name: callers[whole.columns[number].name] for number in numbers}
    cells = _observed(rules, whole, shown, numbers, project, observed, personas=personas) if observed else None
    output.deliver(MatrixResult(rules, shown, callers, cells, fold, guards), form, out, color)


def _selected(
    policy: Policy, matrix: Matrix, only: list[str], roles: list[str], *, open_to_anyone: bool
) -> tuple[Matrix, list[int]]:
    """The part of a matrix that is shown, and the numbers of its columns in the whole.

    Raises:
        UsageError: there is no such column or endpoint.
    """
    from ..core.matrix import matrix_of_roles
    from ..core.patterns import check_patterns, matches
    from ..core.selecting import open_to_signed_out, with_columns, with_rows
    from ..language.problems import suggestion

    names = [column.name for column in matrix.columns]
    for name in roles:
        if name not in names:
            guess = suggestion(name, names) or f"; known are {', '.join(names)}"
            raise UsageError(f'--role: there is no column "{name}"{guess}')
    numbers = [number for number, name in enumerate(names) if not roles or name in roles]
    if only:
        check_patterns("--only", only, (f"{method} {row.path}" for row in matrix.rows for method in row.methods))
        matrix = with_rows(matrix, lambda row: any(matches(f"{method} {row.path}", only) for method in row.methods))
    if open_to_anyone:
        opened = open_to_signed_out(matrix_of_roles(policy))
        matrix = with_rows(matrix, lambda row: (row.methods, row.line.order, row.path) in opened)
    return (with_columns(matrix, numbers) if roles else matrix), numbers


def _observed(
    policy: Policy,
    whole: Matrix,
    shown: Matrix,
    numbers: list[int],
    settings: Settings | None,
    journal: Path,
    *,
    personas: bool,
) -> Cells:
    """What a probe observed in the cells that are shown, whose columns have these numbers in the whole matrix."""
    from ..review.observed import observed_cells
    from . import inputs

    columns = inputs.columns_of_decisions(policy, whole, settings, personas=personas)
    cells = observed_cells(policy, shown, journal, columns)
    return {(row, numbers.index(column)): observed for (row, column), observed in cells.items() if column in numbers}
