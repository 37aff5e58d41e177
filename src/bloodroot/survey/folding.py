"""Concrete paths folded into templates: numbers, UUIDs, dates, hashes, and segments that vary much."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

# A segment that is a value, and never the name of something.
_VALUE = re.compile(
    r"""
    -?\d+(?:[.,]\d+)?                                                  # a number
    | [0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}             # a UUID
    | \d{4}-\d\d(?:-\d\d(?:T[\d:.+Z-]+)?)?                             # a date, or a date and a time
    | (?=[0-9a-fA-F]*\d)[0-9a-fA-F]{16,}                               # a hash
    | (?=[^.]*\d)(?=[^.]*[A-Za-z])[A-Za-z0-9_-]{20,}                   # a key of letters and digits
    | [^@\s]+@[^@\s]+\.[a-z]+                                          # an address
    """,
    re.X,
).fullmatch
# So many names beside each other are values; fewer are, where what follows them is alike and each is rare.
_MOST_NAMES = 300
_SUSPICIOUS = 20
_RARE = 0.6

Counts = dict[str, dict[int, int]]  # by method, then by status


@dataclass(slots=True)
class _Node:
    """What was asked for at one beginning of a path."""

    children: dict[str, _Node] = field(default_factory=dict)
    value: _Node | None = None
    counts: Counts = field(default_factory=dict)
    joined: bool = False  # whether every name here was taken for a value


class Folder:
    """Paths that were asked for, in bounded memory: names that turn out to be values are joined on the way."""

    def __init__(self) -> None:
        self._root = _Node()

    def add(self, segments: list[str], method: str, status: int, times: int = 1) -> None:
        """Count a request."""
        node = self._root
        for segment in segments:
            node = _child(node, segment)
        by_status = node.counts.setdefault(method, {})
        by_status[status] = by_status.get(status, 0) + times

    def merge(self, other: Folder) -> None:
        """Add all that another folder has counted."""
        _merge(self._root, other._root)

    def templates(self) -> Iterator[tuple[str, str, Mapping[int, int]]]:
        """Each template that was asked for, with a method, and how often each status was answered."""
        yield from _templates(self._root, [], [])


def _child(node: _Node, segment: str) -> _Node:
    found = node.children.get(segment)
    if found is None and not node.joined and not _VALUE(segment):
        if len(node.children) < _MOST_NAMES:
            found = node.children[segment] = _Node()
        else:
            _join(node)
    if found is None:
        found = node.value = node.value or _Node()
    return found


def _join(node: _Node) -> None:
    """Take all names at a node for values."""
    node.joined = True
    value = node.value = node.value or _Node()
    for child in node.children.values():
        _merge(value, child)
    node.children.clear()


def _merge(one: _Node, other: _Node) -> None:
    for method, by_status in other.counts.items():
        mine = one.counts.setdefault(method, {})
        for status, times in by_status.items():
            mine[status] = mine.get(status, 0) + times
    for name, child in other.children.items():
        _merge(_child(one, name), child)
    if other.joined and not one.joined:
        _join(one)
    if other.value is not None:
        one.value = one.value or _Node()
        _merge(one.value, other.value)


def _vary(node: _Node) -> bool:
    """Whether the names at a node are values: many, most of them rare, with the same things behind them."""
    if len(node.children) < _SUSPICIOUS:
        return False
    shapes: dict[tuple[object, ...], int] = {}
    rare = 0
    for child in node.children.values():
        shape = (frozenset(child.counts), frozenset(child.children), child.value is not None)
        shapes[shape] = shapes.get(shape, 0) + 1
        rare += sum(sum(by_status.values()) for by_status in child.counts.values()) <= 3
    return max(shapes.values()) >= _RARE * len(node.children) and rare >= _RARE * len(node.children)


def _templates(node: _Node, parts: list[str], names: list[str]) -> Iterator[tuple[str, str, Mapping[int, int]]]:
    for method, by_status in node.counts.items():
        yield "/" + "/".join(parts), method, by_status
    if _vary(node):
        _join(node)
    for segment, child in sorted(node.children.items()):
        yield from _templates(child, [*parts, _literal(segment, names)], names)
    if node.value is not None:
        name = _name(parts, names)
        yield from _templates(node.value, [*parts, f"{{{name}}}"], [*names, name])


def _literal(segment: str, names: list[str]) -> str:
    """A segment that was asked for as a policy writes it; one that it cannot write becomes a parameter.

    So does one that means something to a shell: anyone who sends a request chooses it, and people paste commands.
    """
    if re.fullmatch(r"[\w.~@:+,=-]+", segment) and segment not in (".", ".."):
        return segment
    return f"{{part{len(names) + 1}}}"


def _name(parts: list[str], taken: list[str]) -> str:
    """A name for a value, after what it is a value of: ``trial_id`` in ``/trials/7``."""
    before = next((part for part in reversed(parts) if re.fullmatch(r"[A-Za-z][\w-]*", part)), "value")
    singular = re.sub(r"ies$", "y", before) if before.endswith("ies") else re.sub(r"(?<=[^s])s$", "", before)
    name = f"{singular}_id"
    return name if name not in taken else f"{name}{taken.count(name) + len(taken) + 1}"
