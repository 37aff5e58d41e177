"""bloodroot expect: the matrix, or the application, against reviewed tables."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .options import PersonasOption, ProjectFiles, with_options
from .output import JudgedDelivery

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..review.definitions import Definition
    from ..review.expected import Held
    from ..settings import Settings


@with_options("ExpectedResult")
def expect(
    tables: Annotated[
        list[Path], typer.Argument(metavar="TABLE", help="A reviewed table: CSV, as --update writes it.")
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
    *,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """Compare the matrix, or what the application answered, with reviewed tables."""
    from ..review.definitions import definitions
    from ..review.expected import hold_files
    from ..writing import write_text
    from . import inputs

    shown.check()
    rules, document, settings = inputs.bound_project(files)
    held = _held(rules, definitions(document), settings, observed or [], personas=personas)
    result, text = hold_files(held, tables, update=update)
    shown.deliver(result)
    if update:
        write_text(tables[0], text)
    shown.end(result.ending)


def _held(
    policy: Policy, defined: list[Definition], settings: Settings | None, journals: list[Path], *, personas: bool
) -> Held:
    """What the tables are held against."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..review.expected import Held, matrix_as_it_is
    from ..review.observed import application_as_observed
    from . import inputs

    if journals:
        callers = inputs.callers_of_personas(settings)
        actual, doubts = application_as_observed(policy, callers, journals)
        return Held(actual, list(callers), defined, observed=True, doubts=doubts)
    of_personas = inputs.callers_of_personas(settings) if personas else None
    matrix = matrix_of_callers(policy, of_personas) if of_personas is not None else matrix_of_roles(policy)
    return Held(matrix_as_it_is(policy, matrix, of_personas), [column.name for column in matrix.columns], defined)
