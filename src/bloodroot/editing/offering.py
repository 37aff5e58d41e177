"""What can be written at a place: names and keywords where the grammar takes them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from ..core.answers import REASONS
from ..core.methods import ANY, COMMON, WEBSOCKET
from ..language.parser import SECTIONS
from ..language.reader import AUDIENCES, ROOTS
from ..survey.kept_endpoints import kept_endpoints
from .occurrences import Kind, section_of
from .projects import Projects, settings_above

_METHODS = (*COMMON, WEBSOCKET, ANY)
_WORD = re.compile(r"[\w.:*/{}-]*\Z")


@dataclass(frozen=True, slots=True)
class Offer:
    """Something that can be written.

    Attributes:
        text: what is written.
        kind: ``keyword``, ``path``, or a `Kind`.
        detail: more about it.
    """

    text: str
    kind: str
    detail: str = ""


class OfferedWords(NamedTuple):
    """What can be written at a place.

    Attributes:
        start: where the word begins that it takes the place of.
        offers: what can be written.
    """

    start: int
    offers: list[Offer]


def offers(projects: Projects, file: Path, line: int, column: int) -> OfferedWords:
    """What can be written at a place.

    Args:
        projects: the open files.
        file: the file.
        line: the line, counted from 0.
        column: the place in it, counted from 0.
    """
    lines = projects.text(file).split("\n")
    before = lines[line][:column] if line < len(lines) else ""
    match = _WORD.search(before)
    start = match.start() if match is not None else column
    if "#" in before or before.count('"') % 2:
        return OfferedWords(start, [])
    if not before[:1].isspace():
        return OfferedWords(start, [Offer(word, "keyword") for word in SECTIONS] if not before[:start].strip() else [])
    section, done = _context(lines, line, before[:start])
    named = _Named(projects, file)
    offered = _in_section(section, done, named) if section else ()
    return OfferedWords(start, list({offer.text: offer for offer in offered}.values()))


class _Context(NamedTuple):
    """Where in a policy a line is.

    Attributes:
        section: its section; an empty string for none.
        words: the words of its entry that come before.
    """

    section: str
    words: list[str]


def _context(lines: list[str], line: int, before: str) -> _Context:
    """The section that a line is in, and the words of its entry that come before."""
    entry = [before]
    indent = len(before) - len(before.lstrip(" "))
    place = line - 1
    inner = next((len(text) - len(text.lstrip(" ")) for text in lines[:line][::-1] if _is_entry(text)), indent)
    while place >= 0 and indent > inner and not _is_header(lines[place]):
        # A line that is indented deeper goes on with the entry above.
        entry.insert(0, lines[place])
        indent = len(lines[place]) - len(lines[place].lstrip(" ")) if lines[place].strip() else indent
        if _is_entry(lines[place]) and indent <= inner:
            break
        place -= 1
    header = next((text for text in lines[:line][::-1] if _is_header(text)), "")
    return _Context(
        section_of(header), " ".join(entry).replace(",", " , ").replace("(", " ( ").replace(")", " ) ").split()
    )


def _is_header(text: str) -> bool:
    return bool(text.strip()) and not text[0].isspace() and not text.startswith("#")


def _is_entry(text: str) -> bool:
    return bool(text.strip()) and text[0].isspace() and not text.lstrip().startswith("#")


class _Named:
    """The names of a policy, by kind."""

    def __init__(self, projects: Projects, file: Path) -> None:
        self._projects, self._file = projects, file
        self._names = [name for _, name in projects.declared(file)]

    def of(self, *kinds: Kind) -> Iterator[Offer]:
        """The names of these kinds."""
        for name in self._names:
            if name.kind in kinds:
                yield Offer(f'"{name.name}"' if name.kind is Kind.GROUP else name.name, name.kind.value)

    def requirement(self) -> Iterator[Offer]:
        """What a requirement may name."""
        yield from self.of(Kind.ROLE, Kind.PERMISSION, Kind.CONDITION)
        yield from keywords((*AUDIENCES, "guarded", "not"))

    def paths(self) -> Iterator[Offer]:
        """Paths of the last survey of the project."""
        settings = settings_above(self._file).settings
        folder = settings.folder if settings is not None else self._file.parent
        for path, methods in kept_endpoints(folder).items():
            yield Offer(path, "path", " ".join(methods))


def keywords(words: Iterable[str]) -> Iterator[Offer]:
    """Keywords as offers."""
    return (Offer(word, "keyword") for word in words)


def _in_section(section: str, done: list[str], named: _Named) -> Iterator[Offer]:
    last = done[-1] if done else ""
    if section in ("endpoints", "always"):
        yield from _at_endpoint(section, done, named)
    elif section in ("roles", "roles in"):
        if not done:
            yield from keywords(("apart",))
        elif last in ("includes", "apart", ","):
            yield from named.of(Kind.ROLE)
        else:
            yield from keywords(("includes", *(("default",) if section == "roles" else ())))
    elif section == "groups" and done:
        yield from named.of(Kind.ROLE)
    elif section == "things" and done:
        yield from named.of(Kind.THING) if last == "in" else keywords(("in", "by"))
    elif section == "permissions" and done:
        yield from named.of(Kind.CONDITION) if last == "if" else named.of(Kind.ROLE)
        yield from keywords(("if", *AUDIENCES) if last not in ("if", ",") and len(done) > 1 else AUDIENCES)
    elif section == "conditions" and done:
        yield from named.of(Kind.CONDITION)
        yield from keywords((*(f"{root}." for root in ROOTS), "now", "and", "or", "not", "in", "true", "false", "none"))
    elif section == "denials":
        yield from named.of(Kind.CONDITION)
        yield from keywords((*REASONS, "any", "status", "go", "hide"))
    elif section == "fields" and done:
        yield from named.requirement()
        yield from keywords(("read", "change", "or", "and", "if"))


def _at_endpoint(section: str, done: list[str], named: _Named) -> Iterator[Offer]:
    has_path = any(word.startswith("/") for word in done)
    if not has_path and done[:1] != ["action"]:
        chosen = set(done)
        yield from keywords(word for word in _METHODS if word not in chosen)
        if not done and section == "endpoints":
            yield from keywords(("action",))
        if done or section == "always":
            yield from named.paths()
        return
    if done[-1:] == ["action"]:
        return
    opens = done[-1].startswith("/") or done[-1] in ("and", "or", "not", "if", "(") or len(done) == 2
    if opens:
        yield from named.requirement()
    else:
        yield from named.of(Kind.THING) if done[-2:] == ["in", "any"] else ()
        yield from keywords(("or", "and", "if", "in any", *(("accept",) if section == "endpoints" else ("except",))))
