"""Policy text cut into sections and entries, and each entry into tokens."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NamedTuple

from .problems import Place, Problem, Source

_TOKEN = re.compile(
    r"""
    [ \t]*
    (?:
      (?P<word>[^\W\d][\w\-]*(?:[.:](?:\*|[\w\-]+))*)   # name, permission, reference, method
    | (?P<path>/[^\s\#]*)
    | (?P<string>"(?:[^"\\]|\\.)*")
    | (?P<number>-?\d+(?:\.\d+)?(?![\w.]))
    | (?P<mark>==|!=|<=|>=|[<>()\[\],*])
    | (?P<comment>\#.*)
    | (?P<stray>.)
    )
    """,
    re.VERBOSE,
)

# What people type from other languages, and what to write here.
_FOREIGN = {
    "&": 'write "and"',
    "|": 'write "or"',
    "!": 'write "not", or != to compare',
    "=": "compare with ==",
    "'": 'text stands between double quotes: "..."',
    ":": 'a permission is "thing:verb", without blanks',
    ".": 'a reference is "record.name", without blanks',
    "{": "a path begins with /",
    ";": "entries stand one to a line",
    "`": 'text stands between double quotes: "..."',
    "-": "a name begins with a letter",
}


class Token(NamedTuple):
    """One word of an entry. ``kind`` is ``word``, ``path``, ``string``, ``number``, ``mark`` or ``end``."""

    kind: str
    text: str
    line: int
    column: int


@dataclass(slots=True)
class Entry:
    """The tokens of one entry, its continuation lines included; the last token has the kind ``end``.

    ``spoiled`` marks an entry with a character that means nothing: it is reported already, and not parsed.
    """

    tokens: list[Token]
    indent: int
    spoiled: bool = False


@dataclass(slots=True)
class Section:
    """A header and the entries indented under it."""

    header: Entry
    entries: list[Entry]


def read_sections(source: Source) -> tuple[list[Section], list[Problem]]:
    """Cut a source into sections and entries. Mistakes are reported and passed over."""
    sections: list[Section] = []
    problems: list[Problem] = []
    entry: Entry | None = None
    indent_of_entries = 0
    for number, text in enumerate(source.lines, 1):
        body = text.lstrip(" ")
        if not body or body[0] == "#":
            continue
        indent = len(text) - len(body)
        if not body.strip():
            continue
        before = len(problems)
        tokens = _tokens(source, number, text, indent, problems)
        spoiled = len(problems) > before
        if indent == 0:
            entry = Entry(tokens, 0, spoiled)
            sections.append(Section(entry, []))
            indent_of_entries = 0
        elif not sections:
            problems.append(
                Problem(
                    "this line belongs to no section; a section header such as endpoints starts in the first column",
                    Place(source, number, indent + 1, len(text) - indent),
                )
            )
        elif entry is not None and indent > entry.indent and sections[-1].entries:
            entry.tokens.extend(tokens)
            entry.spoiled |= spoiled
        elif not sections[-1].entries or indent == indent_of_entries:
            indent_of_entries = indent
            entry = Entry(tokens, indent, spoiled)
            sections[-1].entries.append(entry)
        else:
            problems.append(
                Problem(
                    f"the entries of this section are indented by {indent_of_entries}, this one by {indent}; "
                    "indent it like the others, or deeper to continue the entry above",
                    Place(source, number, 1, indent),
                )
            )
    for section in sections:
        for each in (section.header, *section.entries):
            if each.tokens:
                last = each.tokens[-1]
                each.tokens.append(Token("end", "", last.line, last.column + len(last.text)))
    return sections, problems


def _tokens(source: Source, number: int, text: str, indent: int, problems: list[Problem]) -> list[Token]:
    """The tokens of one line, up to the first character that begins none."""
    tokens: list[Token] = []
    end = len(text.rstrip())
    for match in _TOKEN.finditer(text, indent, end):
        kind = match.lastgroup
        if kind == "comment" or kind is None:
            break
        found = match[kind]
        if kind == "stray":
            problems.append(_stray(source, number, match.start(kind) + 1, found, text))
            break
        tokens.append(Token(kind, found, number, match.start(kind) + 1))
    return tokens


def _stray(source: Source, number: int, column: int, found: str, text: str) -> Problem:
    """The problem with a character that begins no token."""
    if found == '"':
        return Problem(
            'this text is not closed; it ends with " on the same line',
            Place(source, number, column, len(text.rstrip()) - column + 1),
        )
    if found in "\t\r\f\v":
        return Problem("a tab or another control character; use spaces", Place(source, number, column, 1))
    if found.isdigit():
        length = len(re.match(r"[\w.\-]+", text[column - 1 :])[0])  # type: ignore[index]
        return Problem("a name begins with a letter", Place(source, number, column, length))
    told = repr(found) if not found.isprintable() else f'"{found}"'
    way_out = _FOREIGN.get(found)
    return Problem(
        f"the character {told} has no meaning here" + (f"; {way_out}" if way_out else ""),
        Place(source, number, column, 1),
    )
