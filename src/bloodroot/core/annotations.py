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
from .methods import ANY, COMMON, covers
from .path_index import PathIndex
from .paths import specificity, unnamed_segments
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
    index: PathIndex[Line | Route] = PathIndex()
    added: list[Line] = []
    for route in routes:
        guards = _compiled(bound, route, known, problems)
        template, exact = template_of(route)
        segments = unnamed_segments(template, exact)
        binding = bound.engine.binding(route)
        groups: dict[int, tuple[Line | None, list[str]]] = {}
        for method in route.methods or (*(each for each in COMMON if each != "HEAD"), ANY):
            line = bound.engine.line_served(binding, method, segments)
            groups.setdefault(id(line), (line, []))[1].append(method)
        for line, methods in groups.values():
            named = () if ANY in methods else tuple(methods)
            if line is None or not guards:
                index.add(named, template, line if line is not None and line.action is not None else route)
                continue
            declared = without_guarded(line.requirement.formula)
            own = replace(
                line,
                methods=named,
                template=template,
                exact=exact,
                requirement=_requirement(both([declared, *(guard.requirement.formula for guard in guards)])),
                guards=guards,
                declared=_requirement(declared),
            )
            if not index.add(named, template, own):
                added.append(own)
    kept = [line for line in bound.endpoints if not any(_replaces(own, line) for own in added)]
    lines = sorted([*kept, *added], key=lambda line: line.order)
    return Policy(bound.declared, BoundLines(tuple(lines), index)), tuple(problems)


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


def _replaces(own: Line, line: Line) -> bool:
    """Whether a line with guards decides all that a written line decides: it is for the same endpoint."""
    if own.place != line.place or specificity(own.template, exact=True) != specificity(line.template, exact=True):
        return False
    return not own.methods or (bool(line.methods) and all(covers(own.methods, method) for method in line.methods))
