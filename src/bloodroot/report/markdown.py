"""Sheets as Markdown, for a comment on a pull request."""

from __future__ import annotations

import re
from collections.abc import Iterator

from .grid_layout import grid_sections
from .sheet import Cell, Line, Meaning, Pieces, Section, Sheet, pieces, text_of

# What a reader of the comment can take in; the rest is counted, and is in the other formats.
MOST_ROWS = 100
_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~&@])")
_BOLD = (Meaning.WRONG, Meaning.WARN)
_CODE = (Meaning.ENDPOINT, Meaning.PLACE)


def write(sheet: Sheet) -> str:
    """The headline, each section with its table, and what to do next."""
    parts = [f"### {plain(sheet.headline.text)}", ""]
    for section in sheet.sections:
        for part in grid_sections(section.grid) if section.grid is not None else (section,):
            parts += _section(part)
    parts += [f"{plain(text)}\n" for text in sheet.closing]
    return "\n".join(parts).rstrip("\n") + "\n"


def _section(section: Section) -> Iterator[str]:
    if section.title:
        yield from (f"#### {_pieces(section.title)}", "")
    yield from _lines(section.lines)
    if section.rows:
        width = max(len(section.heads), *map(len, section.rows))
        heads = [*map(plain, section.heads), *[""] * (width - len(section.heads))]
        yield f"| {' | '.join(heads)} |"
        yield f"|{' --- |' * width}"
        for row in section.rows[:MOST_ROWS]:
            yield f"| {' | '.join([*map(_cell, row), *[''] * (width - len(row))])} |"
        if len(section.rows) > MOST_ROWS:
            yield f"\n{len(section.rows) - MOST_ROWS} more; the table and the JSON have all of them."
        yield ""


def _lines(lines: tuple[Line, ...]) -> Iterator[str]:
    commands = False
    for number, line in enumerate(lines):
        if line.command and not commands:
            yield from ("", "```sh")
        elif commands and not line.command:
            yield from ("```", "")
        commands = line.command
        if commands:
            # No command can end the block: none begins with a backquote.
            yield one_line(text_of(line.pieces))
        else:
            yield f"{'  ' * (line.indent // 8)}- {_pieces(line.pieces)}"
        if number == len(lines) - 1:
            yield from ("```", "") if commands else ("",)


def _cell(value: Cell | str | Pieces) -> str:
    return _pieces(pieces(value))


def _pieces(parts: Pieces) -> str:
    return "".join(_piece(part) for part in parts)


def _piece(part: Cell | str) -> str:
    if isinstance(part, str):
        return _broken(part)
    if not part.text.strip():
        return part.text
    if part.meaning in _CODE:
        return code(part.text)
    return f"**{_broken(part.text)}**" if part.meaning in _BOLD else _broken(part.text)


def _broken(text: str) -> str:
    return "<br>".join(map(plain, text.split("\n")))


def plain(text: str) -> str:
    """A text in which nothing is markup: names come from policies, and a comment is shown to others."""
    return _SPECIAL.sub(r"\\\1", one_line(text))


def code(text: str) -> str:
    """A text as code, in a cell of a table."""
    text = one_line(text)
    fence = "`" * (max(map(len, re.findall("`+", text)), default=0) + 1)
    blank = " " if text.startswith("`") or text.endswith("`") else ""
    return f"{fence}{blank}{text}{blank}{fence}".replace("|", "\\|")


def one_line(text: str) -> str:
    """A text in which each character that cannot be printed is a blank."""
    return "".join(character if character.isprintable() else " " for character in text)
