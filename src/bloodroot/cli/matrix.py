"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from .output import Color, ColorOption, OutOption, PolicyOption, SettingsOption, UsageError


class Format(StrEnum):
    """The formats of a matrix."""

    TABLE = "table"
    CSV = "csv"


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")] = False,
    form: Annotated[Format | None, typer.Option("--format", help="How to show it; table by default.")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..report import csv, table
    from . import output

    rules, found = output.project(policy, settings)
    if personas:
        if found is None or not found.personas:
            raise UsageError("there are no personas; write [personas.NAME] in bloodroot.toml")
        result = matrix_of_callers(rules, {name: each.caller for name, each in found.personas.items()})
    else:
        result = matrix_of_roles(rules)
    chosen = form or _by_ending(out)
    if out is not None:
        if chosen is Format.TABLE:
            raise UsageError("a table is for the terminal; write a file with --format csv or a name ending in .csv")
        output.write(out, csv.matrix(result))
    elif chosen is Format.CSV:
        typer.echo(csv.matrix(result), nl=False)
    else:
        console = output.console(color)
        output.show(console, table.matrix(result, rules, console))


def _by_ending(out: object) -> Format:
    return Format.CSV if str(out).endswith(".csv") else Format.TABLE
