"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from typing import Annotated

import typer

from .output import (
    BlessOption,
    Color,
    ColorOption,
    ExpectOption,
    FormatOption,
    OutOption,
    PolicyOption,
    SettingsOption,
    UsageError,
)


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")] = False,
    expect: ExpectOption = None,
    bless: BlessOption = False,
    form: FormatOption = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..expected import matrix_as_it_is
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
    columns = [column.name for column in result.columns]
    output.deliver_held(matrix_as_it_is(rules, result), columns, expect, form, out, color, bless=bless)
