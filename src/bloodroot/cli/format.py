"""bloodroot format: the tidy form of policy files."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from .options import with_options
from .output import Delivery, UsageError

if TYPE_CHECKING:
    from ..report.results import FormattedFile


@with_options("FormatResult")
def tidy_files(
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE]...", help="Policy files; - for standard input.")
    ] = None,
    check: Annotated[bool, typer.Option("--check", help="Change nothing; status 1 if a file is not tidy.")] = False,
    diff: Annotated[bool, typer.Option("--diff", help="Change nothing; show what would change.")] = False,
    *,
    shown: Delivery,
) -> None:
    """Write policy files in their one tidy form: columns aligned, comments kept, the meaning untouched."""
    from ..report.results import FormatResult
    from ..writing import write_text
    from . import inputs

    shown.check()
    if (shown.form is not None or shown.out is not None) and not check and not diff:
        raise UsageError("--format and --out are for the result of --check or --diff")
    texts = _texts(files or [inputs.usual_policy(inputs.settings_of(None))])
    changed = [file for file, text in texts.items() if text.written != text.tidy]
    if check or diff:
        shown.deliver(FormatResult(tuple(_compared(file, text) for file, text in texts.items()), diff))
        if changed:
            raise typer.Exit(1)
        return
    if files == [Path("-")]:
        typer.echo(texts[_STANDARD_INPUT].tidy, nl=False)
        return
    for file in changed:
        write_text(file, texts[file].tidy)
        typer.echo(f"tidied {file}", err=True)
    if not changed:
        typer.echo(f"{len(texts)} tidy already", err=True)


_STANDARD_INPUT = Path("<stdin>")


class _Text(NamedTuple):
    """A policy as it is written, and in its tidy form."""

    written: str
    tidy: str


def _texts(files: list[Path]) -> dict[Path, _Text]:
    """The policies. Every file is read before any is written: a mistake in the last leaves the first as it was."""
    from ..files import read_text
    from ..language.printer import tidy

    if Path("-") not in files:
        read = {file: read_text(file) for file in files}
    elif len(files) > 1:
        raise UsageError("standard input is formatted alone; leave out the other files, or the -")
    else:
        read = {_STANDARD_INPUT: _standard_input()}
    return {file: _Text(text, tidy(text, str(file))) for file, text in read.items()}


def _compared(file: Path, text: _Text) -> FormattedFile:
    import difflib

    from ..report.results import FormattedFile

    written, neat = text.written.splitlines(True), text.tidy.splitlines(True)
    lines = difflib.unified_diff(written, neat, str(file), f"{file} (tidy)")
    return FormattedFile(str(file), written == neat, "".join(f"{line.removesuffix(chr(10))}\n" for line in lines))


def _standard_input() -> str:
    from ..language.problems import Place, PolicyError, Problem, SourceText

    try:
        return sys.stdin.buffer.read().decode("utf-8-sig").replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        place = Place(SourceText("<stdin>", ()), 1, 1, 1)
        raise PolicyError([Problem("this is not UTF-8 text; save the file as UTF-8", place)]) from error
