"""bloodroot seed: roles, grants and first members put into the directory, again and again without harm."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .options import ProjectFiles, with_options
from .output import Delivery, UsageError

if TYPE_CHECKING:
    from ..identity.seeds import SeedMember


@with_options("SeedResult")
def seed(
    file: Annotated[
        Path,
        typer.Argument(metavar="FILE", help="Members, roles and groups, as TOML or CSV; or a SCIM export, as JSON."),
    ],
    update: Annotated[bool, typer.Option("--update", help="Bring what differs in line with the file.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would be done, and write nothing.")] = False,
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Put roles, grants and first members into the directory; what is there stays as it is."""
    from ..identity import directory_of
    from ..identity.scim import known_to
    from ..identity.seed_file import read_seed
    from ..identity.seed_result import SeedVerdict
    from ..identity.seeding import seed_directory
    from . import inputs

    shown.check()
    rules, _, settings = inputs.project_as_written(files, personas=False)
    directory = directory_of(inputs.needed(settings))
    wanted, notes = read_seed(file), tuple[str, ...]()
    if file.suffix == ".json":
        wanted, notes = known_to(rules, wanted)
    result = seed_directory(directory, wanted, rules, password, update=update, dry_run=dry_run)
    shown.deliver(result)
    for note in notes:
        typer.echo(note, err=True)
    if any(row.verdict is SeedVerdict.DIFFERS for row in result.rows):
        raise typer.Exit(1)


def password(member: SeedMember) -> str:
    """The password of a member who is about to be made."""
    if member.variable is not None:
        secret = os.environ.get(member.variable, "")
        if not secret:
            raise UsageError(
                f"{member.place}: {member.login} gets its password from {member.variable}, which is not set; "
                "set it in the environment"
            )
        return secret
    if not sys.stdin.isatty():
        raise UsageError(
            f"{member.place}: the password of {member.login} must be typed in, and standard input is not a terminal; "
            'run this in a terminal, or write password = "{env.NAME}"'
        )
    return str(
        typer.prompt(f"Password for {member.login}", hide_input=True, confirmation_prompt="The same again", err=True)
    )
