"""Path templates, the reading of request paths, and the index that finds the most specific line."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from urllib.parse import quote, unquote_to_bytes

if TYPE_CHECKING:
    from collections.abc import Mapping

T = TypeVar("T")

ANY = "any"
_LONGEST = 100  # segments in a template; the search goes one call deeper for each
_NAME = re.compile(r"[^\W\d][\w-]*")
_PIECE = re.compile(r"\{([^{}]*)\}")
# Nearly all paths have none of these: nothing to decode, nothing that could be read two ways.
_ODD = re.compile(r"[^A-Za-z0-9\-._~!$&'()*+,=:@/]").search
_TWO_WAYS = re.compile(r"[/\\;\x00-\x1f\x7f-\x9f]").search
_NOT_IN_TEMPLATES = re.compile(r"[?#%;\\\x00-\x1f\x7f]").search
_UNFIT = {"?": "a query", "#": "a fragment", "%": "a percent-encoding", ";": "a ;", "\\": "a backslash"}
_BAD_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})").search


class TemplateError(ValueError):
    """A path template that cannot be used; the message says why."""


class Wild(Enum):
    """A segment that stands for anything: one segment, or the rest of the path."""

    STAR = "*"
    REST = "**"


STAR, REST = Wild.STAR, Wild.REST


@dataclass(frozen=True, slots=True)
class Parameter:
    """A segment with a name in it, and perhaps literal text before and after: ``{name}``, ``v{number}.json``."""

    name: str
    before: str = ""
    after: str = ""

    @property
    def bare(self) -> bool:
        """Whether there is no text around the name."""
        return not self.before and not self.after

    def matches(self, value: str) -> bool:
        """Whether one decoded segment of a request path fits."""
        before, after = self.before, self.after
        return len(value) > len(before) + len(after) and value.startswith(before) and value.endswith(after)

    def value(self, text: str) -> str:
        """What the parameter is in a segment that fits."""
        return text[len(self.before) : len(text) - len(self.after)]

    def __str__(self) -> str:
        return f"{self.before}{{{self.name}}}{self.after}"


# A literal segment is its own text.
Segment = str | Parameter | Wild


def _fits(part: Segment, value: str) -> bool:
    """Whether one decoded segment of a request path fits a segment of a template."""
    if isinstance(part, str):
        return part == value
    return part.matches(value) if isinstance(part, Parameter) else True


@dataclass(slots=True)
class Template:
    """A path template: ``/accessions/{accession_id}``. Never changed once made; freezing would double what it costs."""

    text: str
    segments: tuple[Segment, ...]
    names: tuple[str, ...]

    @property
    def area(self) -> str:
        """The first segment, which people read as the part of the application that the path belongs to."""
        first = self.segments[0] if self.segments else None
        return f"/{first}" if isinstance(first, str) else "/"

    def covers(self, segments: list[str]) -> bool:
        """Whether a request path, read into its segments, is one of those that this template stands for."""
        for place, part in enumerate(self.segments):
            if part is REST:
                return True
            if place == len(segments) or not _fits(part, segments[place]):
                return False
        return len(self.segments) == len(segments)

    def values(self, segments: list[str]) -> dict[str, str]:
        """The parameters in a request path that this template matches."""
        return {
            part.name: part.value(segments[place])
            for place, part in enumerate(self.segments)
            if isinstance(part, Parameter)
        }

    def fill(self, values: Mapping[str, str]) -> str:
        """A path with every parameter replaced; ``*`` and ``**`` become an ``x``.

        Raises:
            KeyError: a parameter has no value.
        """
        parts = []
        for part in self.segments:
            if isinstance(part, Parameter):
                parts.append(part.before + quote(values[part.name], safe="") + part.after)
            else:
                parts.append(quote(part, safe="-._~!$&'()*+,=:@") if isinstance(part, str) else "x")
        return "/" + "/".join(parts)


def parse_template(text: str) -> Template:
    """Read a path template.

    Raises:
        TemplateError: with what is wrong and how to write it.
    """
    if not text.startswith("/"):
        raise TemplateError("a path begins with /")
    unfit = _NOT_IN_TEMPLATES(text)
    if unfit:
        told = _UNFIT.get(unfit[0], "a control character")
        raise TemplateError(f"a path template has no place for {told}; write the path alone, as plain text")
    body = text[1:-1] if text.endswith("/") else text[1:]
    parts = body.split("/") if body else []
    if len(parts) > _LONGEST:
        raise TemplateError(f"a path has at most {_LONGEST} segments")
    segments = tuple([part if part.isalnum() else _segment(part) for part in parts])
    if "*" in text and REST in segments[:-1]:
        raise TemplateError("** may stand only as the last segment")
    names = tuple([part.name for part in segments if isinstance(part, Parameter)]) if "{" in text else ()
    if len(names) > 1 and len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise TemplateError(f"the name {{{twice}}} stands in this path twice")
    return Template(text, segments, names)


@lru_cache(maxsize=4096)
def _segment(part: str) -> Segment:
    """One segment of a template, from its text."""
    if part == "":
        raise TemplateError("a path has no empty segment; write one / between segments")
    if part in (".", ".."):
        raise TemplateError("a path has no . or .. segment")
    if part == "*":
        return STAR
    if part == "**":
        return REST
    if "*" in part:
        raise TemplateError(
            f'"{part}" mixes * with text; * and ** are whole segments, and {{name}} takes text around it'
        )
    pieces = _PIECE.findall(part)
    if len(pieces) > 1:
        raise TemplateError(f'"{part}" has more than one {{name}}; a segment has room for one')
    before, after = part.split("{" + pieces[0] + "}", 1) if pieces else (part, "")
    if not {"{", "}"}.isdisjoint(before + after):
        raise TemplateError(f'a brace in "{part}" has no partner; a parameter is written {{name}}')
    if not pieces:
        return part
    if not _NAME.fullmatch(pieces[0]):
        raise TemplateError(f'"{pieces[0]}" cannot name a parameter; names are letters, digits, - and _')
    return Parameter(pieces[0], before, after)


def read_path(path: str) -> list[str] | None:
    """The decoded segments of a request path, or None where it could be read in two ways.

    One percent-decoding for each segment (RFC 3986, section 2.4). Refused are: an empty inner segment, a dot
    segment, an encoded slash or backslash, a ``;``, a control character, and bytes that are not UTF-8. One
    trailing slash does not count.
    """
    if path[:1] == "/" and not _ODD(path) and "/." not in path:
        segments = path[1:].split("/")
        if segments[-1] == "":
            segments.pop()
        return None if "" in segments else segments
    if not path.startswith("/") or "?" in path or "#" in path or _BAD_PERCENT(path):
        return None
    segments = (path[1:-1] if path.endswith("/") else path[1:]).split("/")
    read = []
    for segment in segments:
        if segment == "":
            return None
        try:
            text = unquote_to_bytes(segment).decode("utf-8") if "%" in segment else segment
            text.encode("utf-8")
        except UnicodeError:
            return None
        if text in (".", "..") or _TWO_WAYS(text):
            return None
        read.append(text)
    return read


_NONE: dict[str, Any] = {}


class _Node(Generic[T]):
    """What can follow one beginning of a path. Empty parts are shared until something is put in."""

    __slots__ = ("affixed", "ends", "literals", "name", "rest", "star")

    def __init__(self) -> None:
        self.literals: dict[str, _Node[T]] = _NONE
        self.affixed: tuple[tuple[Parameter, _Node[T]], ...] = ()
        self.name: _Node[T] | None = None
        self.star: _Node[T] | None = None
        self.ends: dict[str, T] = _NONE
        self.rest: dict[str, T] = _NONE


class PathIndex(Generic[T]):
    """Lines by method and template. What a search costs grows with the path, not with the number of lines."""

    def __init__(self) -> None:
        self._root: _Node[T] = _Node()

    def add(self, methods: tuple[str, ...], template: Template, line: T) -> list[tuple[str, T]]:
        """Put a line in its place. Returns the methods that another line of the same shape has taken already."""
        node = self._root
        for segment in template.segments:
            if isinstance(segment, str):
                child = node.literals.get(segment)
                if child is None:
                    if node.literals is _NONE:
                        node.literals = {}
                    child = node.literals[segment] = _Node()
                node = child
            elif segment is REST:
                if node.rest is _NONE:
                    node.rest = {}
                return _put(node.rest, methods, line)
            else:
                node = _child(node, segment)
        if node.ends is _NONE:
            node.ends = {}
        return _put(node.ends, methods, line)

    def find(self, method: str, segments: list[str]) -> T | None:
        """The most specific line for a method and the segments of a path, or None."""
        node = self._root
        for segment in segments:
            child = node.literals.get(segment)
            if child is None:
                child = node.name
                if child is None or node.affixed:
                    return _find(self._root, segments, 0, len(segments), method)
            node = child
        # Always taking the most specific branch has led to a line, as it nearly always does: no need to search.
        line = node.ends.get(method)
        return line if line is not None else _find(self._root, segments, 0, len(segments), method)


def _put(lines: dict[str, T], methods: tuple[str, ...], line: T) -> list[tuple[str, T]]:
    taken = []
    for method in methods or (ANY,):
        there = lines.setdefault(method, line)
        if there is not line:
            taken.append((method, there))
    return taken


def _child(node: _Node[T], segment: Parameter | Wild) -> _Node[T]:
    """The node behind a parameter or a star, made where it is missing."""
    if isinstance(segment, Wild):
        if node.star is None:
            node.star = _Node()
        return node.star
    if segment.bare:
        if node.name is None:
            node.name = _Node()
        return node.name
    for known, child in node.affixed:
        if (known.before, known.after) == (segment.before, segment.after):
            return child
    child = _Node()
    node.affixed = tuple(sorted((*node.affixed, (segment, child)), key=lambda item: _by_text(item[0])))
    return child


def _by_text(part: Parameter) -> tuple[int, int, str, str]:
    """More text around a name is more specific; what is left of a tie must not hang on the order of lines."""
    return -len(part.before + part.after), -len(part.before), part.before, part.after


def _find(node: _Node[T], segments: list[str], place: int, count: int, method: str) -> T | None:
    """Depth first, the most specific branch first; each node is visited at most once."""
    if place == count:
        return _line(node.ends, method) or _line(node.rest, method)
    segment = segments[place]
    child = node.literals.get(segment)
    if child is not None:
        line = _find(child, segments, place + 1, count, method)
        if line is not None:
            return line
    for pattern, child in node.affixed:
        if pattern.matches(segment):
            line = _find(child, segments, place + 1, count, method)
            if line is not None:
                return line
    child = node.name
    if child is not None:
        line = _find(child, segments, place + 1, count, method)
        if line is not None:
            return line
    child = node.star
    if child is not None:
        line = _find(child, segments, place + 1, count, method)
        if line is not None:
            return line
    return _line(node.rest, method) if node.rest else None


def _line(lines: dict[str, T], method: str) -> T | None:
    """The line for a method: its own, GET for HEAD, then one for any method."""
    line = lines.get(method)
    if line is None and lines:
        if method == "HEAD":
            line = lines.get("GET")
        if line is None:
            line = lines.get(ANY)
    return line


def specificity(template: Template, *, exact: bool = False) -> tuple[tuple[int, int, int, str, str], ...]:
    """A key by which templates that match the same path sort, the most specific first.

    With ``exact`` literal text counts, so that equal keys are equal shapes.
    """
    key = []
    for part in template.segments:
        if isinstance(part, str):
            key.append((0, 0, 0, part if exact else "", ""))
        elif isinstance(part, Parameter):
            key.append((2 if part.bare else 1, *_by_text(part)))
        else:
            key.append((3 if part is STAR else 4, 0, 0, "", ""))
    return tuple(key)


def overlap(pattern: Template, template: Template) -> bool | None:
    """Whether a pattern matches every path of a template (True), some of them (None) or none (False)."""
    certain = True
    for place, part in enumerate(pattern.segments):
        if part is REST:
            return certain or None
        if place == len(template.segments):
            return False
        other = template.segments[place]
        if other is REST:
            return None
        if part is STAR or (isinstance(part, Parameter) and part.bare):
            continue
        if isinstance(other, str):
            if not _fits(part, other):
                return False
        elif not (isinstance(other, Parameter) and isinstance(part, Parameter) and _by_text(part) == _by_text(other)):
            certain = False
    if len(template.segments) == len(pattern.segments):
        return certain or None
    # What is left of the template may be `**`, which stands for nothing as well.
    return None if template.segments[len(pattern.segments) :] == (REST,) else False
