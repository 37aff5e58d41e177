"""Findings that an application gets where it starts; `bloodroot check` has the same, and more."""

from __future__ import annotations

import functools
import inspect
import types
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from ..core.binding import Route, lines_of_actions
from ..core.conditions import Reference
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import walk
from ..core.lines import ActionLine, Line
from ..core.methods import ANY
from ..core.requirements import HoldingIn, asks_for_guard, references_in
from ..core.roles import RoleTable
from ..language.problems import Place, SourceText
from .guards import guards_of, misplaced
from .loaders import parameters_of

WITHOUT_ENDPOINT = FindingKind(
    "line-without-endpoint",
    Severity.WARNING,
    "A line covers no endpoint that was found.",
    "Correct its method or path, or remove the line where the endpoint is gone. What is served there in front of the "
    "application, or beside it, is not decided: put AccessMiddleware of bloodroot.enforce.asgi or .wsgi around all.",
    Needs.ENDPOINTS,
    at_start=True,
)
IGNORES_CASE = FindingKind(
    "route-ignores-case",
    Severity.ERROR,
    "A route serves paths in upper and lower case alike, and the lines of a policy cover paths as they are written: "
    "another spelling gets past them.",
    "Write the route so that case matters, without (?i).",
    Needs.ROUTES,
    at_start=True,
)
RULE_WITHOUT_ENDPOINT = FindingKind(
    "rule-without-endpoint",
    Severity.WARNING,
    "A standing rule covers no endpoint that was found, so that nothing of what it requires is ever asked.",
    "Correct its methods or path, or remove the rule.",
    Needs.ENDPOINTS,
    at_start=True,
)
SEVERAL_ROUTES = FindingKind(
    "action-of-several-routes",
    Severity.NOTE,
    "A line names an action that several routes serve.",
    "Make sure that all of these routes are meant; a line with a path says it of one alone.",
    Needs.ROUTES,
    at_start=True,
)
NOT_RUN = FindingKind(
    "guard-not-run",
    Severity.ERROR,
    "A guard is written where the framework never runs it.",
    "Put it below the decorator of the route, or around every class that serves the endpoint.",
    Needs.ROUTES,
    at_start=True,
)
MISSING = FindingKind(
    "guard-missing",
    Severity.ERROR,
    "A line leaves the decision to a guard, and no guard is around the handler, which would run for every caller.",
    "Put a guard around the handler, or say in the line what is required. Where the handler calls one out of sight, "
    'write: accept guard-missing "why".',
    Needs.ROUTES,
    at_start=True,
)
NOT_SETTLED = FindingKind(
    "record-not-settled",
    Severity.ERROR,
    "A line depends on a record that nothing loads and that the handler does not settle: every response is withheld.",
    "Register a loader for a parameter of the path, or call current().settle(record) in the handler.",
    Needs.ROUTES,
    at_start=True,
)
NOT_LOADED = FindingKind(
    "thing-not-loaded",
    Severity.ERROR,
    "An endpoint depends on what a record belongs to, and nothing loads that record: it is refused to all who hold a "
    "role in something.",
    "Register a loader for the thing, which loads what any of its parameters identifies.",
    Needs.ROUTES,
    at_start=True,
)
CACHED = FindingKind(
    "cached-for-all",
    Severity.WARNING,
    "A cache is around the handler of an endpoint that is not open to anyone: what one caller was let in to see may be "
    "given to another.",
    "Remove the cache, or vary it by the caller.",
    Needs.ROUTES,
    at_start=True,
)
_MOST_NAMED = 5
_MOST_FUNCTIONS = 300


@dataclass(frozen=True, slots=True)
class AtRoute:
    """What is asked where a route serves a method.

    Attributes:
        words: method and path, for messages.
        method: the method.
        route: the route.
        line: the line that decides.
        rules: the standing rules that concern all of its requests, or some.
    """

    words: str
    method: str
    route: Route
    line: Line
    rules: tuple[Line, ...]

    @property
    def parameters(self) -> tuple[str, ...]:
        """The parameters of the path."""
        return parameters_of(self.route)


def find_at(
    roles: RoleTable, at: AtRoute, loaders: Collection[str] | None, *, at_start: bool = False
) -> Iterator[Finding]:
    """What is wrong where a route serves a method.

    Args:
        roles: the roles of the policy.
        at: the route, and what is asked there.
        loaders: the parameters that have loaders; None where that is not known.
        at_start: whether an error keeps the application from starting: then what a handler calls out of sight counts.
    """
    if loaders is not None:
        things = roles.things.by_parameter
        loaders = {*loaders, *(name for name, thing in things.items() if thing.name in loaders)}
    yield from _missing(at)
    yield from _not_settled(at, loaders, at_start)
    if roles.things and loaders is not None:
        yield from _not_loaded(roles, at, loaders, at_start)
    if at.route.cached and not at.line.open_to_anyone:
        yield CACHED.at(at.line.place, f"A cache is around {at.route.action}, and {at.words} is not open to anyone.")


