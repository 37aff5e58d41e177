"""The command line. Only the command that is asked for is imported, and it imports what it needs when it runs."""

from __future__ import annotations

import importlib
import os
import sys
from functools import cache
from typing import Annotated, Any, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup


class _Command(NamedTuple):
    """A command before it is imported.

    Attributes:
        module: the module that it is in.
        function: what it does, or the ``Typer`` that it is a group of commands as.
        summary: what the help says of it; the first line of its own.
        examples: how it is used.
    """

    module: str
    function: str
    summary: str
    examples: tuple[str, ...] = ()


_COMMANDS = {
    "demo": _Command(
        "demo",
        "demo",
        "Write the example, a seed bank, to a folder; check its policy, show its matrix, and probe its application.",
        ("bloodroot demo", "bloodroot demo --faulty bank"),
    ),
    "survey": _Command(
        "survey",
        "survey",
        "List every endpoint of an application, the line that covers each, and those that no line covers.",
        ("bloodroot survey", "bloodroot survey openapi.json access.log"),
    ),
    "draft": _Command(
        "draft",
        "draft",
        "Write a first policy with a line for every endpoint, everything closed, ready to fill in.",
        ("bloodroot draft shop.app:app --out access.bloodroot", "bloodroot draft openapi.json"),
    ),
    "check": _Command(
        "check",
        "check",
        "Find mistakes and risks: dead lines, siblings that disagree, changes that are too open, and many more.",
        ("bloodroot check", "bloodroot check --fail-on warning --out findings.sarif"),
    ),
    "matrix": _Command(
        "matrix",
        "matrix",
        "Show who gets in where: roles against endpoints.",
        ('bloodroot matrix --only "/trials*"', "bloodroot matrix --personas --out matrix.html"),
    ),
    "roles": _Command(
        "roles",
        "roles",
        "Show the roles: who includes whom, and what each adds.",
        ("bloodroot roles", "bloodroot roles --out roles.png"),
    ),
    "members": _Command(
        "members",
        "members",
        "Show what every member of the directory holds, since when, and what of it was used; or what one may do.",
        ("bloodroot members --log audit.jsonl", "bloodroot members ash@example.org"),
    ),
    "expect": _Command(
        "expect",
        "expect",
        "Compare the matrix, or what the application answered, with reviewed tables.",
        ("bloodroot expect access.csv", "bloodroot expect access.csv --update"),
    ),
    "tried": _Command(
        "tried",
        "tried",
        "Show which cells of the matrix were tried, by tests, probes or production.",
        ("bloodroot tried .bloodroot/probe.jsonl", 'bloodroot tried audit.jsonl --fail "DELETE *"'),
    ),
    "lsp": _Command(
        "lsp",
        "lsp",
        "Answer an editor by the Language Server Protocol: mistakes, completion, names, who gets in at a line.",
        ("bloodroot lsp",),
    ),
    "replay": _Command(
        "replay",
        "replay",
        "Decide the requests in logs once more: what would be refused or let in, and what was never used.",
        ("bloodroot replay access.log audit.jsonl", "bloodroot replay audit.jsonl --diff > tighter.diff"),
    ),
    "why": _Command(
        "why",
        "why",
        "Explain one decision: the outcome, the steps that led there, and the lines they rest on.",
        ("bloodroot why curator POST /trials/7", "bloodroot why --who GET /reports/stock"),
    ),
    "compare": _Command(
        "compare",
        "compare",
        "Show whose access changes between two policies, with a request that shows each change.",
        ("bloodroot compare old.bloodroot", "bloodroot compare main HEAD --fail gained"),
    ),
    "probe": _Command(
        "probe",
        "probe",
        "Ask the application as every persona, and compare what it answers with what is declared.",
        ("bloodroot probe", 'bloodroot probe --only "POST *" --persona curator'),
    ),
    "ask": _Command(
        "ask",
        "ask",
        "Send one request to the application as a persona, and show the answer beside what is declared.",
        ("bloodroot ask curator GET /trials/7", "bloodroot ask visitor GET /desk --curl"),
    ),
    "seed": _Command(
        "seed",
        "seed",
        "Put roles, grants and first members into the directory; what is there stays as it is.",
        ("bloodroot seed members.toml", "bloodroot seed members.csv --dry-run"),
    ),
    "serve": _Command(
        "serve",
        "serve",
        "Answer access questions over HTTP, for applications and proxies in any language.",
        ("bloodroot serve", "bloodroot serve --port 8181 --workers 4"),
    ),
    "format": _Command(
        "format",
        "tidy_files",
        "Write policy files in their one tidy form: columns aligned, comments kept, the meaning untouched.",
        ("bloodroot format", "bloodroot format --check"),
    ),
    "token": _Command("token", "app", "Make a token for development, or see what becomes of one."),
    "export": _Command("export", "app", "Write what a policy says, for other programs."),
}


@cache
def _made(name: str) -> Any:
    """A command, made of its module once."""
    command = _COMMANDS[name]
    found = getattr(importlib.import_module(f".{command.module}", __name__), command.function)
    if not isinstance(found, typer.Typer):
        alone = typer.Typer(add_completion=False)
        alone.command(name, epilog="Examples:\n\n" + "\n\n".join(command.examples))(found)
        found = alone
    made = typer.main.get_command(found)
    made.name = name
    return made


class _Commands(TyperGroup):
    """The commands. Help lists them without importing any."""

    _lists = False

    def __init__(self, **attributes: Any) -> None:
        super().__init__(**attributes)
        # Misspelled names are held against these.
        self.commands = dict.fromkeys(_COMMANDS)  # type: ignore[assignment]

    def list_commands(self, ctx: Any) -> list[str]:  # noqa: ARG002
        return list(_COMMANDS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:  # noqa: ARG002
        if self._lists:
            return TyperCommand(cmd_name, help=_COMMANDS[cmd_name].summary)
        return _made(cmd_name) if cmd_name in _COMMANDS else None

    def format_help(self, ctx: Any, formatter: Any) -> None:
        self._lists = True
        try:
            super().format_help(ctx, formatter)
        finally:
            self._lists = False


app = typer.Typer(
    name="bloodroot",
    cls=_Commands,
    help="Declare who may do what in a web application, see it, enforce it, and prove it on the running application.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


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

        words, place = f"{type(error).__name__}: {error}", _of_application(error)
        whose = f"the application raised {words} ({place})" if place else f"a fault in bloodroot itself: {words}"
        message = text or f"{whose}; BLOODROOT_TRACEBACK=1 in the environment shows where"
        sys.stderr.write(printable(message, "\n\t") + "\n")
        sys.exit(2)


def _of_application(error: Exception) -> str | None:
    """The place in the project's own code that an exception was raised in, or beneath; None where it was in none."""
    from pathlib import Path

    own, here = Path(__file__).parent.parent, Path.cwd()
    found = None
    place = error.__traceback__
    while place is not None:
        file = Path(place.tb_frame.f_code.co_filename)
        if file.is_relative_to(own):
            found = None  # the application was left again
        elif file.is_relative_to(here) and "site-packages" not in file.parts:
            found = f"{file.name}:{place.tb_lineno}"
        place = place.tb_next
    return found


def _message(error: Exception) -> str | None:
    """What a user is shown of an error; None for one that was not foreseen."""
    from ..language.errors import BloodrootError

    if isinstance(error, BloodrootError):
        return str(error)
    if isinstance(error, OSError):
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror or error)
    return None
