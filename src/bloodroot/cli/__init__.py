"""The command line. Commands import what they need when they run, so that help stays fast."""

from __future__ import annotations

import os
import sys
from typing import Annotated

import typer

from . import (
    ask,
    check,
    compare,
    demo,
    draft,
    expect,
    export,
    format,
    matrix,
    members,
    probe,
    roles,
    seed,
    survey,
    token,
    tried,
    why,
)

app = typer.Typer(
    name="bloodroot",
    help="Declare who may do what in a web application, see it, enforce it, and prove it on the running application.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
for name, command, *examples in (
    ("demo", demo.demo, "bloodroot demo", "bloodroot demo --faulty bank"),
    ("survey", survey.survey, "bloodroot survey", "bloodroot survey openapi.json access.log"),
    ("draft", draft.draft, "bloodroot draft shop.app:app --out access.bloodroot", "bloodroot draft openapi.json"),
    ("check", check.check, "bloodroot check", "bloodroot check --fail-on warning --out findings.sarif"),
    ("matrix", matrix.matrix, 'bloodroot matrix --only "/trials*"', "bloodroot matrix --personas --out matrix.html"),
    ("roles", roles.roles, "bloodroot roles", "bloodroot roles --out roles.png"),
    ("members", members.members, "bloodroot members --log audit.jsonl", "bloodroot members ash@example.org"),
    ("expect", expect.expect, "bloodroot expect access.csv", "bloodroot expect access.csv --update"),
    ("tried", tried.tried, "bloodroot tried .bloodroot/probe.jsonl", 'bloodroot tried audit.jsonl --fail "DELETE *"'),
    ("why", why.why, "bloodroot why curator POST /trials/7", "bloodroot why --who GET /reports/stock"),
    ("compare", compare.compare, "bloodroot compare old.bloodroot", "bloodroot compare main HEAD --fail gained"),
    ("probe", probe.probe, "bloodroot probe", 'bloodroot probe --only "POST *" --persona curator'),
    ("ask", ask.ask, "bloodroot ask curator GET /trials/7", "bloodroot ask visitor GET /desk --curl"),
    ("seed", seed.seed, "bloodroot seed members.toml", "bloodroot seed members.csv --dry-run"),
    ("format", format.tidy_files, "bloodroot format", "bloodroot format --check"),
):
    app.command(name, epilog="Examples:\n\n" + "\n\n".join(examples))(command)
app.add_typer(token.app, name="token")
app.add_typer(export.app, name="export")


def _version(wanted: bool) -> None:
    if wanted:
        from .. import __version__

        typer.echo(f"bloodroot {__version__}")
        raise typer.Exit


@app.callback()
def main(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and leave.")
    ] = False,
) -> None:
    """Nothing to do before a command."""


def run() -> None:
    """Run the program. What goes wrong becomes one message and exit status 2, never a traceback."""
    try:
        app()
    except BrokenPipeError:
        # The reader of a pipe has seen enough. Python would complain again while it shuts down.
        sys.stderr.close()
        sys.exit(0)
    except Exception as error:
        text = _message(error)
        if text is None and "BLOODROOT_TRACEBACK" in os.environ:
            raise
        from ..report.sheet import printable

        fault = f"a fault in bloodroot itself: {type(error).__name__}: {error}"
        message = text or f"{fault}; BLOODROOT_TRACEBACK=1 in the environment shows where"
        sys.stderr.write(printable(message, "\n\t") + "\n")
        sys.exit(2)


def _message(error: Exception) -> str | None:
    """What a user is shown of an error; None for one that was not foreseen."""
    from ..language.errors import BloodrootError

    if isinstance(error, BloodrootError):
        return str(error)
    if isinstance(error, OSError):
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror or error)
    return None
