"""The tree of path templates: the most specific entry for a path, and every entry near a template."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Generic, TypeVar

from .methods import ANY
from .paths import REST, Parameter, Segment, Template, Wild, by_text, fits

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

T = TypeVar("T")

_NONE: dict[str, Any] = {}

# Entries alone behind a beginning: all segments of their template, and each by its method. Most templates have nothing
# beside them; keeping their rest in one piece saves time, memory and a walk. Then come how many segments a path has
# that is nothing but literals and names of whole segments (0 where a template has others), its literals by place, and
# the first method with its entry, which is mostly the only one: among many lines each further look takes its time.
_Tail = tuple[tuple[Segment, ...], dict[str, T], int, tuple[tuple[int, str], ...], str, T]
# The same literals, kept once: what many requests look at is near.
_Alike = dict[tuple[tuple[int, str], ...], tuple[tuple[int, str], ...]]


class _Node(Generic[T]):
    """What can follow one beginning of a path. Most nodes have little: the empty mapping is shared until it changes."""

    __slots__ = ("affixed", "ends", "literals", "name", "others", "rest", "star")

    def __init__(self) -> None:
        self.literals: dict[str, _Node[T] | _Tail[T]] = _NONE
        self.affixed: _Affixed[T] | None = None
        self.name: _Node[T] | None = None
        self.star: _Node[T] | None = None
        self.ends: dict[str, T] = _NONE  # entries that end here, by method
        self.rest: dict[str, T] = _NONE  # entries that end in ** here, by method
        self.others: list[T] | None = None  # entries whose place another one has

    def branches(self) -> Iterator[_Node[T] | _Tail[T]]:
        """Everything one segment further."""
        yield from self.literals.values()
        yield from (node for _, node in self.affixed.nodes.values()) if self.affixed is not None else ()
        yield from (node for node in (self.name, self.star) if node is not None)

    def here(self) -> Iterator[T]:
        """The entries that end here, each once."""
        yield from _each_once(self.ends)
        yield from _each_once(self.rest)
        yield from self.others or ()


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
        node = self.nodes.get((segment.before, segment.after))
        if node is None:
            node = self.nodes[segment.before, segment.after] = segment, _Node()
            self.befores[len(segment.before)] = None
            self.afters[len(segment.after)] = None
        return node[1]

    def find(self, segment: str) -> list[_Node[T]]:
        """The nodes that a segment leads to, the most specific first."""
        length = len(segment)
        nodes = []
        for before in self.befores:
            for after in self.afters:
                if before + after < length:
                    item = self.nodes.get((segment[:before], segment[length - after :]))
                    if item is not None and item[0].matches(segment):
                        nodes.append(item)
        return [node for _, node in sorted(nodes, key=lambda item: by_text(item[0]))]


class PathTree(Generic[T]):
    """Entries by template and method.

    What a search costs grows with the path, not with the number of entries.

    Args:
        entries: what is added first, each with its template, for any method.
    """

    def __init__(self, entries: Iterable[tuple[Template, T]] = ()) -> None:
        self._root: _Node[T] = _Node()
        self._alike: _Alike = {}
        for template, entry in entries:
            self.add((), template, entry)

    def add(self, methods: tuple[str, ...], template: Template, entry: T) -> list[tuple[str, T]]:
        """Put an entry in its place; ``methods`` is empty for any.

        Returns:
            The methods for which another entry of the same shape has the place already, each with that one.
        """
        return _put(self._root, template.segments, methods or (ANY,), entry, self._alike)

    def find(self, method: str, segments: list[str]) -> T | None:
        """The most specific entry for a method and the segments of a path, or None."""
        node, entry = self._root, None
        for segment in segments:
            child = node.literals.get(segment)
            if child is None:
                child = node.name
                if child is None or node.affixed is not None:
                    return self._search(method, segments)
            elif child.__class__ is tuple:
                # `_fit` without a call, as nearly every request comes here; what is odd is searched for.
                _, entries, count, literals, first, entry = child
                if method != first:
                    entry = entries.get(method)
                if entry is None or count != len(segments):
                    return self._search(method, segments)
                for place, text in literals:
                    if segments[place] != text:
                        return self._search(method, segments)
                return entry
            node = child  # type: ignore[assignment]
        # Always taking the most specific branch has led to an entry, as it nearly always does: no need to search.
        entry = node.ends.get(method)
        return entry if entry is not None else self._search(method, segments)

    def _search(self, method: str, segments: list[str]) -> T | None:
        names = ("HEAD", "GET", ANY) if method == "HEAD" else (method, ANY)
        return _find(self._root, names, segments, 0, len(segments))

    def near(self, template: Template) -> Iterator[T]:
        """The entries whose templates may have a path in common with a template; `paths.overlap` says whether."""
        nodes: list[_Node[T]] = [self._root]
        for segment in template.segments:
            if segment is REST:
                yield from _all_below(nodes)
                return
            following: list[_Node[T]] = []
            for node in nodes:
                yield from _each_once(node.rest)
                yield from node.others or ()
                for child in _branches_for(node, segment):
                    if isinstance(child, tuple):
                        yield from _each_once(child[1])
                    else:
                        following.append(child)
            nodes = following
        for node in nodes:
            yield from node.here()


def _each_once(entries: dict[str, T]) -> Iterable[T]:
    """The entries of a place without those that are there for another method as well."""
    return {id(entry): entry for entry in entries.values()}.values() if len(entries) > 1 else entries.values()


def _branches_for(node: _Node[T], segment: Segment) -> Iterator[_Node[T] | _Tail[T]]:
    """The branches that a segment of a template may share a path with."""
    if not isinstance(segment, str):
        yield from node.branches()
        return
    literal = node.literals.get(segment)
    if literal is not None:
        yield literal
    yield from node.affixed.find(segment) if node.affixed is not None else ()
    yield from (child for child in (node.name, node.star) if child is not None)


def _all_below(nodes: list[_Node[T]]) -> Iterator[T]:
    """All entries at some nodes and behind them."""
    waiting: list[_Node[T] | _Tail[T]] = list(nodes)
    while waiting:
        node = waiting.pop()
        if isinstance(node, tuple):
            yield from _each_once(node[1])
        else:
            yield from node.here()
            waiting += node.branches()


def _fit(parts: tuple[Segment, ...], segments: list[str], place: int) -> bool:
    """Whether the segments of a path fit a tail from a place on."""
    count = len(segments)
    if len(parts) == count:
        # A plain loop, and classes compared directly: this is run for nearly every request.
        for number in range(place, count):
            part = parts[number]
            if part.__class__ is str:
                if part != segments[number]:
                    return False
            elif part.__class__ is Parameter:
                if not part.bare and not part.matches(segments[number]):
                    return False
            elif part is REST:
                return True
        return True
    if parts[-1] is not REST or len(parts) > count + 1:
        return False
    return all(fits(parts[number], segments[number]) for number in range(place, len(parts) - 1))


def _put(
    node: _Node[T], parts: tuple[Segment, ...], methods: tuple[str, ...], entry: T, alike: _Alike
) -> list[tuple[str, T]]:
    """Put an entry into a tree. Returns the methods for which its place is taken, each with what has it."""
    for place, segment in enumerate(parts, 1):
        if isinstance(segment, str):
            child = node.literals.get(segment)
            if child is None:
                if node.literals is _NONE:
                    node.literals = {}
                node.literals[segment] = _tail(parts, methods, entry, place, alike)
                return []
            if isinstance(child, tuple):
                if child[0] == parts and child[1].keys().isdisjoint(methods):
                    child[1].update(dict.fromkeys(methods, entry))
                    return []
                # No longer alone: what was kept in one piece is laid out.
                child = node.literals[segment] = _laid_out(child, place)
            node = child
        elif segment is REST:
            node.rest = node.rest if node.rest is not _NONE else {}
            return _put_here(node, node.rest, methods, entry)
        else:
            node = _child(node, segment)
    node.ends = node.ends if node.ends is not _NONE else {}
    return _put_here(node, node.ends, methods, entry)


def _tail(parts: tuple[Segment, ...], methods: tuple[str, ...], entry: T, place: int, alike: _Alike) -> _Tail[T]:
    """An entry in one piece; its template's segments are compared from a place on."""
    found, count = [], len(parts)
    for number in range(place, count):
        part = parts[number]
        if isinstance(part, str):
            found.append((number, part))
        elif not (isinstance(part, Parameter) and part.bare):
            count = 0
            break
    literals = tuple(found)
    return parts, dict.fromkeys(methods, entry), count, alike.setdefault(literals, literals), methods[0], entry


