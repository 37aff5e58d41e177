"""bloodroot compare: two policies, or two revisions; who gained, who lost, on which endpoints."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from . import completing
from .options import ProjectFiles, with_options
from .output import Delivery


class Fail(StrEnum):
    """What makes a comparison fail."""

    GAINED = "gained"
    ANY = "any"


@with_options("PolicyComparison")
def compare(
    old: Annotated[
        str,
        typer.Argument(
            metavar="OLD",
            help="A policy file, a revision of the git repository, or REVISION:FILE.",
            autocompletion=completing.words(completing.revision),
        ),
    ],
    new: Annotated[
        str | None,
        typer.Argument(
            metavar="[NEW]",
            help="The same; by default the policy as it is in the work tree.",
            autocompletion=completing.words(completing.revision),
        ),
    ] = None,
    fail: Annotated[
        Fail | None,
        typer.Option(
            "--fail",
            help="Exit with status 1 where access may open: a cell gained, a condition wider or not comparable, a "
            "field, or something held (gained); or where anything changes (any).",
        ),
    ] = None,
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Show whose access changes between two policies, with a request that shows each change."""
    from ..checks.preparing import solver_if_any
    from ..comparison.comparing import compare as compare_sides
    from ..settings.callers import counts_for_roles
    from . import inputs

    shown.check()
    sides = inputs.two_policies(old, new, files)
    settings = inputs.settings_of(files.settings)
    counting = settings is not None and counts_for_roles(settings.identity)
    result = compare_sides(*sides, solver_if_any(), counting=counting)
    shown.deliver(result)
    if (fail is Fail.GAINED and result.opens) or (fail is Fail.ANY and not result.same_access):
        raise typer.Exit(1)
