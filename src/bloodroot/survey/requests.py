"""Requests that were observed, gathered into endpoints: a HAR file and an access log give them alike."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from ..core.binding import Route, template_of
from ..core.paths import is_method, read_path
from ..core.routing import PathTree
from .endpoints import Endpoint, Found
from .folding import Counts, Folder

_LONGEST = 60  # segments


@dataclass(slots=True)
class Observed:
    """What was asked for: by endpoints that are known, and otherwise folded.

    Attributes:
        known: templates that other sources have declared, each with its methods; empty methods for any.
        folder: requests for what is not among them.
        counts: by the number of a known template, then by method and status.
        unreadable: how many requests had a method or a path that can be read in more than one way.
    """

    known: tuple[tuple[tuple[str, ...], str], ...] = ()
    folder: Folder = field(default_factory=Folder)
    counts: dict[int, Counts] = field(default_factory=dict)
    unreadable: int = 0
    _index: PathTree[int] | None = None

    def add(self, method: str, path: str, status: int, times: int = 1) -> None:
        """Count a request."""
        segments = read_path(path)
        if segments is None or len(segments) > _LONGEST or not is_method(method):
            self.unreadable += times
            return
        if self._index is None:
            self._index = _index_of(self.known)
        number = self._index.find(method, segments)
        if number is None:
            self.folder.add(segments, method, status, times)
            return
        by_status = self.counts.setdefault(number, {}).setdefault(method, {})
        by_status[status] = by_status.get(status, 0) + times

    def merge(self, other: Observed) -> None:
        """Add what another process has counted."""
        self.unreadable += other.unreadable
        self.folder.merge(other.folder)
        for number, by_method in other.counts.items():
            for method, by_status in by_method.items():
                mine = self.counts.setdefault(number, {}).setdefault(method, {})
                for status, times in by_status.items():
                    mine[status] = mine.get(status, 0) + times

    def found(self, source: str, notes: Iterable[str] = ()) -> Found:
        """The endpoints that were asked for."""
        endpoints = []
        for number, by_method in sorted(self.counts.items()):
            template, exact = template_of(Route("", (), self.known[number][1]))
            for method, by_status in by_method.items():
                endpoints.append(Endpoint((method,), template.text, source, exact=exact, statuses=by_status))
        for path, method, statuses in self.folder.templates():
            endpoints.append(Endpoint((method,), path, source, statuses=statuses))
        said = [*notes]
        if self.unreadable:
            said.append(
                f"{source}: requests left out because their method or path can be read in two ways: {self.unreadable}"
            )
        return Found(source, tuple(endpoints), tuple(said))


def _index_of(endpoints: tuple[tuple[tuple[str, ...], str], ...]) -> PathTree[int]:
    index: PathTree[int] = PathTree()
    for number, (methods, path) in enumerate(endpoints):
        template, _ = template_of(Route("", (), path))
        index.add(methods, template, number)
    return index