def _put_here(node: _Node[T], entries: dict[str, T], methods: tuple[str, ...], entry: T) -> list[tuple[str, T]]:
    taken = []
    for method in methods:
        other = entries.setdefault(method, entry)
        if other is not entry:
            taken.append((method, other))
    if len(taken) == len(methods):
        node.others = node.others if node.others is not None else []
        node.others.append(entry)
    return taken


def _laid_out(tail: _Tail[T], place: int) -> _Node[T]:
    """A tail as nodes, from a place on. Its entries are for different methods, so that each finds its place."""
    first: _Node[T] = _Node()
    node = first
    parts, entries = tail[:2]
    for segment in parts[place:]:
        if isinstance(segment, str):
            node.literals = {segment: tail}
            return first
        if segment is REST:
            node.rest = entries
            return first
        node = _child(node, segment)
    node.ends = entries
    return first


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


def _named(entries: dict[str, T], names: tuple[str, ...]) -> T | None:
    """The entry for the first of these methods that there is one for."""
    for name in names:
        entry = entries.get(name)
        if entry is not None:
            return entry
    return None


def _find(node: _Node[T], names: tuple[str, ...], segments: list[str], place: int, count: int) -> T | None:
    """Depth first, the most specific branch first; each node is visited at most once."""
    if place == count:
        entry = _named(node.ends, names)
        return entry if entry is not None else _named(node.rest, names)
    segment = segments[place]
    branches: list[_Node[T] | None] = []
    literal = node.literals.get(segment)
    if isinstance(literal, tuple):
        entry = _named(literal[1], names)
        if entry is not None and _fit(literal[0], segments, place + 1):
            return entry
    else:
        branches.append(literal)
    if node.affixed is not None:
        branches += node.affixed.find(segment)
    branches += [node.name, node.star]
    for child in branches:
        if child is not None:
            found = _find(child, names, segments, place + 1, count)
            if found is not None:
                return found
    return _named(node.rest, names)
