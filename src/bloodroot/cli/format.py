"""bloodroot format: the tidy form of policy files."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .output import OutOption, UsageError, format_option

if TYPE_CHECKING:
    from ..report.results import FormattedFile


def tidy_files(
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE]...", help="Policy files; - for standard input.")
    ] = None,
    check: Annotated[bool, typer.Option("--check", help="Change nothing; status 1 if a file is not tidy.")] = False,
    diff: Annotated[bool, typer.Option("--diff", help="Change nothing; show what would change.")] = False,
    form: Annotated[str | None, format_option("FormatResult")] = None,
    out: OutOption = None,
) -> None:
    """Write policy files in their one tidy form: columns aligned, comments kept, the meaning untouched."""
    from ..files import read_text
    from ..language.printer import tidy
    from ..report.results import FormatResult
    from ..writing import write_text
    from . import inputs, output

    output.check_out(form, out)
    if (form is not None or out is not None) and not check and not diff:
        raise UsageError("--format and --out are for the result of --check or --diff")
    chosen = files or [inputs.policy_file()]
    if Path("-") in chosen and len(chosen) > 1:
        raise UsageError("standard input is formatted alone; leave out the other files, or the -")
    if chosen == [Path("-")]:
        text = _standard_input()
        texts = {Path("<stdin>"): (text, tidy(text, "<stdin>"))}
        if not check and not diff:
            typer.echo(texts[Path("<stdin>")][1], nl=False)
            return
    else:
        # Every file is read before any is written: a mistake in the last leaves the first as it was.
        read = {file: read_text(file) for file in chosen}
        texts = {file: (text, tidy(text, str(file))) for file, text in read.items()}
    result = FormatResult(tuple(_compared(file, *both) for file, both in texts.items()), diff)
    changed = [file for file, (text, neat) in texts.items() if text != neat]
    if check or diff:
        output.deliver(result, form, out)
        if changed:
            raise typer.Exit(1)
        return
    for file in changed:
        write_text(file, texts[file][1])
        typer.echo(f"tidied {file}", err=True)
    if not changed:
        typer.echo(f"{len(texts)} tidy already", err=True)


def _compared(file: Path, text: str, neat: str) -> FormattedFile:
    import difflib

    from ..report.results import FormattedFile

    lines = difflib.unified_diff(text.splitlines(True), neat.splitlines(True), str(file), f"{file} (tidy)")
    return FormattedFile(str(file), text == neat, "".join(f"{line.removesuffix(chr(10))}\n" for line in lines))


def _standard_input() -> str:
    from ..language.problems import Place, PolicyError, Problem, Source

    try:
        return sys.stdin.buffer.read().decode("utf-8-sig").replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        place = Place(Source("<stdin>", ()), 1, 1, 1)
        raise PolicyError([Problem("this is not UTF-8 text; save the file as UTF-8", place)]) from error
