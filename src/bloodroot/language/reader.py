"""The tokens of one entry, read from left to right."""

from __future__ import annotations

import re
from typing import NoReturn

from . import tree
from .problems import Place, Problem, SourceText
from .tokenizer import Token

AUDIENCES = ("anyone", "signed-in", "signed-out", "nobody")
ROOTS = ("caller", "record", "records", "path", "query", "args")
# Words of the language: none of them can be the name of a role or a condition.
RESERVED = frozenset(
    (
        *AUDIENCES,
        *ROOTS,
        *("and", "or", "not", "if", "in", "true", "false", "none", "now", "any", "includes", "default", "apart"),
        *("guarded", "action", "accept", "go", "hide", "status", "read", "change"),
    )
)
_ESCAPED = re.compile(r"\\(.)")


class Mistake(Exception):
    """The entry at hand cannot be read."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem


class Reader:
    """The tokens of one entry, read from left to right. Words are placed from an origin, by default the first.

    Attributes:
        inline: whether a requirement may hold comparisons, as that of a guard may, which has nowhere to name them.
    """

    __slots__ = ("depth", "inline", "kind", "origin", "position", "source", "text", "tokens")

    def __init__(self, source: SourceText, tokens: list[Token]) -> None:
        self.source = source
        self.tokens = tokens
        self.depth = 0
        self.inline = False
        self.position = 0
        self.kind, self.text, line, column = tokens[0]
        self.origin = (line, column)

    def take(self) -> Token:
        """The token at hand; the next one becomes the token at hand."""
        token = self.tokens[self.position]
        if token[0] != "end":
            self.position += 1
            self.kind, self.text, _, _ = self.tokens[self.position]
        return token

    def place(self, token: Token | None = None) -> Place:
        """Where a token is, by default the one at hand."""
        _, text, line, column = token or self.tokens[self.position]
        return Place(self.source, line, column, len(text) or 1)

    def from_here(self) -> Place:
        """Make the token at hand the origin of the words that follow."""
        place = self.place()
        self.origin = (place.line, place.column)
        return place

    def word(self) -> tree.Word:
        """The token at hand, as a node."""
        _, text, line, column = self.take()
        down = line - self.origin[0]
        return tree.Word(text, down, column - (1 if down else self.origin[1]))

    def skip(self, text: str) -> bool:
        """Pass over this word or mark where it is at hand. A string, quotes and all, is never taken for one."""
        if self.text == text:
            self.take()
            return True
        return False

    def name(self, what: str) -> tree.Word:
        """NAME, and not one of the language's own words."""
        if self.kind != "word":
            self.fail(f"expected {what}, found {self.found()}")
        if "." in self.text or ":" in self.text or "?" in self.text:
            self.fail(f'"{self.text}" is not a name for {what}: letters, digits, - and _')
        if self.text in RESERVED:
            self.fail(f'"{self.text}" is a word of the language and cannot name {what}')
        return self.word()

    def string(self, what: str) -> str:
        """STRING, with its quotes off and its escapes undone."""
        if self.kind != "string":
            self.fail(f"expected {what} between double quotes, found {self.found()}")
        return _unquoted(self.take()[1])

    def optional_string(self) -> str | None:
        """[ STRING ]"""
        return _unquoted(self.take()[1]) if self.kind == "string" else None

    def end(self, hint: str = "") -> None:
        """Nothing may be left of the entry."""
        if self.kind != "end":
            self.fail(f"did not expect {self.found()} here{hint}")

    def found(self) -> str:
        """The token at hand as a message calls it."""
        if self.kind == "end":
            return "the end of the line"
        return self.text if self.kind == "string" else f'"{self.text}"'

    def fail(self, message: str, place: Place | None = None) -> NoReturn:
        """Give up this entry."""
        raise Mistake(Problem(message, place or self.place()))


def _unquoted(text: str) -> str:
    return _ESCAPED.sub(r"\1", text[1:-1]) if "\\" in text else text[1:-1]


def read_names(reader: Reader, what: str) -> list[tree.Word]:
    """names = NAME { "," NAME }"""
    names = [reader.name(what)]
    while reader.skip(","):
        names.append(reader.name(what))
    return names
