"""Templates by their segments: those that may have a path in common with another one are found without a search."""

from __future__ import annotations

from typing import TYPE_CHECKING, Generic, TypeVar

from .paths import REST, Template

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

T = TypeVar("T")


class Overlaps(Generic[T]):
    """Values by template. What is found near a template still has to be compared with it (`paths.overlap`)."""

    def __init__(self, values: Iterable[tuple[Template, T]] = ()) -> None:
        self._literals: dict[str, Overlaps[T]] = {}
        self._others: Overlaps[T] | None = None  # behind a segment that may be many things
        self._here: list[T] = []
        self._rest: list[T] = []  # of templates that end in ** here
        for template, value in values:
            self.add(template, value)

    def add(self, template: Template, value: T) -> None:
        """Put a value in its place."""
        node = self
        for segment in template.segments:
            if segment is REST:
                node._rest.append(value)
                return
            if isinstance(segment, str):
                node = node._literals.setdefault(segment, Overlaps())
            else:
                node._others = node = node._others or Overlaps()
        node._here.append(value)

    def near(self, template: Template) -> Iterator[T]:
        """The values whose templates may have a path in common with a template."""
        nodes = [self]
        for segment in template.segments:
            yield from (value for node in nodes for value in node._rest)
            if segment is REST:
                yield from (value for node in nodes for value in node._below())
                return
            following = [node._others for node in nodes if node._others is not None]
            if isinstance(segment, str):
                following += [node._literals[segment] for node in nodes if segment in node._literals]
            else:
                following += [child for node in nodes for child in node._literals.values()]
            nodes = following
        yield from (value for node in nodes for value in (*node._here, *node._rest))

    def _below(self) -> Iterator[T]:
        """Everything from here on but what ends in ** here."""
        yield from self._here
        waiting = [*self._literals.values(), *([self._others] if self._others is not None else [])]
        while waiting:
            node = waiting.pop()
            yield from node._here
            yield from node._rest
            waiting += node._literals.values()
            if node._others is not None:
                waiting.append(node._others)
