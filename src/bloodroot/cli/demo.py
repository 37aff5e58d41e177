"""bloodroot demo: the full example, written to a folder and run."""

from __future__ import annotations

import importlib.util
import os
import shlex
import tempfile
from pathlib import Path
from typing import Annotated

import typer

from .output import Color, ColorOption, UsageError

_NEEDED = {
    "itsdangerous": "itsdangerous",
    "jinja2": "jinja2",
    "jwt": "pyjwt",
    "multipart": "python-multipart",
    "starlette": "starlette",
}


def demo(
    folder: Annotated[
        Path | None, typer.Argument(help="Where to write the files; by default a new temporary folder.")
    ] = None,
    faulty: Annotated[
        bool, typer.Option("--faulty", help="Use the version of the application with holes in it.")
    ] = False,
    color: ColorOption = Color.AUTO,
) -> None:
    """Write the example, a seed bank, to a folder; show its matrix, and probe its application."""
    from ..core.matrix import matrix_of_roles
    from ..demo import write_demo
    from ..files import load
    from ..probe.application import bound
    from ..report import table
    from ..settings import read_settings
    from . import output
    from .probe import with_progress

    missing = [package for module, package in _NEEDED.items() if importlib.util.find_spec(module) is None]
    if missing:
        raise UsageError(f"the example needs {', '.join(missing)}; install them with: pip install 'bloodroot[demo]'")
    place = folder if folder is not None else Path(tempfile.mkdtemp(prefix="fernhollow-"))
    written = write_demo(place, faulty=faulty)
    console = output.console(color)
    which = "with holes in it" if faulty else "with the policy around it"
    typer.secho(f"Fernhollow Seed Bank, {which}: wrote {len(written)} files to {place}", bold=True)
    for name, told in (
        ("access.bloodroot", "who may do what"),
        ("bloodroot.toml", "the application, the personas, the samples"),
        ("seedbank/", "the application: pages, an API, SQLite"),
        ("secrets.env", "a password and a key, made just now"),
    ):
        typer.echo(f"  {name:18} {told}")
    before = Path.cwd()
    os.chdir(place)
    try:
        settings = read_settings(Path("bloodroot.toml").resolve())
        policy = bound(load("access.bloodroot"), settings)
        _title("bloodroot matrix", "who gets in where, from the policy alone")
        output.show(console, table.matrix(matrix_of_roles(policy), policy, console))
        _title("bloodroot probe", "the application asked as every persona")
        result = with_progress(policy, settings)
        output.show(console, table.probe(result))
    finally:
        os.chdir(before)
    _title("Try next", "")
    for command, told in (
        (f"cd {shlex.quote(str(place))}", ""),
        ("bloodroot why botanist POST /trials/7", "why may she change this trial?"),
        ("bloodroot matrix --personas", "a column for each persona"),
        ("$EDITOR access.bloodroot && bloodroot probe", "change a line, and see the difference"),
        ("(set -a; . ./secrets.env; uvicorn seedbank.app:app)", "the pages; sign in as hazel@fernhollow.example,"),
        ("", "with the password in secrets.env"),
    ):
        typer.echo(f"  {command:54}{told}".rstrip())
    if not faulty:
        typer.echo(f"  {'bloodroot demo --faulty':54}the same with five mistakes, and the probe that finds them")
    elif result.sound:
        raise UsageError("the probe found nothing in the faulty application; that is a fault in Bloodroot itself")


def _title(command: str, told: str) -> None:
    typer.echo()
    typer.secho(f"── {command} " + (f"── {told}" if told else ""), bold=True)
