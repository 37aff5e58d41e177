"""What is checked and reported when an application starts: what can never take effect, and endpoints without a line."""

from __future__ import annotations

import inspect
import types
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..core.binding import Route, template_of
from ..core.conditions import Reference
from ..core.lines import Line
from ..core.methods import covers
from ..core.paths import Template, overlap, unnamed_segments
from ..core.policy import Policy
from ..core.requirements import asks_for_guard, references_in
from ..core.routing import PathTree
from ..language.problems import PolicyError, Problem, suggestion
from . import active_policies
from .access import log
from .errors import EnforcementError, StartUpError
from .guards import Guard, guards_of, misplaced, refuse_caches

_MOST_LOGGED = 20
# Of a route that declares no methods any of these may be served.
_COMMON = ("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")
_MOST_FUNCTIONS = 300


@dataclass(frozen=True, slots=True)
class StartUp:
    """What an application's routes and its policy say of each other.

    Attributes:
        endpoints: how many endpoints the application serves.
        closed: those that no line covers, as ``GET /trials``, in the framework's own spelling.
        guards: how many guards there are in this process.
        idle: sentences on what is declared and does not take effect, or not as it looks.
        inexact: sentences on routes whose paths a policy cannot write.
    """

    endpoints: int
    closed: tuple[str, ...]
    guards: int
    idle: tuple[str, ...]
    inexact: tuple[str, ...] = ()

    def tell(self) -> None:
        """Write it to the log: the counts and what is inexact as information, the rest as warnings."""
        log.info("%d endpoints, %d without a line, %d guards", self.endpoints, len(self.closed), self.guards)
        for each in self.closed[:_MOST_LOGGED]:
            log.warning("no line covers %s, so it is closed to all callers", each)
        if len(self.closed) > _MOST_LOGGED:
            log.warning("and %d endpoints more have no line", len(self.closed) - _MOST_LOGGED)
        for each in self.idle:
            log.warning("%s", each)
        for each in self.inexact:
            log.info("%s", each)


@dataclass(slots=True)
class _Served:
    """One method of one route, with the line that decides it, as far as its template shows."""

    method: str
    template: Template
    route: Route
    line: Line | None

    @property
    def words(self) -> str:
        spelling = self.route.spelling or self.template.text
        return f"{self.method} {spelling if spelling.startswith(('/', '^', '<')) else f'/{spelling}'}"


def without_actions(policy: Policy) -> Policy:
    """A policy for an application whose routes are not known.

    Raises:
        PolicyError: it has lines that name actions, which could never be found.
    """
    places = [line.place for line in policy.unbound]
    places += [line.place for line in policy.endpoints if line.action is not None]
    if places:
        message = "there are no routes here to find an action in; write its method and path, or protect the framework"
        raise PolicyError([Problem(message, place) for place in places])
    return policy


def look_over(policy: Policy, routes: Iterable[Route], records: Collection[str] = ()) -> StartUp:
    """Hold a policy and the routes of an application against each other.

    Args:
        policy: bound to the routes.
        routes: every route of the application.
        records: the parameters that have loaders.

    Raises:
        PolicyError: a guard of a handler requires what this policy does not know.
        StartUpError: something is declared that could never take effect.
    """
    routes = list(routes)
    served = [_served(policy, method, route) for route in routes for method in route.methods or ("any",)]
    _understood(policy, routes)
    wrong = list(_unknown_records(routes, records))
    try:
        refuse_caches()
    except EnforcementError as found:
        wrong.append(str(found))
    wrong += [f'{guard.place.at}: guard("{guard.text}"): {why}' for guard, why in guards_not_run(routes)]
    idle: list[str] = []
    for error, sentence in _records_not_loaded(policy, served, records):
        (wrong if error else idle).append(sentence)
    if wrong:
        raise StartUpError("\n".join(dict.fromkeys(wrong)))
    by_template = PathTree((each.template, each) for each in served)
    idle += [*_idle_lines(policy, by_template), *_idle_rules(policy, by_template)]
    idle += [*_unguarded(served), *_several(policy), *_cached(served)]
    closed = [each.words for each in served if each.line is None]
    return StartUp(
        len(served), tuple(closed), active_policies.guards(), tuple(dict.fromkeys(idle)), tuple(_inexact(routes))
    )


