"""Path templates, the reading of request paths, and the index that finds the most specific line."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from urllib.parse import quote, unquote_to_bytes

from ..language.errors import BloodrootError
from .methods import ANY, COMMON

if TYPE_CHECKING:
    from collections.abc import Mapping

T = TypeVar("T")

DEEPEST = 100  # segments in a template; the search goes one call deeper for each
_NAME = re.compile(r"[^\W\d][\w-]*")
_PIECE = re.compile(r"\{([^{}]*)\}")
# Nearly all paths have none of these: nothing to decode, nothing that could be read two ways.
_ODD = re.compile(r"[^A-Za-z0-9\-._~!$&'()*+,=:@/]").search
_TWO_WAYS = re.compile(r"[/\\;\x00-\x1f\x7f-\x9f]").search
_NOT_IN_TEMPLATES = re.compile(r"[?#%;\\ ]").search
_UNFIT = {"?": "a query", "#": "a fragment", "%": "a percent-encoding", ";": "a ;", "\\": "a backslash", " ": "a space"}
_COMMON = frozenset(COMMON)
_METHOD = re.compile(r"[A-Z0-9!#$%&'*+.^_`|~-]+").fullmatch
_BAD_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})").search


class TemplateError(BloodrootError, ValueError):
    """A path template that cannot be used; the message says why."""


class Wild(Enum):
    """A wildcard: any one segment, or the rest of the path."""

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
        if not before and not after:
            return True
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
        """Whether a request path, read into its segments, matches this template."""
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
    if not text.isprintable():
        unseen = next(character for character in text if not character.isprintable())
        raise TemplateError(f"a path template has no place for the invisible character U+{ord(unseen):04X}")
    unfit = _NOT_IN_TEMPLATES(text)
    if unfit:
        character = _UNFIT[unfit[0]]
        raise TemplateError(f"a path template has no place for {character}; write the path alone, as plain text")
    body = text[1:-1] if text.endswith("/") else text[1:]
    parts = body.split("/") if body else []
    if len(parts) > DEEPEST:
        raise TemplateError(f"a path has at most {DEEPEST} segments")
    segments = tuple([part if part.isalnum() else _segment(part) for part in parts])
    if "*" in text and REST in segments[:-1]:
        raise TemplateError("** can only be the last segment")
    names = tuple([part.name for part in segments if isinstance(part, Parameter)]) if "{" in text else ()
    if len(names) > 1 and len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise TemplateError(f"the name {{{twice}}} is in this path twice")
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


def is_method(text: str) -> bool:
    """Whether a string is a request method: a token in capitals (RFC 9110, sections 5.6.2 and 9.1)."""
    return text in _COMMON or _METHOD(text) is not None


def read_path(path: str) -> list[str] | None:
    """The decoded segments of a request path, or None where it could be read in two ways.

    One percent-decoding for each segment (RFC 3986, section 2.4). Refusal are: an empty inner segment, a dot
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


# A line alone behind a beginning: all segments of its template, the line, and whether it is for any method. Most
# lines have nothing beside them; keeping their rest in one piece saves time, memory and a walk.
_Tail = tuple[tuple[Segment, ...], T, bool]


class _Node(Generic[T]):
    """What can follow one beginning of a path, for one method."""

    __slots__ = ("affixed", "end", "end_any", "literals", "name", "rest", "rest_any", "star")

    def __init__(self) -> None:
        # Most nodes have no literals of their own: the empty mapping is shared until something is put in.
        self.literals: dict[str, _Node[T] | _Tail[T]] = _NONE
        self.affixed: _Affixed[T] | None = None
        self.name: _Node[T] | None = None
        self.star: _Node[T] | None = None
        # Lines that end here and lines that end in ** here; each for the method by name, and for any method.
        self.end: T | None = None
        self.end_any: T | None = None
        self.rest: T | None = None
        self.rest_any: T | None = None


