"""The command line. Commands import what they need when they run, so that help stays fast."""

from __future__ import annotations

import os
import sys
from typing import Annotated

import typer

from . import ask, check, compare, demo, draft, export, format, matrix, probe, seed, survey, token, why

app = typer.Typer(
    name="bloodroot",
    help="Declare who may do what in a web application, see it, enforce it, and prove it on the running application.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command("demo")(demo.demo)
app.command("survey")(survey.survey)
app.command("draft")(draft.draft)
app.command("check")(check.check)
app.command("matrix")(matrix.matrix)
app.command("why")(why.why)
app.command("compare")(compare.compare)
app.command("probe")(probe.probe)
app.command("ask")(ask.ask)
app.command("seed")(seed.seed)
app.add_typer(token.app, name="token")
app.command("format")(format.tidy_files)
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
        fault = f"a fault in bloodroot itself: {type(error).__name__}: {error}"
        sys.stderr.write(f"{text or fault + '; BLOODROOT_TRACEBACK=1 in the environment shows where'}\n")
        sys.exit(2)


def _message(error: Exception) -> str | None:
    """What a user is shown of an error; None for one that was not foreseen."""
    from ..language.errors import BloodrootError

    if isinstance(error, BloodrootError):
        return str(error)
    if isinstance(error, OSError):
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror or error)
    return None