def _served(policy: Policy, method: str, route: Route) -> _Served:
    template, exact = template_of(route)
    segments = unnamed_segments(template, exact)
    binding = policy.lookup.binding(route)
    methods = _COMMON if method == "any" else (method,)
    found = (binding.line_for(each, segments) for each in methods)
    return _Served(method, template, route, next((line for line in found if line is not None), None))


# Errors ----------------------------------------------------------------------------------


def _unknown_records(routes: list[Route], records: Collection[str]) -> Iterator[str]:
    known = {name for route in routes for name in _names(route)}
    for name in records:
        if name not in known:
            guess = suggestion(name, known) or f"; parameters are {', '.join(sorted(known)) or 'none'}"
            yield f'records has a loader for "{name}", which is no parameter of any route{guess}'


def _names(route: Route) -> tuple[str, ...]:
    return route.names if route.names is not None else template_of(route)[0].names


def guards_not_run(routes: Iterable[Route]) -> Iterator[tuple[Guard, str]]:
    """Guards around the handlers of routes that the framework never runs, each with the reason."""
    seen: set[int] = set()
    for route in routes:
        handler = route.handler
        if handler is None or id(handler) in seen:
            continue
        seen.add(id(handler))
        yield from misplaced(route)


def _understood(policy: Policy, routes: list[Route]) -> None:
    """See that the policy knows what guards require; PolicyError where it does not."""
    for route in routes:
        around = guards_of(route.handler) if route.handler is not None else ()
        for guard in dict.fromkeys((*around, *route.guards)):
            if guard.policy is None:
                guard.compiled_for(policy)


def _records_not_loaded(policy: Policy, served: list[_Served], records: Collection[str]) -> Iterator[tuple[bool, str]]:
    """Conditions on records that nothing loads, each with whether it is an error."""
    for each in served:
        if each.line is None:
            continue
        method = "GET" if each.method == "any" else each.method
        rules = (
            rule for rule in policy.standing if covers(rule.methods, method) and overlap(rule.template, each.template)
        )
        for line in (each.line, *rules):
            lack = lacking_record(line, _names(each.route), records)
            if lack is None:
                continue
            if lack.reference is not None:
                name = lack.reference.names[0]
                why = f'{lack.reference.words()} is never known: records has no loader for "{name}"'
                yield True, f"{line.place.at}: {why}"
                continue
            settled = settles(each.route.handler)
            if settled and lack.has_parameters:
                continue  # it has the record from elsewhere, and settles it
            # Where there is a parameter, what the handler calls may settle it out of sight.
            yield (
                not settled and not lack.has_parameters,
                f"{line.place.at}: {each.words} has {lack.words}, and {line.text} depends on one; its handler "
                f"{'must' if settled else 'does not'} settle it",
            )


class LackingRecord(NamedTuple):
    """A record that a line depends on and nothing loads.

    Attributes:
        reference: where the line names it by a parameter, as in ``records.plot_id.owner``; None for the record of the
            endpoint.
        has_parameters: whether the path has a parameter that a loader could be registered for.
    """

    reference: Reference | None
    has_parameters: bool

    @property
    def words(self) -> str:
        """What is missing for the record of an endpoint."""
        return "no loader for a parameter" if self.has_parameters else "no parameter that a record could be loaded for"


def lacking_record(line: Line, parameters: Iterable[str], loaders: Collection[str]) -> LackingRecord | None:
    """The record that a line depends on and nothing loads, at a route with these parameters; None where there is none.

    A handler may settle the record of the endpoint itself; a record by name it cannot.
    """
    references = list(references_in(line.requirement.formula))
    by_name = [each for each in references if each.root == "records"]
    unknown = next((each for each in by_name if each.names[0] not in loaders), None)
    parameters = tuple(parameters)
    if unknown is not None:
        return LackingRecord(unknown, bool(parameters))
    asks_for_record = any(each.root == "record" for each in references)
    if not asks_for_record or by_name or any(name in loaders for name in parameters):
        return None
    return LackingRecord(None, bool(parameters))


