"""Lines that name actions, bound to the routes of an application."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple

from ..language.problems import ENOUGH, PolicyError, Problem, suggestion
from .methods import covers, precision, share
from .paths import Template, TemplateError, overlap, parse_template, specificity
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Mapping

    from .lines import ActionLine, Line


_MOST_METHODS = 50
_MOST_NAMED = 4
SEVERAL_ROUTES = "action-of-several-routes"  # the finding that a line accepts where that is meant


class RouteKind(StrEnum):
    """What serves a route."""

    ENDPOINT = "endpoint"
    WEBSOCKET = "websocket"
    STATIC = "static"  # files
    REDIRECT = "redirect"
    MOUNT = "mount"  # another application
    DOCUMENTATION = "documentation"  # of the framework's own


@dataclass(frozen=True, slots=True)
class Operation:
    """What serves some methods of a route, where other methods are served by something else.

    Attributes:
        name: the name of its action.
        methods: in capitals.
        function: the function that serves them.
    """

    name: str
    methods: tuple[str, ...]
    function: Any = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Route:
    """One route of an application, as `Policy.bind` wants to know it.

    Attributes:
        action: the name of what serves it.
        methods: in capitals; empty for any.
        path: the path template as a policy writes it, mount prefix included.
        guarded: whether a guard is around what serves it; None where that is not known.
        spelling: the path as the framework writes it; an empty string where that is ``path``.
        exact: whether ``path`` covers exactly the paths of the route. One that a policy cannot write is made wider;
            it serves the matrix, flags and the probe, never a decision.
        names: the parameters of the path, as the framework names them; None for those of ``path``.
        handler: what serves it, a function or a class; None where that is not known.
        kind: what kind of thing serves it.
        guards: the guards around what serves it, as `bloodroot.enforce.guards` knows them.
        by_method: for a class-based handler, those around what serves each method; None where all have the same.
        guards_of_all: for a class-based handler, those around what serves requests of all methods.
        cached: whether a cache around what serves it answers in its place.
        variant: what sets one use of a handler apart from another, such as the arguments that a class-based view was
            made with; None for nothing.
        operations: what serves which of its methods, where that is not one function for all of them. The action of the
            route is that of all of these together.
        rivals: the actions of other routes for the very same path, of which the framework serves the first alone.
        ignores_case: whether it serves paths whatever the case of their letters.
        part_of: the route of which this is another spelling, with a parameter more that says the format of the answer.
    """

    action: str
    methods: tuple[str, ...]
    path: str
    guarded: bool | None = field(default=None, compare=False)
    spelling: str = field(default="", compare=False)
    exact: bool = field(default=True, compare=False)
    names: tuple[str, ...] | None = field(default=None, compare=False)
    handler: Any = field(default=None, compare=False)
    kind: RouteKind = field(default=RouteKind.ENDPOINT, compare=False)
    guards: tuple[Any, ...] = field(default=(), compare=False)
    by_method: Mapping[str, tuple[Any, ...]] | None = field(default=None, compare=False)
    guards_of_all: tuple[Any, ...] = field(default=(), compare=False)
    cached: bool = field(default=False, compare=False)
    variant: Any = field(default=None, compare=False)
    operations: tuple[Operation, ...] = field(default=(), compare=False)
    rivals: tuple[str, ...] = field(default=(), compare=False)
    ignores_case: bool = field(default=False, compare=False)
    part_of: Route | None = field(default=None, compare=False)

    @property
    def key(self) -> tuple[str, str, int]:
        """What it is known by, once the policy is bound to it: its action, its path, and what serves it."""
        return self.action, self.spelling or self.path, id(self.handler)

    @property
    def actions(self) -> tuple[str, ...]:
        """The names by which a line may call it, or a part of it."""
        return (self.action, *(operation.name for operation in self.operations))

    def action_for(self, method: str) -> str:
        """The name of what serves a method."""
        named = [operation for operation in self.operations if covers(operation.methods, method)]
        return min(named, key=lambda each: precision(each.methods, method)).name if named else self.action

    def guards_for(self, method: str) -> tuple[Any, ...]:
        """The guards around what serves a method."""
        if self.by_method is None:
            return self.guards
        guards = self.by_method.get(method)
        if guards is None and method == "HEAD":
            guards = self.by_method.get("GET")
        return self.guards_of_all if guards is None else guards


class Resolved(NamedTuple):
    """What a framework serves for a request.

    Attributes:
        route: the route.
        values: the parameters of the path, as the framework has read them.
        path: the path that decides: without what only says the format of the answer.
    """

    route: Route
    values: Mapping[str, Any]
    path: str


@dataclass(frozen=True, slots=True)
class BoundLines:
    """The lines of a policy, bound to the routes of an application.

    Attributes:
        lines: the endpoint lines in the order of the file, one for each route that an action line names.
        routes: every route by its path: with its line where an action line names it, else as itself.
        served: every route that the lines were bound to. One that comes later has a name that was not meant.
        fold: what a line comes to with the guards of a route, where these are known (`annotations`).
        resolve: what the framework serves at a path, where it can be asked; it returns None for nothing.
    """

    lines: tuple[Line, ...]
    routes: PathTree[Line | Route]
    served: Mapping[tuple[str, str, int], Route]
    fold: Callable[[Route, str, Line | None], Line | None] | None = None
    resolve: Callable[[str], Resolved | None] | None = None


@dataclass(slots=True, eq=False)
class Binding:
    """A route that a framework serves, and the lines that may decide for it.

    Attributes:
        route: the route.
        actions: the lines of its actions, each with the methods that it decides.
        written: the path lines for the very template of the route.
        near: the path lines that may cover some of its requests and are more specific than those.
        tree: all path lines.
        settled: for each method that was asked for, the line that decides whatever the path; None where that depends.
    """

    route: Route
    actions: tuple[Line, ...]
    written: tuple[Line, ...]
    near: tuple[Line, ...]
    tree: PathTree[Line]
    settled: dict[str, Line | None] = field(default_factory=dict)

    def line_for(self, method: str, segments: list[str]) -> Line | None:
        """The line that decides a request which this route serves.

        The line of an action beats every path line. Of path lines the most specific one decides.
        """
        settled = self.settled.get(method)
        if settled is None and method not in self.settled:
            settled = self._settle(method)
        if settled is not None:
            return settled
        return self.tree.find(method, segments)

    def of_action(self, method: str) -> Line | None:
        """The line of the action that serves a method; None where no line names it."""
        if method in self.route.methods:
            # A function of its own for HEAD is not that for GET.
            return next((line for line in self.actions if method in line.methods), None)
        return next((line for line in self.actions if covers(line.methods, method)), None)

    def _settle(self, method: str) -> Line | None:
        """The line that decides every request of a method; None where another one may be more specific for some."""
        found = self.of_action(method)
        if found is None and not any(covers(line.methods, method) for line in self.near):
            written = [line for line in self.written if covers(line.methods, method)]
            found = min(written, key=lambda line: line.rank, default=None)
        if len(self.settled) < _MOST_METHODS:
            # Methods are whatever clients send.
            self.settled[method] = found
        return found


def binding_of(route: Route, lines: PathTree[Line], actions: Mapping[str, ActionLine]) -> Binding:
    """What may decide for a route.

    Args:
        route: the route.
        lines: the path lines of the policy, by their templates.
        actions: the lines of actions, by name.
    """
    template, exact = template_of(route)
    shape = specificity(template, exact=True) if exact else None
    written, near = [], []
    for line in sorted(lines.near(template), key=lambda line: line.order):
        if shape is not None and specificity(line.template, exact=True) == shape:
            written.append(line)
        elif overlap(line.template, template) is not False and specificity(line.template) <= specificity(template):
            near.append(line)
    own = tuple(line for _, line in lines_of_actions(route, actions))
    return Binding(route, own, tuple(written), tuple(near), lines)


def lines_of_actions(route: Route, actions: Mapping[str, ActionLine]) -> list[tuple[ActionLine, Line]]:
    """The lines that name an action of a route, each with the methods of the route that it decides.

    A line for one operation leaves the others to the line for the route as a whole.
    """
    template, exact = template_of(route)
    found = [
        (actions[operation.name], actions[operation.name].bound(operation.methods, template, exact))
        for operation in route.operations
        if operation.name in actions
    ]
    # A path view is known by the name of its first operation, which says nothing of the others.
    whole = (
        actions.get(route.action) if route.action not in {operation.name for operation in route.operations} else None
    )
    left = _without(route, found)
    if whole is not None and (left or not found):
        found.append((whole, whole.bound(left, template, exact)))
    return found


def _without(route: Route, named: list[tuple[ActionLine, Line]]) -> tuple[str, ...]:
    """The methods of a route that none of some lines is for."""
    return tuple(method for method in route.methods if not any(method in line.methods for _, line in named))


def bound_lines(endpoints: tuple[Line, ...], unbound: tuple[ActionLine, ...], routes: Iterable[Route]) -> BoundLines:
    """The endpoint lines with those of actions among them, and an index of every route.

    A route that no action line names is in the index as itself: its requests are left to path lines.

    Raises:
        PolicyError: an action that no route serves, or a path line for the very template of an action's route.
    """
    problems: list[Problem] = []
    index: PathTree[Line | Route] = PathTree()
    actions = {action.name: action for action in unbound}
    bound: dict[str, list[Line]] = {name: [] for name in actions}
    by_action: dict[str, list[Route]] = {}
    names: dict[str, None] = {}
    served: dict[tuple[str, str, int], Route] = {}
    for route in routes:
        served[route.key] = route
        names.update(dict.fromkeys(route.actions))
        template, exact = template_of(route)
        named = lines_of_actions(route, actions)
        # Of routes whose templates look alike the first one counts here, as it does in most routers.
        left = _without(route, named)
        if left or not named:
            index.add(left, template, route)
        for action, line in named:
            index.add(line.methods, template, line)
            bound[action.name].append(line)
            by_action.setdefault(action.name, []).append(route)
            if route.rivals:
                problems.append(_not_served_alone(action, route))
            if exact:
                problems += [_written_twice(action, route, other) for other in endpoints if _same_requests(line, other)]
    for name, action in actions.items():
        if not bound[name]:
            guess = suggestion(name, names) if len(problems) < ENOUGH else ""
            guess = guess or "; it serves none of the application's routes"
            problems.append(Problem(f'unknown action "{name}"{guess}', action.place))
        elif SEVERAL_ROUTES not in action.accepts:
            problems += _several_handlers(action, by_action[name], actions)
    if problems:
        raise PolicyError(problems)
    lines = [*endpoints, *(line for of_action in bound.values() for line in of_action)]
    return BoundLines(tuple(sorted(lines, key=lambda line: line.order)), index, served)


def _several_handlers(action: ActionLine, routes: list[Route], actions: Mapping[str, ActionLine]) -> list[Problem]:
    """Whether a name stands for several handlers, of which only one may have been meant."""
    for route in routes:
        meant = [operation for operation in route.operations if operation.name not in actions]
        if route.action == action.name and len(meant) > 1:
            each = ", ".join(f"{each.name} ({' '.join(each.methods)})" for each in meant[:_MOST_NAMED])
            each += f" and {len(meant) - _MOST_NAMED} more" if len(meant) > _MOST_NAMED else ""
            message = f"action {action.name} is the name of several: {each}"
            remedy = f'write a line for each, or: accept {SEVERAL_ROUTES} "why"'
            return [Problem(f"{message}; {remedy}", action.place)]
    handlers = handlers_apart(routes)
    if len(handlers) < 2:
        return []
    where = [f"{_spelled(handler.handler)} ({handler.spelling or handler.path})" for handler in handlers.values()]
    several = ", ".join(where[:3]) + (f" and {len(where) - 3} more" if len(where) > 3 else "")
    message = f"action {action.name} is the name of several handlers: {several}"
    remedy = f'give each a name of its own, or write: accept {SEVERAL_ROUTES} "why"'
    return [Problem(f"{message}; {remedy}", action.place)]


def handlers_apart(routes: Iterable[Route]) -> dict[tuple[int, str], Route]:
    """The handlers of routes, each with one of them: a view that was made with other arguments is another one."""
    return {(id(route.handler), repr(route.variant)): route for route in routes if route.handler is not None}


def _not_served_alone(action: ActionLine, route: Route) -> Problem:
    others = ", ".join(route.rivals)
    message = (
        f"action {action.name} is at {route.spelling or route.path}, and so is {others}; the framework serves the "
        "first of them whatever the method"
    )
    return Problem(f"{message}; write a line with method and path, or give them one view", action.place)


def _spelled(handler: Any) -> str:
    name = getattr(handler, "__qualname__", None) or type(handler).__qualname__
    return f"{getattr(handler, '__module__', '?')}.{name}"


def _same_requests(one: Line, other: Line) -> bool:
    """Whether two lines are written for the same template, and share a method."""
    if specificity(one.template, exact=True) != specificity(other.template, exact=True):
        return False
    return not one.methods or not other.methods or share(one.methods, other.methods)


def _written_twice(action: ActionLine, route: Route, other: Line) -> Problem:
    message = f"action {action.name} is served at {route.path}, for which {other.place.at} has a line"
    return Problem(f"{message}; remove one of the two", action.place)


def _writable(segment: str, number: int) -> str:
    """A segment of a route as a policy can write it: a parameter in the place of what it cannot."""
    try:
        parse_template(f"/{segment}")
    except TemplateError:
        return f"{{p{number}}}"
    return segment


class RouteTemplate(NamedTuple):
    """The path of a route as a policy writes it.

    Attributes:
        template: the template.
        exact: whether it is the route's own: one that a policy cannot write is made wider.
    """

    template: Template
    exact: bool


def template_of(route: Route) -> RouteTemplate:
    """The template of a route."""
    try:
        return RouteTemplate(parse_template(route.path), route.exact)
    except TemplateError:
        parts = [_writable(part, number) for number, part in enumerate(route.path.strip("/").split("/"))]
    try:
        return RouteTemplate(parse_template("/" + "/".join(parts)), False)
    except TemplateError:
        return RouteTemplate(parse_template("/**"), False)
