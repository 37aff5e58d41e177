"""The index of lines by path: it finds the most specific one."""

from __future__ import annotations

from typing import Any, Generic, TypeVar

from .methods import ANY
from .paths import REST, STAR, Parameter, Segment, Template, Wild, by_text, fits

T = TypeVar("T")

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
        return [node for _, node in sorted(found, key=lambda item: by_text(item[0]))]


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
    return line if all(fits(parts[number], segments[number]) for number in range(place, len(parts) - 1)) else None


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
