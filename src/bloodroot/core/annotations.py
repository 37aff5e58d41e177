"""A policy with what guards in an application require folded into its lines: to be shown and checked.

Enforcement asks a line first, and a guard where the handler is called. Whoever wants to know beforehand who may use
an endpoint needs both together. A line here is the line that decides for a route, with the guards of its handler.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..language.problems import PolicyError, Problem
from .binding import BoundLines, Route, template_of
from .formulas import FALSE, Formula, both
from .lines import CompiledGuard
from .methods import ANY, COMMON
from .overlaps import Overlaps
from .path_index import PathIndex
from .paths import overlap, specificity, unnamed_segments
from .policy import Policy
from .requirements import Guarded, Requirement, bits_that_open, without_guarded

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .lines import Line


def with_guards(policy: Policy, routes: Iterable[Route]) -> tuple[Policy, tuple[Problem, ...]]:
    """A policy that knows what the guards around an application's handlers require.

    Args:
        policy: the policy as it was written.
        routes: every route of the application.

    Returns:
        The policy, bound to the routes, with a line of its own for each endpoint whose handler has guards; and the
        problems of guards that the policy does not understand. Their endpoints are closed.

    Raises:
        PolicyError: as `Policy.bind`.
    """
    routes = list(routes)
    bound = policy.bind(routes)
    problems: list[Problem] = []
    known: dict[int, CompiledGuard] = {}
    folding = _Folding({id(route): _compiled(bound, route, known, problems) for route in routes})
    index: PathIndex[Line | Route] = PathIndex()
    added: list[Line] = []
    for route in routes:
        template, exact = template_of(route)
        binding = bound.engine.binding(route)
        action = folding.fold(route, binding.action)
        index.add(route.methods, template, action if action is not None else route)
        if not folding.guards[id(route)]:
            continue
        segments = unnamed_segments(template, exact)
        # The methods that one line decides are one endpoint.
        deciding: dict[int, tuple[Line, list[str]]] = {}
        for method in route.methods or (*(each for each in COMMON if each != "HEAD"), ANY):
            line = bound.engine.line_served(binding, method, segments)
            if line is not None:
                deciding.setdefault(id(line), (line, []))[1].append(method)
        for line, methods in deciding.values():
            own = folding.fold(route, line)
            assert own is not None
            added.append(replace(own, methods=() if ANY in methods else tuple(methods), template=template, exact=exact))
    by_shape: dict[object, list[Line]] = {}
    for own in added:
        by_shape.setdefault(specificity(own.template, exact=True), []).append(own)
    kept = [line for line in bound.endpoints if not _replaced(by_shape, line)]
    if added:
        served = Overlaps((template_of(route)[0], route) for route in routes)
        kept = [line if line.action is not None else _within(line, served, folding) for line in kept]
    lines = sorted([*kept, *added], key=lambda line: line.order)
    return Policy(bound.declared, BoundLines(tuple(lines), index, folding.fold)), tuple(problems)


class _Folding:
    """Lines with the guards of routes folded in; each pair is worked out once."""

    def __init__(self, guards: dict[int, tuple[CompiledGuard, ...]]) -> None:
        self.guards = guards
        self._folded: dict[tuple[int, int], tuple[Line, Line]] = {}

    def fold(self, route: Route, line: Line | None) -> Line | None:
        """A line as it decides where a route is served; None where there is no line."""
        guards = self.guards.get(id(route), ())
        if line is None or not guards:
            return line
        found = self._folded.get((id(route), id(line)))
        if found is None:
            declared = without_guarded(line.requirement.formula)
            together = both([declared, *(guard.requirement.formula for guard in guards)])
            own = replace(line, requirement=_requirement(together), guards=guards, declared=_requirement(declared))
            found = self._folded[id(route), id(line)] = line, own
        return found[1]


def _within(line: Line, routes: Overlaps[Route], folding: _Folding) -> Line:
    """A written line with the guards of the one route that serves all of its requests, if there is such a route."""
    served = []
    for route in routes.near(line.template):
        template = template_of(route)[0]
        if overlap(line.template, template) is not False or overlap(template, line.template) is not False:
            served.append((route, template))
    if len(served) != 1 or overlap(served[0][1], line.template) is not True:
        return line
    return folding.fold(served[0][0], line) or line


def _compiled(
    policy: Policy, route: Route, known: dict[int, CompiledGuard], problems: list[Problem]
) -> tuple[CompiledGuard, ...]:
    for guard in route.guards:
        if id(guard) in known:
            continue
        if guard.policy is not None:
            # It is decided by a policy of its own, and means nothing in the words of this one.
            known[id(guard)] = CompiledGuard(_requirement(Guarded()), guard.place)
            continue
        try:
            known[id(guard)] = policy.guard(guard.text, guard.place)
        except PolicyError as error:
            known[id(guard)] = CompiledGuard(_requirement(FALSE), guard.place)
            problems += error.problems
    return tuple(known[id(guard)] for guard in route.guards)


def _requirement(formula: Formula) -> Requirement:
    return Requirement(formula, *bits_that_open(formula))


def _replaced(added: dict[object, list[Line]], line: Line) -> bool:
    """Whether lines with guards decide all that a written line decides: they are for the same endpoint."""
    for own in added.get(specificity(line.template, exact=True), ()):
        if own.place == line.place and (not own.methods or (line.methods and set(line.methods) <= set(own.methods))):
            return True
    return False
