"""bloodroot tried: which cells of the matrix were tried."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .output import Color, ColorOption, OutOption, PersonasOption, PolicyOption, SettingsOption, format_option


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
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("TriedResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show which cells of the matrix were tried, by tests, probes or production."""
    from itertools import chain

    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..review.tried import hold_tried, read_tried
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.bound_project(policy, settings)
    matrix = matrix_of_callers(rules, inputs.callers_of_personas(project)) if personas else matrix_of_roles(rules)
    columns = inputs.columns_of_decisions(rules, matrix, project, personas=personas)
    result = hold_tried(rules, matrix, chain.from_iterable(map(read_tried, logs)), columns, logs)
    output.deliver(result, form, out, color)
    endpoints = (f"{method} {cell.row.path}" for cell in result.lacking for method in cell.row.methods)
    if any(output.matches(endpoint, fail or []) for endpoint in endpoints):
        raise typer.Exit(1)
