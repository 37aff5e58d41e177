"""Sheets in a terminal, a pipe or a text file."""

from __future__ import annotations

import re
from collections.abc import Iterator

from rich.cells import cell_len
from rich.console import Console, RenderableType
from rich.padding import Padding
from rich.text import Text

from .colours import STYLES
from .grid_layout import grid_lines
from .sheet import Cell, Line, Meaning, Pieces, Section, Sheet, pieces, printable

_BETWEEN = "  "  # columns
_NARROWEST = 4
_NOTHING = Text()
# Words of a command line; what is in quotes is never broken.
_WORD = re.compile(r"""(?:"(?:[^"\\]|\\.)*"|'[^']*'|\\.|[^\s"'\\])+""")


def write(sheet: Sheet, console: Console) -> str:
    """A sheet as a console shows it, without the blanks that pad a table to its full width."""
    shown: list[str] = []
    width, plain = console.width, console.color_system is None
    for part in _parts(sheet, console):
        if isinstance(part, Text) and plain and _fits(part, width):
            # Nothing to wrap and no colours to add: a large table in a pipe is soon there.
            shown.append(part.plain)
        else:
            with console.capture() as captured:
                console.print(part)
            shown.append(captured.get().removesuffix("\n"))
    return "\n".join(line.rstrip() for part in shown for line in part.split("\n")) + "\n"


def _fits(text: Text, width: int) -> bool:
    return bool(text.no_wrap) or all(cell_len(line) <= width for line in text.plain.split("\n"))


def _parts(sheet: Sheet, console: Console) -> Iterator[RenderableType]:
    ascii_only = not console.encoding.lower().startswith("utf")
    yield _text((Cell(sheet.headline.text, sheet.headline.meaning, bold=True),), ascii_only=ascii_only)
    for section in sheet.sections:
        if section.wide:
            continue
        if not section.tight:
            yield Text()
        yield from _section(section, console, ascii_only=ascii_only)
    if sheet.closing:
        yield Text()
        yield from map(Text, map(printable, sheet.closing))


def _section(section: Section, console: Console, *, ascii_only: bool) -> Iterator[RenderableType]:
    width = console.width
    if section.title:
        yield _text(section.title, ascii_only=ascii_only)
    for line in section.lines:
        if line.command:
            yield from _command(line, console.width)
        else:
            text = _text(line.pieces, ascii_only=ascii_only)
            indented = Text(" " * line.indent).append_text(text) if line.indent else text
            # What has to be wrapped is indented in each of its lines.
            yield (
                indented if _fits(indented, width) and "\n" not in text.plain else Padding(text, (0, 0, 0, line.indent))
            )
    if section.grid is not None:
        yield from grid_lines(section.grid, console)
    if section.rows:
        rows = [[_text(pieces(cell), ascii_only=ascii_only) for cell in row] for row in section.rows]
        yield from _table([Text(head, style="bold") for head in section.heads], rows, console)


def _table(heads: list[Text], rows: list[list[Text]], console: Console) -> Iterator[Text]:
    """The lines of a table. Cells are wrapped in those rows alone that need it, so that a long table is soon there."""
    every = [heads, *rows] if heads else rows
    widths = [0] * max(map(len, every))
    for row in every:
        for number, cell in enumerate(row):
            widths[number] = max(widths[number], *map(cell_len, cell.plain.split("\n")))
    widths = _narrowed(widths, console.width - len(_BETWEEN) * (len(widths) - 1))
    together = Text(no_wrap=True, overflow="ignore")
    for row in every:
        cells = [
            [cell] if "\n" not in cell.plain and cell.cell_len <= width else cell.wrap(console, width, overflow="fold")
            for cell, width in zip(row, widths, strict=False)
        ]
        for number in range(max(map(len, cells))):
            for column, lines in enumerate(cells):
                line = lines[number] if number < len(lines) else _NOTHING
                together.append_text(line)
                if column < len(cells) - 1:
                    together.append(" " * (widths[column] - line.cell_len) + _BETWEEN)
            together.append("\n")
    together.right_crop()
    yield together


def _narrowed(widths: list[int], room: int) -> list[int]:
    """The widths of columns that have to share a room: the widest are made narrower first."""
    widths = [*widths]
    while (excess := sum(widths) - room) > 0 and max(widths) > _NARROWEST:
        widest = max(widths)
        alike = [number for number, width in enumerate(widths) if width == widest]
        next_widest = max((width for width in widths if width < widest), default=_NARROWEST)
        less = min(max(1, excess // len(alike)), widest - max(next_widest, _NARROWEST) or 1)
        for number in alike[: max(1, min(len(alike), excess))]:
            widths[number] -= less
    return widths


def _text(parts: Pieces, *, ascii_only: bool) -> Text:
    text = Text()
    for part in parts:
        if isinstance(part, str):
            text.append(printable(part))
        else:
            style = STYLES[part.meaning]
            text.append(
                part.ascii if ascii_only and part.ascii is not None else printable(part.text),
                f"bold {style}".replace("bold bold", "bold").strip() if part.bold else style,
            )
    return text


def _command(line: Line, width: int) -> Iterator[Text]:
    """A command line in parts that fit a width, as a shell reads it still: broken only between words."""
    parts: list[str] = [""]
    room = max(width - line.indent - 6, 40)
    for word in _WORD.findall("".join(part if isinstance(part, str) else part.text for part in line.pieces)):
        if parts[-1] and len(parts[-1]) + 1 + len(word) > room:
            parts[-1] += " \\"
            parts.append(word)
        else:
            parts[-1] = f"{parts[-1]} {word}".strip()
    for number, part in enumerate(parts):
        text = printable(f"{' ' * line.indent}{'$ ' if not number else '    '}{part}")
        yield Text(text, style=STYLES[Meaning.QUIET], no_wrap=True, overflow="ignore")