def without_endpoint(line: Line, path: str, *, guess: str = "", by_routes: bool) -> Finding:
    """That a line covers no endpoint; an error where it says that no caller may, as something else may serve it.

    Args:
        line: the line.
        path: what it is for, in words.
        guess: what may have been meant.
        by_routes: whether the routes of the application are known.
    """
    is_wrong = line.closes and by_routes and not guess
    message = f"No endpoint of the application is at {path}{guess or '.'}"
    if is_wrong:
        message += " The line says that no caller may use it, and this application would not be asked."
    return WITHOUT_ENDPOINT.at(line.place, message, severity=Severity.ERROR if is_wrong else None)


def routes_ignoring_case(routes: Iterable[Route]) -> Iterator[Finding]:
    """Routes whose paths are served whatever the case of their letters."""
    for route in routes:
        if route.ignores_case:
            words = f"{route.spelling or route.path}, served by {route.action}, does not tell upper from lower case."
            yield IGNORES_CASE.at(
                place_of_handler(route.handler) or Place(SourceText(route.action, ()), 1, 1, 1), words
            )


def place_of_handler(handler: Any) -> Place | None:
    """File and line of a handler; None where that is not known."""
    handler = inspect.unwrap(handler) if callable(handler) else handler
    try:
        file = inspect.getsourcefile(handler)
        _, line = inspect.getsourcelines(handler)
    except (TypeError, OSError):
        return None
    return Place(SourceText(_short(Path(file)), ()), line, 1, 1) if file else None


def _short(file: Path) -> str:
    try:
        return str(file.resolve().relative_to(Path.cwd().resolve()))
    except ValueError:
        return file.name


def guards_not_run(routes: Iterable[Route]) -> Iterator[Finding]:
    """Guards around the handlers of routes that the framework never runs."""
    for route in {id(route.handler): route for route in routes}.values():
        if route.handler is not None:
            for guard, why in misplaced(route):
                yield NOT_RUN.at(guard.place, f'guard("{guard.text}"): {why}.')


def several_routes(routes: Iterable[Route], actions: Iterable[ActionLine]) -> Iterator[Finding]:
    """Lines of actions that several routes serve."""
    by_name = {action.name: action for action in actions}
    served: dict[str, list[str]] = {}
    for route in routes:
        for action, line in lines_of_actions(route, by_name):
            words = f"{' '.join(line.methods) or ANY} {route.spelling or route.path}"
            served.setdefault(action.name, []).append(words)
    for action in by_name.values():
        paths = served.get(action.name, [])
        if len(paths) > 1:
            shown = ", ".join(paths[:_MOST_NAMED]) + (" and more" if len(paths) > _MOST_NAMED else "")
            yield SEVERAL_ROUTES.at(action.place, f"Action {action.name} is served by {len(paths)} routes: {shown}.")


def _missing(at: AtRoute) -> Iterator[Finding]:
    """A line that leaves the decision to a guard, where there is none."""
    around = at.route.guards_for(at.method)
    if at.route.guarded is None or around or not asks_for_guard(at.line.requirement.formula):
        return
    what = at.route.action_for(at.method) + (f" for {at.method}" if at.route.by_method is not None else "")
    message = f"{at.words} is guarded, and no guard is around {what}."
    severity = None
    if any(guards_of(each) for each in _reached(at.route.handler)):
        message, severity = f"{message} It calls a function that has one.", Severity.WARNING
    yield MISSING.at(at.line.place, message, severity=severity)


def _not_settled(at: AtRoute, loaders: Collection[str] | None, at_start: bool) -> Iterator[Finding]:
    """A condition on a record that is not known when the response is there."""
    for line in (*at.rules, at.line):
        lack = lacking_record(line, at.parameters, at.parameters if loaders is None else loaders)
        if lack is None:
            continue
        if lack.reference is not None:
            if loaders is not None:
                name = lack.reference.words()
                message = f'{at.words} depends on {name}, and there is no loader for "{lack.reference.names[0]}".'
                yield NOT_SETTLED.at(line.place, message)
        elif not settles(at.route.handler):
            message = f"{at.words} depends on a record, and has {lack.words}; its handler does not settle it."
            # Of a handler that is not known it cannot be seen.
            may_be_settled = at.route.handler is None or (at_start and lack.has_parameters)
            yield NOT_SETTLED.at(line.place, message, severity=Severity.WARNING if may_be_settled else None)


