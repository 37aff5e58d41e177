"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .output import Color, ColorOption, FormatOption, OutOption, PolicyOption, SettingsOption, UsageError

if TYPE_CHECKING:
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..expected import ExpectedResult


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")] = False,
    expect: Annotated[
        list[Path] | None,
        typer.Option(
            "--expect", metavar="FILE", help="Hold the matrix against a reviewed table, a CSV file; repeatable."
        ),
    ] = None,
    bless: Annotated[
        bool, typer.Option("--bless", help="Write the table of --expect as the matrix is, after showing what changes.")
    ] = False,
    form: FormatOption = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..report.results import MatrixResult
    from . import inputs, output

    output.check_out(form, out)
    rules, found = inputs.bound_project(policy, settings)
    if personas:
        if found is None or not found.personas:
            raise UsageError("there are no personas; write [personas.NAME] in bloodroot.toml")
        found = inputs.with_members(found) or found
        result = matrix_of_callers(rules, {name: each.caller for name, each in found.personas.items()})
    else:
        result = matrix_of_roles(rules)
    if expect is None:
        if bless:
            raise UsageError("--bless writes the table that --expect FILE names")
        output.deliver(MatrixResult(rules, result), form, out, color)
        return
    held = _held_against(rules, result, expect, bless=bless)
    output.deliver(held, form, out, color)
    if held.mismatches and not bless:
        raise typer.Exit(1)


def _held_against(policy: Policy, matrix: Matrix, files: list[Path], *, bless: bool) -> ExpectedResult:
    """The matrix held against tables; with ``bless`` the one table is written as the matrix is."""
    from dataclasses import replace

    from ..expected import blessed, columns_of, hold_against, read_expected
    from ..writing import write_text

    columns = [column.name for column in matrix.columns]
    if not bless:
        return hold_against(policy, matrix, [row for file in files for row in read_expected(file, columns)], files)
    if len(files) > 1:
        raise UsageError("--bless writes one table; name one with --expect FILE")
    file = files[0]
    rows = read_expected(file, columns) if file.exists() else []
    held = hold_against(policy, matrix, rows, files)
    text = blessed(matrix, policy, rows, columns_of(file) if file.exists() else columns)
    write_text(file, text)
    return replace(held, written=str(file))
