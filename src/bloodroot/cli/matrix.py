"""bloodroot matrix: roles, or personas, against endpoints."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from ..report import Format
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
    from ..member_access import MemberAccess
    from ..observed_cells import Cells
    from ..reviewing import Review
    from ..settings import Settings
    from ..tried import Columns, TriedResult


def matrix(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    personas: Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")] = False,
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="PATTERN", help='Only such endpoints, as "/trials*" or "DELETE *"; repeatable.'),
    ] = None,
    role: Annotated[
        list[str] | None,
        typer.Option("--role", metavar="NAME", help="Only this column, a role or a persona; repeatable."),
    ] = None,
    open_to_anyone: Annotated[
        bool, typer.Option("--open", help="Only endpoints that let signed-out callers in, if only sometimes.")
    ] = False,
    fold: Annotated[bool, typer.Option("--fold", help="Show endpoints that treat callers alike as one row.")] = False,
    guards: Annotated[bool, typer.Option("--guards", help="Show what guards in handlers require.")] = False,
    member: Annotated[
        str | None,
        typer.Option("--member", metavar="LOGIN", help="What this member of the directory may do, and through what."),
    ] = None,
    members: Annotated[
        bool,
        typer.Option(
            "--members", help="What every member holds, since when, and with --tried LOG what of it was used."
        ),
    ] = False,
    roles: Annotated[
        bool, typer.Option("--roles", help="The roles instead: who includes whom, and what each adds.")
    ] = False,
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
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..core.roles_added import roles_added
    from ..expected import matrix_as_it_is
    from ..report.results import MatrixResult, RolesResult
    from . import inputs, output

    output.check_out(form, out)
    if bless and expect is None:
        raise UsageError("--bless writes the table that --expect FILE names")
    if fail_untried and tried is None:
        raise UsageError("--fail-untried is about what --tried LOG shows")
    if (only or role or open_to_anyone) and (expect is not None or tried is not None):
        raise UsageError("--only, --role and --open choose what is shown; --expect and --tried hold all of it")
    if journal is not None and output.format_of(form, out) is not Format.HTML:
        raise UsageError("--journal is shown by --format html; --tried FILE shows a table of what was tried")
    rules, found = inputs.bound_project(policy, settings)
    other_view = sum((roles, members, member is not None))
    if other_view > 1:
        raise UsageError("--roles, --member and --members are three views; choose one")
    chosen_alone = (personas, only, role, open_to_anyone, fold, guards, expect, journal)
    if other_view and (any(chosen_alone) or fail_untried or (tried and not members)):
        raise UsageError("--roles, --member and --members go with --format and --out, and --members with --tried LOG")
    if (fold or guards) and output.format_of(form, out) is not Format.TABLE:
        raise UsageError("--fold and --guards are for the table; other formats have every endpoint and every guard")
    if roles:
        output.deliver(RolesResult(rules, roles_added(rules)), form, out, color)
        return
    if member is not None or members:
        output.deliver(_of_directory(rules, found, member, tried or []), form, out, color)
        return
    callers = None
    if personas:
        if found is None or not found.personas:
            raise UsageError("there are no personas; write [personas.NAME] in bloodroot.toml")
        found = inputs.with_members(found) or found
        callers = {name: each.caller for name, each in found.personas.items()}
        result = matrix_of_callers(rules, callers)
    else:
        result = matrix_of_roles(rules)
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
    if expect is not None:
        columns = [column.name for column in result.columns]
        output.deliver_held(matrix_as_it_is(rules, result), columns, expect, form, out, color, bless=bless)
        return
    chosen, numbers = _chosen(rules, result, only or [], role or [], open_to_anyone=open_to_anyone)
    if callers is not None:
        callers = {name: callers[name] for name in (result.columns[number].name for number in numbers)}
    observed = None
    if journal is not None:
        counted = _columns(rules, result, found, personas=personas)
        observed = _observed(rules, chosen, journal, lambda tried: [n for n in counted(tried) if n in numbers], numbers)
    output.deliver(MatrixResult(rules, chosen, callers, observed, fold, guards), form, out, color)


def _of_directory(
    policy: Policy, settings: Settings | None, login: str | None, logs: list[Path]
) -> Review | MemberAccess:
    """What one member may do, or what all of them hold."""
    from ..identity import directory_of
    from ..member_access import access_of_member
    from ..reviewing import review

    if settings is None:
        raise UsageError("members are those of a directory, and there is no bloodroot.toml here or further up")
    directory = directory_of(settings)
    if login is None:
        return review(policy, directory.members(), directory.given(), logs)
    directory.check()
    found = directory.member_with_login(login) or directory.member(login)
    if found is None:
        raise UsageError(f'the directory has no member "{login}"; bloodroot seed --list shows them')
    return access_of_member(policy, found)


def _chosen(
    policy: Policy, matrix: Matrix, only: list[str], roles: list[str], *, open_to_anyone: bool
) -> tuple[Matrix, list[int]]:
    """The part of a matrix that is shown, and the numbers of its columns in the whole.

    Raises:
        UsageError: there is no such column or endpoint.
    """
    from ..core.matrix import matrix_of_roles
    from ..core.selecting import open_to_signed_out, with_columns, with_rows
    from ..language.problems import suggestion
    from . import output

    names = [column.name for column in matrix.columns]
    for name in roles:
        if name not in names:
            guess = suggestion(name, names) or f"; known are {', '.join(names)}"
            raise UsageError(f'--role: there is no column "{name}"{guess}')
    numbers = [number for number, name in enumerate(names) if not roles or name in roles]
    found = matrix
    if only:
        found = with_rows(
            found, lambda row: any(output.matches(f"{method} {row.path}", only) for method in row.methods)
        )
        if not found.rows:
            raise UsageError(f"--only: no endpoint is matched by {', '.join(only)}; a pattern is for all of its path")
    if open_to_anyone:
        opened = open_to_signed_out(matrix_of_roles(policy))
        found = with_rows(found, lambda row: (row.methods, row.line.order, row.path) in opened)
    return (with_columns(found, numbers) if roles else found), numbers


def _columns(policy: Policy, matrix: Matrix, settings: Settings | None, *, personas: bool) -> Columns:
    """In which columns of a matrix what a caller did counts."""
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


def _observed(policy: Policy, matrix: Matrix, journal: Path, columns: Columns, numbers: list[int]) -> Cells:
    """What a probe observed in the cells of a part of the matrix, whose columns have these numbers in the whole."""
    from ..observed_cells import observed_cells

    whole = observed_cells(policy, matrix, journal, columns)
    return {(row, numbers.index(column)): each for (row, column), each in whole.items()}
