"""bloodroot format: the tidy form of policy files."""

from __future__ import annotations

import difflib
import sys
from pathlib import Path
from typing import Annotated

import typer

from .output import UsageError


def tidy_files(
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE]...", help="Policy files; - for standard input.")
    ] = None,
    check: Annotated[bool, typer.Option("--check", help="Change nothing; status 1 if a file is not tidy.")] = False,
    diff: Annotated[bool, typer.Option("--diff", help="Change nothing; show what would change.")] = False,
) -> None:
    """Write policy files in their one tidy form: columns aligned, comments kept, the meaning untouched."""
    from ..files import read_text, write_text
    from ..language.printer import tidy
    from . import output

    chosen = files or [output.policy_file()]
    if Path("-") in chosen and len(chosen) > 1:
        raise UsageError("standard input is formatted alone; leave out the other files, or the -")
    if chosen == [Path("-")]:
        text = _standard_input()
        neat = tidy(text, "<stdin>")
        if not check and not diff:
            typer.echo(neat, nl=False)
            return
        texts = {Path("<stdin>"): (text, neat)}
    else:
        # Every file is read before any is written: a mistake in the last leaves the first as it was.
        read = {file: read_text(file) for file in chosen}
        texts = {file: (text, tidy(text, str(file))) for file, text in read.items()}
    changed = [file for file, (text, neat) in texts.items() if text != neat]
    for file in changed:
        text, neat = texts[file]
        if diff:
            lines = difflib.unified_diff(text.splitlines(True), neat.splitlines(True), str(file), f"{file} (tidy)")
            typer.echo("".join(line if line.endswith("\n") else line + "\n" for line in lines), nl=False)
        elif check:
            typer.echo(f"{file} is not tidy")
        else:
            write_text(file, neat)
            typer.echo(f"tidied {file}", err=True)
    if check or diff:
        if not diff:
            rest = len(texts) - len(changed)
            typer.echo(f"{len(changed)} to tidy, {rest} tidy" + ("; next: bloodroot format" if changed else ""))
        if changed:
            raise typer.Exit(1)
    elif not changed:
        typer.echo(f"{len(texts)} tidy already", err=True)


def _standard_input() -> str:
    from ..language.problems import Place, PolicyError, Problem, Source

    try:
        return sys.stdin.buffer.read().decode("utf-8-sig").replace("\r\n", "\n")
    except UnicodeDecodeError:
        place = Place(Source("<stdin>", ()), 1, 1, 1)
        raise PolicyError([Problem("this is not UTF-8 text; save the file as UTF-8", place)]) from None