def _not_loaded(roles: RoleTable, at: AtRoute, loaders: Collection[str], at_start: bool) -> Iterator[Finding]:
    """Records that have to be known to say what they belong to, and that nothing loads."""
    names = dict.fromkeys((*at.parameters, *(name for line in (at.line, *at.rules) for name in line.template.names)))
    named = roles.things.named(names)
    required = _required_things(roles, at)
    for name, thing in named:
        chain = roles.things.chain(thing.name)
        others = {each.name for other, of in named if other != name for each in roles.things.chain(of.name)}
        needed = [level for level, each in enumerate(chain) if each.name in required or each.name in others]
        lacking = [
            each
            for level, each in enumerate(chain[: max(needed, default=0)])
            if not (level and chain[level - 1].leads_by_record)
            and name not in (loaders if not level else ())
            and set(each.loader_names).isdisjoint(loaders)
        ]
        # The handler may settle the record of the last parameter, and nothing else.
        may_be_settled = lacking == [thing] and name == list(names)[-1] and max(needed) == 1
        if may_be_settled and settles(at.route.handler):
            continue
        for each in lacking:
            message = f"{at.words} depends on what a {each.name} belongs to, and no loader loads one."
            severity = Severity.WARNING if at_start and may_be_settled else None
            remedy = f'Register one: records={{"{each.name}": ...}}.'
            yield NOT_LOADED.at(at.line.place, message, remedy=remedy, severity=severity)


def _required_things(roles: RoleTable, at: AtRoute) -> set[str]:
    """The things in which a role may be held that is required at an endpoint, or one that includes it."""
    mask = 0
    for line in (at.line, *at.rules):
        for part in walk(line.requirement.formula):
            if isinstance(part, HoldingIn):
                mask |= part.mask
    return {thing for thing, bits in roles.bits_of_thing.items() if bits & mask}


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
    by_name = [reference for reference in references if reference.root == "records"]
    unknown = next((reference for reference in by_name if reference.names[0] not in loaders), None)
    parameters = tuple(parameters)
    if unknown is not None:
        return LackingRecord(unknown, bool(parameters))
    asks_for_record = any(reference.root == "record" for reference in references)
    if not asks_for_record or by_name or any(name in loaders for name in parameters):
        return None
    return LackingRecord(None, bool(parameters))


def settles(handler: Any) -> bool:
    """Whether a handler, or a function that it calls by name, mentions ``settle``."""
    return mentions(handler, ("settle",))


def mentions(handler: Any, wanted: Collection[str]) -> bool:
    """Whether a handler, or a function that it calls by name, mentions one of some names."""
    codes = (getattr(function, "__code__", None) for function in _reached(handler))
    return any(code is not None and not set(_names_in(code)).isdisjoint(wanted) for code in codes)


def _reached(handler: Any) -> Iterator[Any]:
    """A handler, the functions that it calls by name, and so on: as they are named, and as they are written."""
    waiting: list[Any] = [handler]
    seen: set[int] = set()
    while waiting and len(seen) < _MOST_FUNCTIONS:
        each = waiting.pop()
        if id(each) in seen:
            continue
        seen.add(id(each))
        if isinstance(each, functools.partial):
            waiting.append(each.func)
            continue
        if isinstance(each, type):
            waiting += [value for kind in each.__mro__[:-1] for value in vars(kind).values() if callable(value)]
            continue
        function = inspect.unwrap(getattr(each, "__func__", each)) if callable(each) else each
        code = getattr(function, "__code__", None)
        if code is None:
            continue
        yield each
        if function is not each:
            yield function
        names = set(_names_in(code))
        known = {**getattr(function, "__globals__", {}), **_closure(function)}
        waiting += [known[name] for name in names if isinstance(known.get(name), types.FunctionType | type)]
        modules = [known[name] for name in names if isinstance(known.get(name), types.ModuleType)]
        functions = [getattr(module, name, None) for module in modules for name in names]
        waiting += [value for value in functions if isinstance(value, types.FunctionType)]
        given = [*(function.__defaults__ or ()), *(function.__kwdefaults__ or {}).values()]
        within = [*_closure(function).values(), *given]
        waiting += [value for value in within if isinstance(value, types.FunctionType | functools.partial)]


def _names_in(code: types.CodeType) -> Iterator[str]:
    yield from code.co_names
    for constant in code.co_consts:
        if isinstance(constant, types.CodeType):
            yield from _names_in(constant)


def _closure(function: Any) -> dict[str, Any]:
    code, cells = function.__code__, function.__closure__ or ()
    values = {}
    for name, cell in zip(code.co_freevars, cells, strict=False):
        try:
            values[name] = cell.cell_contents
        except ValueError:
            continue
    return values
