"""On which line of a TOML file each key is. The text is known to be valid TOML, which the standard library has read."""

from __future__ import annotations

import re

KeyPath = tuple[str | int, ...]

_KEY = re.compile(r"""[ \t]*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([A-Za-z0-9_-]+))[ \t]*""")
_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
# What a value consists of, as far as its end is concerned: strings, brackets, comments, and everything else.
_PIECE = re.compile(
    r"""\"{3}(?:[^\\]|\\.)*?\"{3,5} | '{3}.*?'{3,5} | "(?:[^"\\\n]|\\.)*" | '[^'\n]*' | \#[^\n]* | \n | .""",
    re.S | re.X,
)


def places_of(text: str) -> dict[KeyPath, int]:
    """The line of each table and key, counted from 1. Tables in an array have their number in the path, from 0.

    Keys within an inline table are found there too where they have lines of their own; else the line
    of the table is theirs.
    """
    places: dict[KeyPath, int] = {}
    counts: dict[KeyPath, int] = {}
    table: KeyPath = ()
    position = counted = 0
    line = 1
    while True:
        blank = _BLANK.match(text, position)
        position = blank.end() if blank is not None else position
        if position >= len(text):
            return places
        line += text.count("\n", counted, position)
        counted = position
        if text[position] == "[":
            several = text.startswith("[[", position)
            names, position = _names(text, position + (2 if several else 1))
            table = _numbered(names, counts)
            if several:
                counts[table] = counts.get(table, -1) + 1
                places.setdefault(table, line)
                table = (*table, counts[table])
            for length in range(1, len(table) + 1):
                places.setdefault(table[:length], line)
            position = text.find("\n", position)
            if position < 0:
                return places
        else:
            names, position = _names(text, position)
            for length in range(1, len(names) + 1):
                places.setdefault((*table, *names[:length]), line)
            position = _end_of_value(text, position)


def line_of(path: KeyPath, places: dict[KeyPath, int]) -> int | None:
    """The line of a key, or of the nearest table around it; None where neither is in the file."""
    while path:
        if path in places:
            return places[path]
        path = path[:-1]
    return None


def _names(text: str, position: int) -> tuple[list[str], int]:
    """The names of a key with dots between them, and where they end."""
    names = []
    while match := _KEY.match(text, position):
        names.append(next(group for group in match.groups() if group is not None))
        position = match.end()
        if text[position : position + 1] != ".":
            break
        position += 1
    return names, position


def _numbered(names: list[str], counts: dict[KeyPath, int]) -> KeyPath:
    """The path of a table; below an array of tables, within the last one of it."""
    path: KeyPath = ()
    for number, name in enumerate(names):
        path = (*path, name)
        if path in counts and number < len(names) - 1:
            path = (*path, counts[path])
    return path


def _end_of_value(text: str, position: int) -> int:
    """Where the line after a value begins; an array may go on over several lines."""
    depth = 0
    for piece in _PIECE.finditer(text, position):
        if piece[0] in ("[", "{"):
            depth += 1
        elif piece[0] in ("]", "}"):
            depth -= 1
        elif piece[0] == "\n" and depth <= 0:
            return piece.end()
    return len(text)