class _Affixed(Generic[T]):
    """The nodes behind names with text around them, by that string. A search costs the same however many there are."""

    __slots__ = ("afters", "befores", "nodes")

    def __init__(self) -> None:
        self.nodes: dict[tuple[str, str], tuple[Parameter, _Node[T]]] = {}
        # How long these texts are: a segment is cut at these places alone.
        self.befores: dict[int, None] = {}
        self.afters: dict[int, None] = {}

    def add(self, segment: Parameter) -> _Node[T]:
        """The node behind a name, made where it is missing."""
        found = self.nodes.get((segment.before, segment.after))
        if found is None:
            found = self.nodes[segment.before, segment.after] = segment, _Node()
            self.befores[len(segment.before)] = None
            self.afters[len(segment.after)] = None
        return found[1]

    def find(self, segment: str) -> list[_Node[T]]:
        """The nodes that a segment leads to, the most specific first."""
        length = len(segment)
        found = []
        for before in self.befores:
            for after in self.afters:
                if before + after < length:
                    item = self.nodes.get((segment[:before], segment[length - after :]))
                    if item is not None and item[0].matches(segment):
                        found.append(item)
        return [node for _, node in sorted(found, key=lambda item: _by_text(item[0]))]


class PathIndex(Generic[T]):
    """Lines by method and template, a tree for each method.

    What a search costs grows with the path, not with the number of lines.
    """

    def __init__(self) -> None:
        self._roots: dict[str, _Node[T]] = {}
        self._others: _Node[T] = _Node()  # for methods that no line names
        self._lines: dict[str, list[tuple[Template, T]]] = {ANY: []}
        self._head: _Node[T] | None = None

    def add(self, methods: tuple[str, ...], template: Template, line: T) -> list[tuple[str, T]]:
        """Put a line in its place. Returns the methods that another line of the same shape has taken already."""
        taken = []
        self._head = None
        for method in methods or (ANY,):
            root = self._others if method == ANY else self._root(method)
            other = _put(root, template.segments, line, any_method=method == ANY)
            if other is not None:
                taken.append((method, other))
            self._lines[method].append((template, line))
        if not methods:
            for root in self._roots.values():
                _put(root, template.segments, line, any_method=True)
        return taken

    def _root(self, method: str) -> _Node[T]:
        """The tree of a method, made with all lines for any method in it."""
        root = self._roots.get(method)
        if root is None:
            root = self._roots[method] = _Node()
            self._lines[method] = []
            for template, line in self._lines[ANY]:
                _put(root, template.segments, line, any_method=True)
        return root

    def _root_for_head(self) -> _Node[T]:
        """The tree for HEAD: its own lines, then those for GET, then those for any method."""
        if "HEAD" not in self._roots:
            return self._roots.get("GET", self._others)
        if self._head is None:
            head: _Node[T] = _Node()
            for method in ("HEAD", "GET", ANY):
                for template, line in self._lines.get(method, ()):
                    _put(head, template.segments, line, any_method=method == ANY)
            self._head = head
        return self._head

    def find(self, method: str, segments: list[str]) -> T | None:
        """The most specific line for a method and the segments of a path, or None."""
        root = self._roots.get(method)
        if root is None or method == "HEAD":
            root = self._root_for_head() if method == "HEAD" else self._others
        node = root
        for place, segment in enumerate(segments, 1):
            child = node.literals.get(segment)
            if child is None:
                child = node.name
                if child is None or node.affixed is not None:
                    return _find(root, segments, 0, len(segments))
            elif child.__class__ is tuple:
                line = _line_of(child, segments, place)
                return line if line is not None else _find(root, segments, 0, len(segments))
            node = child  # type: ignore[assignment]
        # Always taking the most specific branch has led to a line, as it nearly always does: no need to search.
        line = node.end
        return line if line is not None else _find(root, segments, 0, len(segments))

    def find_for_all(self, method: str, parts: list[str | None]) -> T | None:
        """The line that decides whatever some segments of a path are, or None where that cannot be said.

        Args:
            method: the method.
            parts: the segments; None for one that may be anything.
        """
        if method == "HEAD":
            return None
        node = self._roots.get(method, self._others)
        for place, part in enumerate(parts, 1):
            child = node.literals.get(part) if part is not None else None
            if child.__class__ is tuple:
                if not all(map(_may_be_anything, child[0], parts)):
                    return None
                return _line_of(child, [part or "anything" for part in parts], place)
            if child is None:
                child = node.name
                if child is None or node.affixed is not None or (part is None and node.literals):
                    return None
            node = child  # type: ignore[assignment]
        return node.end if node.end is not None else node.end_any


