"""Names in a policy text: where each is declared, and where it is used. The text may have mistakes in it.

Texts are read by entries, and an entry that has not changed is not read again: so an answer for a large file takes no
longer than finding what has changed.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from itertools import pairwise
from typing import NamedTuple

from ..language.parser import METHODS
from ..language.problems import SourceText
from ..language.reader import RESERVED, ROOTS
from ..language.tokenizer import Entry, Token, read_entries, tokens_of


class Kind(StrEnum):
    """What a name is the name of."""

    ROLE = "role"
    GROUP = "group"
    PERMISSION = "permission"
    CONDITION = "condition"
    THING = "thing"
    USE = "use"  # of a role, a permission or a condition


class Occurrence(NamedTuple):
    """A name at a place.

    Attributes:
        kind: what it is the name of; `Kind.USE` where only its declaration says that.
        name: the name.
        line: the line, counted from 0.
        start: where it begins in the line, counted from 0.
        is_declared: whether it is declared here.
    """

    kind: Kind
    name: str
    line: int
    start: int
    is_declared: bool

    @property
    def end(self) -> int:
        """Where it ends in the line."""
        return self.start + len(self.name) + (2 if self.kind is Kind.GROUP else 0)


class EntryAt(NamedTuple):
    """An entry, and the section that it is in.

    Attributes:
        section: the keyword of the section; ``roles in`` with what the header says.
        header: whether it is the header itself.
        first: its first line, counted from 0.
        last: its last line.
        inner: the names in it, their lines counted from its first one.
    """

    section: str
    header: bool
    first: int
    last: int
    inner: tuple[Occurrence, ...]

    @property
    def names(self) -> Iterator[Occurrence]:
        """The names in it."""
        return (name._replace(line=name.line + self.first) for name in self.inner)


_WORDS = RESERVED.union(METHODS, ("WEBSOCKET", "except"))  # none of them is the name of anything


def entries_of(text: str) -> list[EntryAt]:
    """The entries of a text, with the names in them."""
    source = SourceText("<editor>", tuple(text.split("\n")))
    entries: list[EntryAt] = []
    section, of_section = "", _known.setdefault("", {})
    for entry in read_entries(source, []):
        first = entry.line - 1
        if not entry.indent:
            section = section_of(entry.text)
            of_section = _known.setdefault(section, {})
            entries.append(EntryAt(section, True, first, first, _names(section, True, (entry.text,), ())))
        elif entry.more:
            lines = (entry.text, *(line for _, line in entry.more))
            offsets = tuple(number - entry.line for number, _ in entry.more)
            entries.append(
                EntryAt(section, False, first, entry.more[-1][0] - 1, _names(section, False, lines, offsets))
            )
        else:
            # Nearly all entries are one line, and nearly all lines are as they were.
            names = of_section.get(entry.text)
            if names is None:
                if len(of_section) > _MOST:
                    of_section.clear()
                names = of_section[entry.text] = _names(section, False, (entry.text,), ())
            entries.append(EntryAt(section, False, first, first, names))
    return entries


_MOST = 50_000
_known: dict[str, dict[str, tuple[Occurrence, ...]]] = {}  # by section, the names of a line


def section_of(header: str) -> str:
    """The keyword of a section, by its header."""
    words = header.partition("#")[0].split()
    return " ".join(words[:2]) if words[:2] == ["roles", "in"] else words[0] if words else ""


def _names(section: str, is_header: bool, lines: tuple[str, ...], offsets: tuple[int, ...]) -> tuple[Occurrence, ...]:
    """The names of an entry, as if it began on the first line."""
    source = SourceText("<editor>", lines)
    more = [(2 + place, text) for place, text in enumerate(lines[1:])]
    read = tokens_of(source, Entry(1, lines[0], len(lines[0]) - len(lines[0].lstrip(" ")), more or None))
    tokens = [token for token in read.tokens if token[0] != "end"]
    places = (0, *offsets)
    found = _in_header(tokens) if is_header else _in_entry(section, tokens)
    return tuple(
        Occurrence(kind, text.strip('"'), places[line - 1], column - 1, declared)
        for kind, (_, text, line, column), declared in found
    )


_Found = Iterator[tuple[Kind, Token, bool]]


def _in_header(tokens: list[Token]) -> _Found:
    if len(tokens) > 2 and [token[1] for token in tokens[:2]] == ["roles", "in"]:
        yield Kind.THING, tokens[2], False


def _in_entry(section: str, tokens: list[Token]) -> _Found:
    words = [token for token in tokens if token[0] == "word"]
    if section in ("roles", "roles in") and words and words[0][1] == "apart":
        yield from ((Kind.ROLE, token, False) for token in words[1:])
    elif section in ("roles", "roles in"):
        yield from _declared(Kind.ROLE, words)
        yield from ((Kind.ROLE, token, False) for token in words[1:] if token[1] not in ("includes", "default"))
    elif section == "groups":
        yield from ((Kind.GROUP, token, True) for token in tokens[:1] if token[0] == "string")
        yield from ((Kind.ROLE, token, False) for token in words)
    elif section == "things":
        yield from _declared(Kind.THING, words)
        for before, token in pairwise(words):
            if before[1] == "in":
                yield Kind.THING, token, False
    elif section == "permissions":
        yield from _declared(Kind.PERMISSION, words)
        yield from _uses(words[1:])
    elif section == "conditions":
        yield from _declared(Kind.CONDITION, words)
        yield from _uses(words[1:])
    elif section == "fields":
        yield from _uses(words[1:] if tokens and tokens[0][0] == "word" else words)
    elif section == "denials":
        yield from ((Kind.USE, token, False) for token in words if _is_name(token))
    elif section in ("endpoints", "always"):
        yield from _uses([token for token in _requirement(tokens) if token[0] == "word"])


def _requirement(tokens: list[Token]) -> list[Token]:
    """What comes behind the methods and the path, or behind the actions, up to what the entry accepts."""
    start = next((place + 1 for place, token in enumerate(tokens) if token[0] == "path"), None)
    if start is None:
        start = 0
        if tokens and tokens[0][1] == "action":
            # Names of actions have commas between them; the requirement follows without one.
            start = 2
            while start + 1 < len(tokens) and tokens[start][1] == ",":
                start += 2
    end = next((place for place, token in enumerate(tokens) if token[1] == "accept" and token[0] == "word"), None)
    return tokens[start:end]


def _declared(kind: Kind, words: list[Token]) -> _Found:
    yield from ((kind, token, True) for token in words[:1])


def _uses(words: list[Token]) -> _Found:
    """Names that are used: roles, permissions and conditions, and the thing of a role that is held in any of it."""
    for place, token in enumerate(words):
        before = [words[place - back][1] if place >= back else "" for back in (1, 2)]
        if before == ["any", "in"]:
            yield Kind.THING, token, False
        elif before[0] not in ("accept",) and _is_name(token):
            yield Kind.USE, token, False


def _is_name(token: Token) -> bool:
    text = token[1]
    return text not in _WORDS and text.partition(".")[0].rstrip("?") not in ROOTS and "." not in text
