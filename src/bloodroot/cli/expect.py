"""bloodroot expect: the matrix, or the application, against reviewed tables."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .output import Color, ColorOption, OutOption, PersonasOption, PolicyOption, SettingsOption, format_option

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..review.expected import Actual
    from ..settings import Settings


def expect(
    tables: Annotated[
        list[Path], typer.Argument(metavar="TABLE", help="A reviewed table: CSV, as bloodroot matrix writes it.")
    ],
    update: Annotated[
        bool, typer.Option("--update", help="Write the table to match current access, after showing what changes.")
    ] = False,
    personas: PersonasOption = False,
    observed: Annotated[
        list[Path] | None,
        typer.Option(
            "--observed", metavar="JOURNAL", help="Compare what the application answered to a probe; repeatable."
        ),
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("ExpectedResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Compare the matrix, or what the application answered, with reviewed tables."""
    from ..review.expected import hold_files
    from ..writing import write_text
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.bound_project(policy, settings)
    actual, columns = _actual(rules, project, observed or [], personas=personas)
    result, text = hold_files(actual, columns, tables, update=update)
    output.deliver(result, form, out, color)
    if update:
        write_text(tables[0], text)
    elif result.mismatches:
        raise typer.Exit(1)


def _actual(
    policy: Policy, settings: Settings | None, journals: list[Path], *, personas: bool
) -> tuple[Actual, list[str]]:
    """What is compared with the tables, and the columns that they may have."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..review.expected import matrix_as_it_is
    from ..review.observed import application_as_observed
    from . import inputs

    if journals:
        callers = inputs.callers_of_personas(settings)
        return application_as_observed(policy, callers, journals), list(callers)
    of_personas = inputs.callers_of_personas(settings) if personas else None
    matrix = matrix_of_callers(policy, of_personas) if of_personas is not None else matrix_of_roles(policy)
    return matrix_as_it_is(policy, matrix, of_personas), [column.name for column in matrix.columns]
