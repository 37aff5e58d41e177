"""Which line decides: by its path, or by the route that an application serves; and which standing rules concern it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .binding import Binding, Route, binding_of, template_of
from .methods import covers
from .paths import overlap, read_path, specificity
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .binding import BoundLines, Resolved
    from .lines import ActionLine, Line
    from .paths import Template

_FEW = 16  # rules that are compared one by one


class LineLookup:
    """Finds lines.

    Args:
        endpoints: the endpoint lines with a path, in the order of the file.
        actions: the endpoint lines that name an action.
        standing: the standing rules, in the order of the file.
        tree: the endpoint lines by path.
        bound: all of them once they are bound to the routes of an application; None where they are not.

    Attributes:
        endpoints: the endpoint lines, in the order of the file; lines that name an action once they are bound.
        unbound: endpoint lines that name an action, as long as they are not bound.
        standing: the standing rules, in the order of the file.
    """

    def __init__(
        self,
        endpoints: tuple[Line, ...],
        actions: tuple[ActionLine, ...],
        standing: tuple[Line, ...],
        tree: PathTree[Line],
        bound: BoundLines | None,
    ) -> None:
        self.endpoints = endpoints if bound is None else bound.lines
        self.unbound = actions if bound is None else ()
        self.standing = standing
        self._tree = tree
        self._bound = bound
        self._actions = {} if bound is None else {action.name: action for action in actions}
        self._rules: PathTree[Line] | None = None  # made where there are many

    def find(self, method: str, segments: list[str]) -> Line | None:
        """The line that decides: that of the action which serves the path, else the most specific path line."""
        if self._bound is not None:
            route = self._bound.routes.find(method, segments)
            if route is not None and not isinstance(route, Route):
                return route
            if route is not None and route.guards and self._bound.fold is not None:
                return self._bound.fold(route, method, self._tree.find(method, segments))
        return self._tree.find(method, segments)

    def for_request(self, method: str, path: str) -> Line | None:
        """The endpoint line that decides a method and a path as the client sent it, or None."""
        segments = read_path(path)
        if segments is None:
            return None
        served = self.served(path)
        if served is not None:
            return self.at_route(served.route, method, read_path(served.path) or [])
        return self.find(method, segments)

    def served(self, path: str) -> Resolved | None:
        """What the framework serves at a path; None where it serves nothing, or cannot be asked."""
        return self._bound.resolve(path) if self._bound is not None and self._bound.resolve is not None else None

    def by_path(self, method: str, segments: list[str]) -> Line | None:
        """The path line that decides where no route is served; lines of actions do not count."""
        return self._tree.find(method, segments)

    def for_all(self, method: str, template: Template) -> Line | None:
        """The line that decides every request for a template, or None where that cannot be said."""
        if self._bound is not None:
            routes = self._bound.routes.near(template)
            entries = ((template_of(e)[0], e.methods, e) if isinstance(e, Route) else _entry(e) for e in routes)
            entry = _only(list(entries), method, template)
            if not isinstance(entry, Route):
                # Where that cannot be said, the line of some action may decide for some of the paths.
                return entry
        entry = _only([_entry(line) for line in self._tree.near(template)], method, template)
        return None if isinstance(entry, Route) else entry

    def binding(self, route: Route) -> Binding:
        """What may decide for a route that a framework serves."""
        # A route that came later may have the name of an action, and was not meant by it.
        is_known = self._bound is not None and route.key in self._bound.served
        return binding_of(route, self._tree, self._actions if is_known else {})

    def at_route(self, route: Route, method: str, segments: list[str]) -> Line | None:
        """The line that decides where a route is served, with its guards where these are known."""
        line = self.binding(route).line_for(method, segments)
        fold = self._bound.fold if self._bound is not None else None
        return line if fold is None else fold(route, method, line)

    def candidates(self, method: str, path: str) -> list[Line]:
        """Every endpoint line that covers a method and a path, the one that decides first, then by specificity."""
        segments = read_path(path)
        if segments is None:
            return []
        lines = [line for line in self.endpoints if covers(line.methods, method) and line.template.covers(segments)]
        decides = self.for_request(method, path)
        if decides is not None and not any(line.place == decides.place for line in lines):
            lines.append(decides)
        return sorted(lines, key=lambda line: (not _is(line, decides), specificity(line.template), not line.methods))

    def rules_at(self, method: str, segments: list[str]) -> list[Line]:
        """Every standing rule that must hold for a method and a path."""
        return [rule for rule in self.standing if covers(rule.methods, method) and rule.concerns(segments)]

    def rules_for(self, method: str, path: str) -> list[Line]:
        """Every standing rule that must hold for a method and a path as the client sent it."""
        return self.rules_at(method, read_path(path) or [])

    def rules_over(self, template: Template, method: str) -> list[Line]:
        """The standing rules that cover every path of a template, with a method, in the order of the file."""
        near = self.rules_near(template) if self.standing else ()
        return [rule for rule in near if covers(rule.methods, method) and rule.overlaps(template)]

    def rules_near(self, template: Template) -> list[Line]:
        """The standing rules that cover some path of a template, in the order of the file."""
        near: Iterable[Line] = self.standing
        if len(self.standing) > _FEW:
            if self._rules is None:
                self._rules = PathTree((rule.template, rule) for rule in self.standing)
            near = sorted(self._rules.near(template), key=lambda rule: rule.order)
        return [rule for rule in near if rule.overlaps(template) is not False]


def _is(line: Line, other: Line | None) -> bool:
    """Whether two are one line: that of an action is made for each route."""
    return other is not None and line.place == other.place


_Entry = tuple["Template", tuple[str, ...], "Line | Route"]


def _entry(line: Line) -> _Entry:
    return line.template, line.methods, line


def _only(entries: list[_Entry], method: str, template: Template) -> Line | Route | None:
    """The one of some entries that decides every request of a template; None where that depends on the path."""
    if method == "HEAD":
        return None
    ranked = sorted(
        (
            (specificity(each), not methods, each, entry)
            for each, methods, entry in entries
            if covers(methods, method) and overlap(each, template) is not False
        ),
        key=lambda item: item[:2],
    )
    if not ranked or overlap(ranked[0][2], template) is not True:
        return None
    if len(ranked) > 1 and ranked[0][:2] == ranked[1][:2]:
        return None
    return ranked[0][3]
