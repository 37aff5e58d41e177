"""A policy with what guards in an application require folded into its lines: to be shown and checked.

Enforcement asks a line first, and a guard where the handler is called. To know beforehand who may use
an endpoint, both are needed together. A line here is the line that decides for a route, with the guards of its handler.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple

from ..language.problems import PolicyError, Problem
from .binding import Binding, BoundLines, Resolved, Route, template_of
from .formulas import FALSE, Formula, both
from .lines import CompiledGuard
from .methods import ANY, COMMON
from .paths import overlap, specificity, unnamed_segments
from .policy import Policy, PolicyAsServed
from .requirements import Guarded, Requirement, bits_that_open, without_guarded
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

    from .lines import Line


class WithGuards(NamedTuple):
    """A policy that knows what guards require.

    Attributes:
        policy: the policy, bound to the routes, with a line of its own for each endpoint whose handler has guards.
        problems: the problems of guards that the policy does not understand. Their endpoints are closed.
    """

    policy: Policy
    problems: tuple[Problem, ...]


def with_guards(
    policy: Policy, routes: Iterable[Route], resolve: Callable[[str], Resolved | None] | None = None
) -> WithGuards:
    """A policy that knows what the guards around an application's handlers require.

    Args:
        policy: the policy as it was written.
        routes: every route of the application.
        resolve: what the framework serves at a path, where it can be asked.

    Raises:
        PolicyError: as `Policy.bind`.
    """
    routes = list(routes)
    bound = policy.bind(routes)
    problems: list[Problem] = []
    guards: dict[Any, CompiledGuard] = {}
    for route in routes:
        _compile(bound, route, guards, problems)
    folding = _Folding(guards)
    index: PathTree[Line | Route] = PathTree()
    added: list[Line] = []
    for route in routes:
        binding = bound.lookup.binding(route)
        template = template_of(route).template
        if not binding.actions:
            index.add(route.methods, template, route)
        else:
            for method in route.methods or (ANY,):
                own = folding.fold(route, method, binding.of_action(method)) or route
                index.add(() if method == ANY else (method,), template, own)
        if route.guards:
            added += _lines_with_guards(route, binding, folding)
    by_shape: dict[object, list[Line]] = {}
    for own in added:
        by_shape.setdefault(specificity(own.template, exact=True), []).append(own)
    kept = [line for line in bound.endpoints if not _replaced(by_shape, line)]
    if added:
        served = PathTree((template_of(route).template, route) for route in routes)
        kept = [line if line.action is not None else _within(line, served, folding) for line in kept]
    lines = sorted([*kept, *added], key=lambda line: line.order)
    served_by_key = {route.key: route for route in routes}
    lines_bound = BoundLines(tuple(lines), index, served_by_key, folding.fold, resolve)
    kind = Policy if resolve is None else PolicyAsServed
    return WithGuards(kind(bound.declared, lines_bound), tuple(problems))


def _lines_with_guards(route: Route, binding: Binding, folding: _Folding) -> Iterator[Line]:
    """The lines that decide a route, with what its guards require; the methods that one decides are one endpoint."""
    template, exact = template_of(route)
    segments = unnamed_segments(template, exact)
    deciding: dict[Line, list[str]] = {}
    for method in route.methods or (*(common for common in COMMON if common != "HEAD"), ANY):
        line = binding.line_for(method, segments)
        folded = folding.fold(route, method, line)
        if folded is not None and folded is not line:
            deciding.setdefault(folded, []).append(method)
    for folded, methods in deciding.items():
        yield replace(folded, methods=() if ANY in methods else tuple(methods), template=template, exact=exact)


class _Folding:
    """Lines with the guards of routes folded in; each pair is worked out once."""

    def __init__(self, guards: dict[Any, CompiledGuard]) -> None:
        self._known = guards
        self._folded: dict[tuple[Line, int, tuple[CompiledGuard, ...]], Line] = {}

    def fold(self, route: Route, method: str, line: Line | None) -> Line | None:
        """A line as it decides where a route is served by a method; None where there is no line."""
        guards = tuple(self._known[guard] for guard in route.guards_for(method))
        if line is None or not guards:
            return line
        folded = self._folded.get((line, id(route), guards))
        if folded is None:
            declared = without_guarded(line.requirement.formula)
            together = both([declared, *(guard.requirement.formula for guard in guards)])
            own = replace(line, requirement=_requirement(together), guards=guards, declared=_requirement(declared))
            own.served = template_of(route)[0]
            folded = self._folded[line, id(route), guards] = own
        return folded


def _within(line: Line, routes: PathTree[Route], folding: _Folding) -> Line:
    """A written line with the guards of the one route that serves all of its requests, if there is such a route."""
    served = []
    for route in routes.near(line.template):
        template = template_of(route)[0]
        if overlap(line.template, template) is not False or overlap(template, line.template) is not False:
            served.append((route, template))
    if len(served) != 1 or overlap(served[0][1], line.template) is not True:
        return line
    every = {folding.fold(served[0][0], method, line) or line for method in line.methods or (ANY,)}
    return every.pop() if len(every) == 1 else line


def _compile(policy: Policy, route: Route, guards: dict[Any, CompiledGuard], problems: list[Problem]) -> None:
    """Add what the guards of a route require."""
    for guard in route.guards:
        if guard in guards:
            continue
        if guard.policy is not None and guard.policy.declared is not policy.declared:
            # It is decided by a policy of its own, and means nothing in the words of this one.
            guards[guard] = CompiledGuard(_requirement(Guarded()), guard.place)
            continue
        try:
            guards[guard] = policy.guard(guard.text, guard.place)
        except PolicyError as error:
            guards[guard] = CompiledGuard(_requirement(FALSE), guard.place)
            problems += error.problems


def _requirement(formula: Formula) -> Requirement:
    return Requirement(formula, *bits_that_open(formula))


def _replaced(added: dict[object, list[Line]], line: Line) -> bool:
    """Whether lines with guards decide all that a written line decides: they are for the same endpoint."""
    for own in added.get(specificity(line.template, exact=True), ()):
        if own.place == line.place and (not own.methods or (line.methods and set(line.methods) <= set(own.methods))):
            return True
    return False
