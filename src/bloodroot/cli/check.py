"""bloodroot check: mistakes and risks in a policy, found before anyone calls."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from . import completing
from .options import ProjectFiles, SourcesArgument, with_options
from .output import Delivery, UsageError


class FailOn(StrEnum):
    """From which severity on findings are a failure."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"
    NEVER = "never"


@with_options("CheckResult")
def check(
    sources: SourcesArgument = None,
    only: Annotated[
        str | None,
        typer.Option(
            "--only",
            metavar="NAMES",
            help="Report only these findings; names have commas between them.",
            autocompletion=completing.words(completing.finding),
        ),
    ] = None,
    fail_on: Annotated[
        FailOn, typer.Option("--fail-on", help="Exit with status 1 if a finding is at least this bad.")
    ] = FailOn.WARNING,
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Find mistakes and risks: dead lines, siblings that disagree, changes that are too open, and many more."""
    from ..checks.checking import check as run
    from ..checks.preparing import prepare
    from ..core.finding import Severity
    from . import inputs

    shown.check()
    names = _names(only)
    result = run(prepare(*inputs.project_to_check(files, sources or [])), names)
    shown.deliver(result)
    if fail_on is not FailOn.NEVER and result.at_least(Severity(fail_on.value)):
        raise typer.Exit(1)


def _names(only: str | None) -> list[str]:
    """The names of findings in an option."""
    from ..checks.checking import KINDS
    from ..language.problems import suggestion

    names = [name.strip() for name in (only or "").split(",") if name.strip()]
    for name in names:
        if name not in KINDS:
            guess = suggestion(name, KINDS) or "; docs/findings.md has all of them"
            raise UsageError(f'--only: there is no finding of the name "{name}"{guess}')
    return names
