"""What a result shows: one sheet, which any writer of a format can write."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from ..core.decision import Outcome

if TYPE_CHECKING:
    from ..core.matrix import Matrix


class Meaning(StrEnum):
    """What a cell is to a reader; each writer shows it in its own way."""

    PLAIN = "plain"
    STRONG = "strong"
    QUIET = "quiet"
    GOOD = "good"
    WRONG = "wrong"
    WARN = "warn"
    OPEN = "open"
    ASKS = "asks"
    ENDPOINT = "endpoint"
    PLACE = "place"


OF_OUTCOME = {
    Outcome.ALLOW: Meaning.GOOD,
    Outcome.DEPENDS: Meaning.OPEN,
    Outcome.SIGN_IN: Meaning.ASKS,
    Outcome.DENY: Meaning.QUIET,
}


@dataclass(frozen=True, slots=True)
class Cell:
    """A text with its meaning.

    Attributes:
        text: the text.
        meaning: what it is to a reader.
        ascii: the text where only ASCII can be shown; by default the same.
        bold: whether it is emphasised as well.
    """

    text: str
    meaning: Meaning = Meaning.PLAIN
    ascii: str | None = None
    bold: bool = False


# Pieces of one text, each with its own meaning.
Pieces = tuple["Cell | str", ...]
ARROW = Cell("→", ascii="->")


def pieces(value: Cell | str | Pieces) -> Pieces:
    """A cell as pieces of text."""
    return value if isinstance(value, tuple) else (value,)


def text_of(value: Cell | str | Pieces) -> str:
    """A cell as text alone."""
    return "".join(piece if isinstance(piece, str) else piece.text for piece in pieces(value))


def strong(text: str) -> Cell:
    """An emphasised text."""
    return Cell(text, Meaning.STRONG)


def quiet(text: str) -> Cell:
    """A text of less weight."""
    return Cell(text, Meaning.QUIET)


def endpoint(text: str, *, bold: bool = False) -> Cell:
    """An endpoint, as ``GET /trials/{trial_id}``."""
    return Cell(text, Meaning.ENDPOINT, bold=bold)


def place(text: str) -> Cell:
    """A place in a file, or a line of it."""
    return Cell(text, Meaning.PLACE)


@dataclass(frozen=True, slots=True)
class Line:
    """A line of text.

    Attributes:
        pieces: its text.
        indent: by how many characters it is indented.
        command: whether it is a command line, which a shell must be able to read.
    """

    pieces: Pieces
    indent: int = 0
    command: bool = False


def line(*parts: Cell | str, indent: int = 0) -> Line:
    """A line made of pieces of text."""
    return Line(parts, indent)


def command(text: str, indent: int = 0) -> Line:
    """A command line."""
    return Line((text,), indent, command=True)


@dataclass(frozen=True, slots=True)
class Grid:
    """A matrix inside of a sheet.

    Attributes:
        matrix: the matrix.
        lacking: cells to mark, by row and number of column.
        folded: whether endpoints with equal rows are shown as one.
        guards: whether to show what guards in handlers require.
    """

    matrix: Matrix
    lacking: frozenset[tuple[object, int]] = frozenset()
    folded: bool = False
    guards: bool = False


@dataclass(frozen=True, slots=True)
class Section:
    """A part of a sheet: lines of text, then a table.

    Attributes:
        title: what it is about; empty for none.
        lines: lines of text.
        heads: the heads of the columns of a table; empty for one without.
        rows: the rows of that table; a row may be shorter than others.
        grid: a matrix in the place of the table.
        tight: whether it follows the one before without a blank line.
        wide: whether it is too wide for a terminal, and shown by other formats alone.
    """

    title: Pieces = ()
    lines: tuple[Line, ...] = ()
    heads: tuple[str, ...] = ()
    rows: tuple[tuple[Cell | str | Pieces, ...], ...] = ()
    grid: Grid | None = None
    tight: bool = False
    wide: bool = False


@dataclass(frozen=True, slots=True)
class Sheet:
    """What a result shows.

    Attributes:
        headline: the answer in one line.
        sections: the detail, for people.
        closing: what was shown, and what to do next.
        columns: the names of the columns of its list, for spreadsheets; empty where it is no list.
        rows: the rows of that list.
    """

    headline: Cell
    sections: tuple[Section, ...] = ()
    closing: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    rows: Iterable[tuple[object, ...]] = ()


def printable(text: str, kept: str = "\n") -> str:
    """A text that no terminal takes for a command: names may come from a directory, a token or an application."""
    if text.isprintable():
        return text
    return "".join(character if character.isprintable() or character in kept else "?" for character in text)


def plural(count: int, word: str) -> str:
    """A count with its word: ``1 hole``, ``3 holes``."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def text_section(lines: Iterable[str], *, title: str = "", most: int | None = None, indent: int = 2) -> Section:
    """Texts under a title, each a line; those beyond the most are counted."""
    texts = list(lines)
    shown = texts if most is None else texts[:most]
    more = [f"and {len(texts) - len(shown)} more"] if len(texts) > len(shown) else []
    return Section((strong(title),) if title else (), tuple(line(text, indent=indent) for text in (*shown, *more)))