def _may_be_anything(segment: Segment, part: str | None) -> bool:
    """Whether a segment of a template fits a segment of a path, also where that may be anything."""
    if part is None:
        return segment is STAR or segment is REST or (isinstance(segment, Parameter) and segment.bare)
    return True


def _line_of(tail: _Tail[T], segments: list[str], place: int) -> T | None:
    """The line of a tail, if the segments of a path fit it from a place on."""
    parts, line, _ = tail
    count = len(segments)
    if len(parts) == count:
        # A plain loop, and classes compared directly: this is run for nearly every request.
        for number in range(place, count):
            part = parts[number]
            if part.__class__ is str:
                if part != segments[number]:
                    return None
            elif part is not STAR and (part is REST or not part.matches(segments[number])):  # type: ignore[union-attr]
                return line if part is REST else None
        return line
    if parts[-1] is not REST or len(parts) > count + 1:
        return None
    return line if all(_fits(parts[number], segments[number]) for number in range(place, len(parts) - 1)) else None


def _put(node: _Node[T], parts: tuple[Segment, ...], line: T, *, any_method: bool, place: int = 0) -> T | None:
    """Put a line into a tree, from a place of its template on. Returns the line that has the place already, if any."""
    for segment in parts[place:]:
        place += 1
        if isinstance(segment, str):
            child = node.literals.get(segment)
            if child is None:
                if node.literals is _NONE:
                    node.literals = {}
                node.literals[segment] = (parts, line, any_method)
                return None
            if isinstance(child, tuple):
                # No longer alone: what was kept in one piece is laid out.
                laid_out: _Node[T] = _Node()
                _put(laid_out, child[0], child[1], any_method=child[2], place=place)
                child = node.literals[segment] = laid_out
            node = child
        elif segment is REST:
            there = node.rest_any if any_method else node.rest  # ** comes last
            if there is None and any_method:
                node.rest_any = line
            elif there is None:
                node.rest = line
            return there
        else:
            node = _child(node, segment)
    there = node.end_any if any_method else node.end
    if there is None and any_method:
        node.end_any = line
    elif there is None:
        node.end = line
    return there


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
    if node.affixed is None:
        node.affixed = _Affixed()
    return node.affixed.add(segment)


def _by_text(part: Parameter) -> tuple[int, int, str, str]:
    """More text around a name is more specific; what is left of a tie must not hang on the order of lines."""
    return -len(part.before + part.after), -len(part.before), part.before, part.after


def _find(node: _Node[T], segments: list[str], place: int, count: int) -> T | None:
    """Depth first, the most specific branch first; each node is visited at most once."""
    if place == count:
        for line in (node.end, node.end_any, node.rest, node.rest_any):
            if line is not None:
                return line
        return None
    segment = segments[place]
    literal = node.literals.get(segment)
    if isinstance(literal, tuple):
        line = _line_of(literal, segments, place + 1)
        if line is not None:
            return line
        literal = None
    branches = [literal]
    if node.affixed is not None:
        branches += node.affixed.find(segment)
    branches += [node.name, node.star]
    for child in branches:
        if child is not None:
            found = _find(child, segments, place + 1, count)
            if found is not None:
                return found
    return node.rest if node.rest is not None else node.rest_any


def unnamed_segments(template: Template, exact: bool) -> list[str]:
    """Segments of a request that a template covers, with values that no other template can name.

    Args:
        template: the template.
        exact: whether it covers no more than the requests it is made for. Then the rest of a path (``**``) is as deep
            as it can be, which only what covers every depth covers; else it is one segment.
    """
    rest = DEEPEST if exact else 1
    return [text for part in template.segments for text in _unnamed(part, rest)]


def _unnamed(part: str | Parameter | Wild, rest: int) -> tuple[str, ...]:
    if isinstance(part, Parameter):
        return (f"{part.before}\0{part.after}",)
    return (part,) if isinstance(part, str) else ("\0",) * (rest if part is REST else 1)


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
