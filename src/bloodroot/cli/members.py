"""bloodroot members: what the members of the directory hold, or what one of them may do."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .options import ProjectFiles, with_options
from .output import Delivery, UsageError


@with_options("Review", "MemberAccess")
def members(
    login: Annotated[
        str | None, typer.Argument(metavar="LOGIN", help="One member, by login or id; by default all of them.")
    ] = None,
    logs: Annotated[
        list[Path] | None,
        typer.Option("--log", metavar="FILE", help="An audit log, which says what of it was used; repeatable."),
    ] = None,
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Show what every member of the directory holds, since when, and what of it was used; or what one may do."""
    from ..identity import directory_of
    from ..review.all_members import review
    from ..review.member_access import access_of_member
    from . import inputs

    shown.check()
    if login is not None and logs:
        raise UsageError("--log says what all members used; leave LOGIN out")
    project = inputs.bound_project(files, personas=False)
    directory = directory_of(project.needed_settings)
    if login is None:
        shown.deliver(review(project.policy, directory.members(), directory.given(), logs or ()))
        return
    directory.check()
    member = directory.member_with_login(login) or directory.member(login)
    if member is None:
        raise UsageError(f'the directory has no member "{login}"; bloodroot members shows them')
    shown.deliver(access_of_member(project.policy, member))
