"""Where results go: a terminal, a pipe or a file."""

from __future__ import annotations

import contextlib
import io
import os
import sys
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from ..language.errors import BloodrootError
from ..report.registry import ENDINGS, Format, formats_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from rich.console import Console

    from ..endings import Ending


class UsageError(BloodrootError):
    """Options that do not go together, or a name with nothing behind it."""


class Color(StrEnum):
    """When to use colour."""

    AUTO = "auto"
    ALWAYS = "always"
    NEVER = "never"


ColorOption = Annotated[Color, typer.Option("--color", help="When to use colour.")]


def format_option(*results: str) -> Any:
    """The option ``--format`` of a command that shows results of these kinds."""
    names = [form.value for form in formats_of(*results)]

    def checked(value: str | None) -> Format | None:
        if value is not None and value not in names:
            from ..language.problems import suggestion

            guess = suggestion(value, names) or f"; write {', '.join(names)}"
            raise UsageError(f'--format "{value}" is unknown here{guess}')
        return Format(value) if value is not None else None

    return typer.Option(
        "--format",
        metavar="|".join(names),
        callback=checked,
        autocompletion=lambda: names,
        help="The format; table by default, or what the ending of --out says.",
    )


_PIPE_WIDTH = 160


def console(color: Color, *, to_file: bool = False) -> Console:
    """A console for results. ``NO_COLOR`` is respected; a pipe and a file get plain text of a fixed width."""
    from rich.console import Console

    return Console(
        file=io.TextIOWrapper(io.BytesIO(), "utf-8") if to_file else None,
        highlight=False,
        emoji=False,  # vault:key:read is a permission
        width=None if sys.stdout.isatty() and not to_file else _width(),
        force_terminal=True if color is Color.ALWAYS else None,
        no_color={Color.ALWAYS: False, Color.NEVER: True}.get(color),
    )


def _width() -> int:
    """The width of results that no terminal shows: that of ``COLUMNS``, else one that most tables fit into."""
    columns = os.environ.get("COLUMNS", "")
    return max(40, int(columns)) if columns.isdecimal() and len(columns) < 5 else _PIPE_WIDTH


@contextlib.contextmanager
def without_application_output() -> Iterator[None]:
    """Keeps what the application prints out of the report: its log is its own."""
    with contextlib.redirect_stdout(io.StringIO()):
        yield


_LARGE = 1 << 16  # characters


@dataclass(frozen=True)
class Delivery:
    """How a result is printed, or written to a file.

    Attributes:
        form: the format that was asked for, if any.
        out: the file; None for standard output. Without a format that was asked for, its ending picks one.
        color: when to use colour. A file has none.
    """

    form: Format | None = None
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write to this file; its ending picks the format.")
    ] = None
    color: ColorOption = Color.AUTO

    def chosen_format(self) -> Format:
        """The format that is asked for, or that the ending of the file says.

        Raises:
            UsageError: the ending says no format.
        """
        if self.form is not None:
            return self.form
        if self.out is None:
            return Format.TABLE
        found = ENDINGS.get(self.out.suffix.lower())
        if found is None:
            raise UsageError(
                f"--out {self.out}: its ending says no format; name it {', '.join(ENDINGS)}, or add --format"
            )
        return found

    def check(self) -> None:
        """See that a result can be written where it is to go, before any work is done for it.

        Raises:
            UsageError: the ending of the file says no format, or there is no such folder.
        """
        self.chosen_format()
        _check_folder(self.out)

    def deliver(self, result: object) -> None:
        """Print a result, or write it to the file, whole or not at all.

        Args:
            result: a result that some module of `report` can write.

        Raises:
            UsageError: the ending of the file says no format, or the result has no such format.
        """
        from ..report.registry import kind_of, written
        from ..report.results import MadeToken
        from ..writing import write_pieces

        form, kind, out = self.chosen_format(), kind_of(result), self.out
        if form not in kind.formats:
            raise UsageError(f"this result has no {form.value} format; write it as {_listed(kind.formats)}")
        found = written(result, form, console(self.color if out is None else Color.NEVER, to_file=out is not None))
        if isinstance(found, bytes):
            _deliver_bytes(found, out)
            return
        pieces = (found,) if isinstance(found, str) else found
        if out is None:
            for piece in _gathered(pieces):
                typer.echo(_encodable(piece, sys.stdout.encoding or "utf-8"), nl=False, color=True)
        else:
            # A token is for its owner alone.
            encoded = (_encodable(piece, "utf-8").encode() for piece in pieces)
            write_pieces(out, encoded, private=isinstance(result, MadeToken))
            typer.echo(f"wrote {out}", err=True)


@dataclass(frozen=True)
class JudgedDelivery(Delivery):
    """How a result is delivered that may come to no judgement.

    Attributes:
        allow_unjudged: whether what was not judged is no failure.
    """

    allow_unjudged: Annotated[
        bool,
        typer.Option("--allow-unjudged", help="End with 0, not 3, where nothing was found but not all was judged."),
    ] = False

    def end(self, ending: Ending) -> None:
        """End the command with the exit status that its result comes to."""
        from ..endings import Ending

        if ending is Ending.UNJUDGED and self.allow_unjudged:
            return
        if ending is not Ending.WELL:
            raise typer.Exit(ending)


def _check_folder(out: Path | None) -> None:
    if out is not None and not out.absolute().parent.is_dir():
        raise UsageError(f"--out {out}: there is no folder {out.parent}")


def _gathered(pieces: Iterable[str]) -> Iterator[str]:
    """Pieces in larger ones: each is sent on its way at once."""
    waiting: list[str] = []
    length = 0
    for piece in pieces:
        waiting.append(piece)
        length += len(piece)
        if length > _LARGE:
            yield "".join(waiting)
            waiting, length = [], 0
    yield "".join(waiting)


def deliver_text(text: str, out: Path | None) -> None:
    """Print a text for other programs, or write it to a file, whole or not at all."""
    from ..writing import write_text

    if out is None:
        typer.echo(_encodable(text, sys.stdout.encoding or "utf-8"), nl=False)
        return
    _check_folder(out)
    write_text(out, text)
    typer.echo(f"wrote {out}", err=True)


def _deliver_bytes(data: bytes, out: Path | None) -> None:
    """Write a picture to a file, or to a pipe."""
    from ..writing import write_bytes

    if out is not None:
        write_bytes(out, data)
        typer.echo(f"wrote {out}", err=True)
    elif sys.stdout.isatty():
        raise UsageError("a picture is not for a terminal; name a file with --out")
    else:
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()


def _encodable(text: str, encoding: str) -> str:
    """A text with escapes for what cannot be written: claims of a token may hold half a character."""
    return text.encode(encoding, "backslashreplace").decode(encoding)


def _listed(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} or {names[-1]}"
