"""Path templates, the reading of request paths, and the index that finds the most specific line."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Generic, TypeVar
from urllib.parse import unquote_to_bytes

if TYPE_CHECKING:
    from collections.abc import Mapping

T = TypeVar("T")

ANY = "any"
_LONGEST = 100  # segments in a template; the search goes one call deeper for each
_NAME = re.compile(r"[^\W\d][\w-]*")
_PIECE = re.compile(r"\{([^{}]*)\}")
# The paths that nearly all requests have: nothing to decode, nothing that could be read two ways.
_PLAIN = re.compile(r"(?:/(?!\.\.?(?:/|\Z))[A-Za-z0-9\-._~!$&'()*+,=:@]+)*/?").fullmatch
_TWO_WAYS = re.compile(r"[/\\;\x00-\x1f\x7f-\x9f]").search
_BAD_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})").search


class TemplateError(ValueError):
    """A path template that cannot be used; the message says why."""


@dataclass(frozen=True, slots=True)
class Segment:
    """One segment of a template.

    Attributes:
        kind: ``literal``, ``affixed`` (a name with text around it), ``name``, ``star`` or ``rest``.
        text: the literal text, or the name of the parameter; empty for stars.
        before: literal text before the name.
        after: literal text after the name.
    """

    kind: str
    text: str = ""
    before: str = ""
    after: str = ""

    def matches(self, value: str) -> bool:
        """Whether one decoded segment of a request path fits."""
        if self.kind == "literal":
            return value == self.text
        if self.kind == "affixed":
            return (
                len(value) > len(self.before) + len(self.after)
                and value.startswith(self.before)
                and value.endswith(self.after)
            )
        return True

    def value(self, text: str) -> str:
        """What the parameter is in a segment that fits."""
        return text[len(self.before) : len(text) - len(self.after)]


@dataclass(frozen=True, slots=True)
class Template:
    """A path template: ``/accessions/{accession_id}``."""

    text: str
    segments: tuple[Segment, ...]
    names: tuple[str, ...]

    @property
    def shape(self) -> str:
        """The template with the names taken out: two lines of one shape stand for the same paths."""
        parts = []
        for segment in self.segments:
            if segment.kind in ("name", "affixed"):
                parts.append(f"{segment.before}{{}}{segment.after}")
            else:
                parts.append({"star": "*", "rest": "**"}.get(segment.kind, segment.text))
        return "/" + "/".join(parts)

    def covers(self, segments: list[str]) -> bool:
        """Whether a request path, read into its segments, is one of those that this template stands for."""
        for place, part in enumerate(self.segments):
            if part.kind == "rest":
                return True
            if place == len(segments) or not part.matches(segments[place]):
                return False
        return len(self.segments) == len(segments)

    def values(self, segments: list[str]) -> dict[str, str]:
        """The parameters in a request path that this template matches."""
        return {
            part.text: part.value(segments[place])
            for place, part in enumerate(self.segments)
            if part.kind in ("name", "affixed")
        }

    def fill(self, values: Mapping[str, str]) -> str:
        """A path with every parameter replaced; stars become ``values["*"]``, or an ``x`` without one.

        Raises:
            KeyError: a parameter has no value.
        """
        from urllib.parse import quote

        parts = []
        for part in self.segments:
            if part.kind in ("name", "affixed"):
                parts.append(part.before + quote(values[part.text], safe="") + part.after)
            elif part.kind == "literal":
                parts.append(quote(part.text, safe="-._~!$&'()*+,=:@"))
            else:
                parts.append(values.get("*", "x"))
        return "/" + "/".join(parts)


def parse_template(text: str) -> Template:
    """Read a path template.

    Raises:
        TemplateError: with what is wrong and how to write it.
    """
    if not text.startswith("/"):
        raise TemplateError("a path begins with /")
    for sign, told in (
        ("?", "a query"),
        ("#", "a fragment"),
        ("%", "a percent-encoding"),
        (";", "a ;"),
        ("\\", "a backslash"),
    ):
        if sign in text:
            raise TemplateError(f"a path template has no place for {told}; write the path alone, as plain text")
    body = text[1:]
    if body.endswith("/"):
        body = body[:-1]
    parts = body.split("/") if body else []
    if len(parts) > _LONGEST:
        raise TemplateError(f"a path has at most {_LONGEST} segments")
    segments = []
    for number, part in enumerate(parts):
        segment = _segment(part)
        if segment.kind == "rest" and number != len(parts) - 1:
            raise TemplateError("** may stand only as the last segment")
        segments.append(segment)
    names = tuple(segment.text for segment in segments if segment.kind in ("name", "affixed"))
    for name in names:
        if names.count(name) > 1:
            raise TemplateError(f"the name {{{name}}} stands in this path twice")
    return Template(text, tuple(segments), names)


def _segment(part: str) -> Segment:
    """One segment of a template, from its text."""
    if part == "":
        raise TemplateError("a path has no empty segment; write one / between segments")
    if part in (".", ".."):
        raise TemplateError("a path has no . or .. segment")
    if part == "*":
        return Segment("star")
    if part == "**":
        return Segment("rest")
    if "*" in part:
        raise TemplateError(
            f'"{part}" mixes * with text; * and ** are whole segments, and {{name}} takes text around it'
        )
    pieces = _PIECE.findall(part)
    if not pieces:
        if "{" in part or "}" in part:
            raise TemplateError(f'a brace in "{part}" has no partner; a parameter is written {{name}}')
        return Segment("literal", part)
    if len(pieces) > 1:
        raise TemplateError(f'"{part}" has more than one {{name}}; a segment has room for one')
    before, after = part.split("{" + pieces[0] + "}", 1)
    if "{" in before + after or "}" in before + after:
        raise TemplateError(f'a brace in "{part}" has no partner; a parameter is written {{name}}')
    if not _NAME.fullmatch(pieces[0]):
        raise TemplateError(f'"{pieces[0]}" cannot name a parameter; names are letters, digits, - and _')
    return Segment("affixed" if before or after else "name", pieces[0], before, after)


def read_path(path: str) -> list[str] | None:
    """The decoded segments of a request path, or None where it could be read in two ways.

    One percent-decoding for each segment (RFC 3986, section 2.4). Refused are: an empty inner segment, a dot
    segment, an encoded slash or backslash, a ``;``, a control character, and bytes that are not UTF-8. One
    trailing slash does not count.
    """
    if _PLAIN(path):
        if path[-1:] == "/":
            return path[1:-1].split("/") if len(path) > 1 else []
        return path[1:].split("/") if path else None
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


@dataclass(slots=True)
class _Node(Generic[T]):
    """What can follow one beginning of a path."""

    literals: dict[str, _Node[T]] = field(default_factory=dict)
    affixed: list[tuple[Segment, _Node[T]]] = field(default_factory=list)
    name: _Node[T] | None = None
    star: _Node[T] | None = None
    ends: dict[str, T] = field(default_factory=dict)
    rest: dict[str, T] = field(default_factory=dict)


class PathIndex(Generic[T]):
    """Lines by method and template. What a search costs grows with the path, not with the number of lines."""

    def __init__(self) -> None:
        self._root: _Node[T] = _Node()

    def add(self, methods: tuple[str, ...], template: Template, line: T) -> list[tuple[str, T]]:
        """Put a line in its place. Returns the methods that another line of the same shape has taken already."""
        node = self._root
        for segment in template.segments:
            if segment.kind == "rest":
                return _put(node.rest, methods, line)
            node = _child(node, segment)
        return _put(node.ends, methods, line)

    def find(self, method: str, segments: list[str]) -> T | None:
        """The most specific line for a method and the segments of a path, or None."""
        return _find(self._root, segments, 0, len(segments), method)


def _put(lines: dict[str, T], methods: tuple[str, ...], line: T) -> list[tuple[str, T]]:
    taken = []
    for method in methods or (ANY,):
        there = lines.setdefault(method, line)
        if there is not line:
            taken.append((method, there))
    return taken


def _child(node: _Node[T], segment: Segment) -> _Node[T]:
    """The node behind one more segment, made where it is missing."""
    if segment.kind == "literal":
        child = node.literals.get(segment.text)
        if child is None:
            child = node.literals[segment.text] = _Node()
        return child
    if segment.kind == "name":
        if node.name is None:
            node.name = _Node()
        return node.name
    if segment.kind == "star":
        if node.star is None:
            node.star = _Node()
        return node.star
    for known, child in node.affixed:
        if (known.before, known.after) == (segment.before, segment.after):
            return child
    child = _Node()
    node.affixed.append((segment, child))
    # More text around the name is more specific; what is left of a tie must not hang on the order of lines.
    node.affixed.sort(
        key=lambda item: (-len(item[0].before + item[0].after), -len(item[0].before), item[0].before, item[0].after)
    )
    return child


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


def overlap(pattern: Template, template: Template) -> bool | None:
    """Whether a pattern matches every path of a template (True), some of them (None) or none (False)."""
    certain = True
    for place, part in enumerate(pattern.segments):
        if part.kind == "rest":
            return certain or None
        if place == len(template.segments):
            return False
        other = template.segments[place]
        if other.kind == "rest":
            return None
        if part.kind in ("name", "star"):
            continue
        if other.kind == "literal":
            if not part.matches(other.text):
                return False
        elif part != other:
            certain = False
    if len(template.segments) == len(pattern.segments):
        return certain or None
    # What is left of the template may be `**`, which stands for nothing as well.
    left = template.segments[len(pattern.segments) :]
    return None if len(left) == 1 and left[0].kind == "rest" else False
