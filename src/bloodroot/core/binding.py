"""Lines that name actions, bound to the routes of an application."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..language.problems import PolicyError, Problem, suggestion
from .paths import PathIndex, Template, TemplateError, parse_template, specificity

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .lines import ActionLine, Line


@dataclass(frozen=True, slots=True)
class Route:
    """One route of an application, as `Policy.bind` wants to know it.

    Attributes:
        action: the name of what serves it.
        methods: in capitals; empty for any.
        path: the path template as a policy writes it, mount prefix included.
        guarded: whether a guard is around what serves it; None where that is not known.
    """

    action: str
    methods: tuple[str, ...]
    path: str
    guarded: bool | None = field(default=None, compare=False)


def bound_lines(
    endpoints: tuple[Line, ...], unbound: tuple[ActionLine, ...], routes: Iterable[Route]
) -> tuple[tuple[Line, ...], PathIndex[Line | Route]]:
    """The endpoint lines with those of actions among them, and an index of every route.

    A route that no action line names stands in the index as itself: its requests are left to path lines.

    Raises:
        PolicyError: an action that no route serves, a path line for the very template of an action's route, or routes
            that cannot be told apart by their paths.
    """
    problems: list[Problem] = []
    index: PathIndex[Line | Route] = PathIndex()
    actions = {action.name: action for action in unbound}
    bound: dict[str, list[Line]] = {name: [] for name in actions}
    served = []
    for route in routes:
        served.append(route.action)
        action = actions.get(route.action)
        template, exact = template_of(route)
        line = action.bound(route.methods, template) if action is not None else None
        for _, other in index.add(route.methods, template, line or route):
            # Which of the two serves a request is not told by its path, as far as a policy can read it.
            if not exact and (line is not None or not isinstance(other, Route)):
                message = f"the route {route.path} of {route.action} cannot be told apart from another by its path"
                place = action.place if action is not None else unbound[0].place
                problems.append(Problem(f"{message}; write path lines for both, and no action lines", place))
        if action is not None and line is not None:
            bound[action.name].append(line)
            problems += [_written_twice(action, route, other) for other in endpoints if _same_requests(line, other)]
    for name, action in actions.items():
        if not bound[name]:
            guess = suggestion(name, served) or "; it serves none of the application's routes"
            problems.append(Problem(f'unknown action "{name}"{guess}', action.place))
    if problems:
        raise PolicyError(problems)
    lines = [*endpoints, *(line for found in bound.values() for line in found)]
    return tuple(sorted(lines, key=lambda line: line.order)), index


def _same_requests(one: Line, other: Line) -> bool:
    """Whether two lines are written for the same template, and share a method."""
    if specificity(one.template, exact=True) != specificity(other.template, exact=True):
        return False
    return not one.methods or not other.methods or not set(one.methods).isdisjoint(other.methods)


def _written_twice(action: ActionLine, route: Route, other: Line) -> Problem:
    message = f"action {action.name} is served at {route.path}, for which {other.place.at} has a line"
    return Problem(f"{message}; leave one of the two", action.place)


def template_of(route: Route) -> tuple[Template, bool]:
    """The template of a route, and whether it is the route's own: one that a policy cannot write is made wider."""
    try:
        return parse_template(route.path), True
    except TemplateError:
        parts = [f"{{p{n}}}" if "{" in part else part for n, part in enumerate(route.path.strip("/").split("/"))]
    try:
        return parse_template("/" + "/".join(parts)), False
    except TemplateError:
        return parse_template("/**"), False
