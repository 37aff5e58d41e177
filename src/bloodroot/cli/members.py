"""bloodroot members: what the members of the directory hold, or what one of them may do."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .output import Color, ColorOption, OutOption, PolicyOption, SettingsOption, UsageError, format_option


def members(
    login: Annotated[
        str | None, typer.Argument(metavar="LOGIN", help="One member, by login or id; by default all of them.")
    ] = None,
    logs: Annotated[
        list[Path] | None,
        typer.Option("--log", metavar="FILE", help="An audit log, which says what of it was used; repeatable."),
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("Review", "MemberAccess")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show what every member of the directory holds, since when, and what of it was used; or what one may do."""
    from ..identity import directory_of
    from ..review.all_members import review
    from ..review.member_access import access_of_member
    from . import inputs, output

    output.check_out(form, out)
    if login is not None and logs:
        raise UsageError("--log says what all members used; leave LOGIN out")
    rules, project = inputs.bound_project(policy, settings, personas=False)
    if project is None:
        raise UsageError("members are those of a directory, and there is no bloodroot.toml here or further up")
    directory = directory_of(project)
    if login is None:
        output.deliver(review(rules, directory.members(), directory.given(), logs or ()), form, out, color)
        return
    directory.check()
    member = directory.member_with_login(login) or directory.member(login)
    if member is None:
        raise UsageError(f'the directory has no member "{login}"; bloodroot members shows them')
    output.deliver(access_of_member(rules, member), form, out, color)