def settles(handler: Any) -> bool:
    """Whether a handler, or a function that it calls by name, mentions ``settle``."""
    waiting: list[Any] = [handler]
    seen: set[int] = set()
    while waiting and len(seen) < _MOST_FUNCTIONS:
        each = waiting.pop()
        if id(each) in seen:
            continue
        seen.add(id(each))
        if isinstance(each, type):
            waiting += [value for kind in each.__mro__[:-1] for value in vars(kind).values() if callable(value)]
            continue
        function = inspect.unwrap(getattr(each, "__func__", each)) if callable(each) else each
        code = getattr(function, "__code__", None)
        if code is None:
            continue
        names = set(_names_in(code))
        if "settle" in names:
            return True
        known = {**getattr(function, "__globals__", {}), **_closure(function)}
        waiting += [known[name] for name in names if isinstance(known.get(name), types.FunctionType | type)]
        modules = [known[name] for name in names if isinstance(known.get(name), types.ModuleType)]
        found = [getattr(module, name, None) for module in modules for name in names]
        waiting += [value for value in found if isinstance(value, types.FunctionType)]
        waiting += [value for value in _closure(function).values() if isinstance(value, types.FunctionType)]
    return False


def _names_in(code: types.CodeType) -> Iterator[str]:
    yield from code.co_names
    for constant in code.co_consts:
        if isinstance(constant, types.CodeType):
            yield from _names_in(constant)


def _closure(function: Any) -> dict[str, Any]:
    code, cells = function.__code__, function.__closure__ or ()
    found = {}
    for name, cell in zip(code.co_freevars, cells, strict=False):
        try:
            found[name] = cell.cell_contents
        except ValueError:
            continue
    return found


# Warnings ----------------------------------------------------------------------------------


def _idle_lines(policy: Policy, served: PathTree[_Served]) -> Iterator[str]:
    for line in policy.endpoints:
        if line.action is None and not any(_meet(line, each) for each in served.near(line.template)):
            yield f"{line.place.at}: no endpoint of the application is at {line.template.text}: {line.text}"


def _idle_rules(policy: Policy, served: PathTree[_Served]) -> Iterator[str]:
    for rule in policy.standing:
        if not any(_meet(rule, each) for each in served.near(rule.template)):
            yield f"{rule.place.at}: this standing rule covers no endpoint: {rule.text}"


def _unguarded(served: list[_Served]) -> Iterator[str]:
    for each in served:
        route, line = each.route, each.line
        guarded = route.guarded is None or route.guards_for(each.method)
        if line is not None and not guarded and asks_for_guard(line.requirement.formula):
            yield (
                f"{line.place.at}: {each.words} is guarded, and no guard is around {each.route.action}; unless "
                "something it calls has one, every response is withheld"
            )


def _cached(served: list[_Served]) -> Iterator[str]:
    for each in served:
        if each.route.cached and each.line is not None and not each.line.open_to_anyone:
            yield (
                f"{each.line.place.at}: a cache is around {each.route.action}, and {each.words} is not open to anyone: "
                "what one caller was let in to see may be given to another; remove the cache, or vary it by the caller"
            )


def _several(policy: Policy) -> Iterator[str]:
    """Lines of actions that are bound to more than one route, which different functions may serve."""
    bound: dict[str, list[Line]] = {}
    for line in policy.endpoints:
        if line.action is not None:
            bound.setdefault(line.action, []).append(line)
    for name, lines in bound.items():
        if len(lines) > 1:
            paths = ", ".join(f"{' '.join(line.methods) or 'any'} {line.template.text}" for line in lines)
            yield f"{lines[0].place.at}: action {name} names {len(lines)} routes: {paths}"


def _inexact(routes: list[Route]) -> Iterator[str]:
    for route in routes:
        template, exact = template_of(route)
        if not exact:
            yield (
                f"{route.spelling or route.path} ({route.action}) cannot be written as a path of a policy; the matrix, "
                f"flags and the probe take it for {template.text}, and requests are decided by what is served"
            )


def _meet(line: Line, served: _Served) -> bool:
    """Whether a line may cover requests for a route."""
    if line.methods and served.method != "any" and not covers(line.methods, served.method):
        return False
    template = served.template
    return overlap(line.template, template) is not False or overlap(template, line.template) is not False
