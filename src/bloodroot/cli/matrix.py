"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .output import (
    BlessOption,
    Color,
    ColorOption,
    ExpectOption,
    FormatOfMatrix,
    OutOption,
    PolicyOption,
    SettingsOption,
    UsageError,
)

if TYPE_CHECKING:
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..observed_cells import Cells
    from ..settings import Settings
    from ..tried import Columns, TriedResult


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")] = False,
    expect: ExpectOption = None,
    bless: BlessOption = False,
    tried: Annotated[
        list[Path] | None,
        typer.Option(
            "--tried", metavar="LOG", help="Show what was ever tried, by an audit log or a probe's journal; repeatable."
        ),
    ] = None,
    fail_untried: Annotated[
        list[str] | None,
        typer.Option(
            "--fail-untried", metavar="PATTERN", help='Fail where a cell at such endpoints was not, as "DELETE *".'
        ),
    ] = None,
    journal: Annotated[
        Path | None,
        typer.Option("--journal", metavar="FILE", help="With --format html: what a probe observed, by its journal."),
    ] = None,
    form: Annotated[
        FormatOfMatrix | None,
        typer.Option("--format", help="The format; table by default, or what the ending of --out says."),
    ] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show who gets in where: roles against endpoints."""
    from dataclasses import replace

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
    if bless and expect is None:
        raise UsageError("--bless writes the table that --expect FILE names")
    if fail_untried and tried is None:
        raise UsageError("--fail-untried is about what --tried LOG shows")
    if tried is not None:
        held = _tried(rules, result, found, tried, personas=personas)
        output.deliver(held, form, out, color)
        if any(
            output.matches(f"{method} {each.row.path}", fail_untried or [])
            for each in held.lacking
            for method in each.row.methods
        ):
            raise typer.Exit(1)
        return
    if expect is None:
        callers = {name: each.caller for name, each in found.personas.items()} if personas and found else None
        shown = MatrixResult(rules, result, callers)
        if journal is not None:
            shown = replace(shown, observed=_observed(rules, result, found, journal, personas=personas))
        output.deliver(shown, form, out, color)
        return
    columns = [column.name for column in result.columns]
    output.deliver_held(matrix_as_it_is(rules, result), columns, expect, form, out, color, bless=bless)


def _columns(policy: Policy, matrix: Matrix, settings: Settings | None, *, personas: bool) -> Columns:
    """In which columns of a matrix what somebody did counts."""
    from ..tried import columns_of_callers, columns_of_roles
    from . import inputs

    settings = inputs.with_members(settings)
    callers = {name: each.caller for name, each in settings.personas.items()} if settings is not None else {}
    return columns_of_callers(callers) if personas else columns_of_roles(policy, matrix, callers)


def _tried(
    policy: Policy, matrix: Matrix, settings: Settings | None, logs: list[Path], *, personas: bool
) -> TriedResult:
    """The matrix held against what was written down."""
    from itertools import chain

    from ..tried import hold_tried, read_tried

    columns = _columns(policy, matrix, settings, personas=personas)
    return hold_tried(policy, matrix, chain.from_iterable(map(read_tried, logs)), columns, logs)


def _observed(policy: Policy, matrix: Matrix, settings: Settings | None, journal: Path, *, personas: bool) -> Cells:
    """What a probe observed in the cells of the matrix."""
    from ..observed_cells import observed_cells

    return observed_cells(policy, matrix, journal, _columns(policy, matrix, settings, personas=personas))
