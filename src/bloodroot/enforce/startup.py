"""What is looked at when an application starts: what can never take effect, and endpoints without a line."""

from __future__ import annotations

import logging
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

from ..core.binding import Route, template_of
from ..core.finding import Finding, Severity
from ..core.lines import Line
from ..core.methods import ANY
from ..core.paths import Template, unnamed_segments
from ..core.policy import Policy
from ..core.routing import PathTree
from ..language.problems import PolicyError, Problem, suggestion
from . import active_policies
from .access import log
from .errors import EnforcementError, StartUpError
from .guards import guards_of, refuse_caches
from .loaders import LoaderKey, key_for, names_at, parameters_of, words
from .start_checks import (
    RULE_WITHOUT_ENDPOINT,
    SEVERAL_ROUTES,
    AtRoute,
    find_at,
    guards_not_run,
    routes_ignoring_case,
    several_routes,
    without_endpoint,
)

_MOST_LOGGED = 20
# Of a route that declares no methods any of these may be served.
_COMMON = ("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


@dataclass(frozen=True, slots=True)
class StartUp:
    """What an application's routes and its policy say of each other.

    Attributes:
        endpoints: how many endpoints the application serves.
        closed: those that no line covers, as ``GET /trials``, in the framework's own spelling.
        guards: how many guards there are in this process.
        findings: what is declared and does not take effect, or not as it looks; `bloodroot check` says the same.
        inexact: sentences on routes whose paths a policy cannot write.
    """

    endpoints: int
    closed: tuple[str, ...]
    guards: int
    findings: tuple[Finding, ...]
    inexact: tuple[str, ...] = ()

    @property
    def idle(self) -> tuple[str, ...]:
        """The findings in words, each with its place."""
        return tuple(f"{finding.place.at}: {finding.message} {finding.remedy}" for finding in self.findings)

    def tell(self) -> None:
        """Write it to the log: counts, notes and what is inexact as information, the rest as warnings."""
        log.info("%d endpoints, %d without a line, %d guards", self.endpoints, len(self.closed), self.guards)
        for endpoint in self.closed[:_MOST_LOGGED]:
            log.warning("no line covers %s, so it is closed to all callers", endpoint)
        if len(self.closed) > _MOST_LOGGED:
            log.warning("and %d endpoints more have no line", len(self.closed) - _MOST_LOGGED)
        for finding, sentence in zip(self.findings, self.idle, strict=True):
            log.log(logging.INFO if finding.severity is Severity.NOTE else logging.WARNING, "%s", sentence)
        for sentence in self.inexact:
            log.info("%s", sentence)


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


def look_over(policy: Policy, routes: Iterable[Route], records: Collection[LoaderKey] = ()) -> StartUp:
    """Hold a policy and the routes of an application against each other.

    Args:
        policy: bound to the routes.
        routes: every route of the application.
        records: what has loaders: parameters, things, and parameters of actions.

    Raises:
        PolicyError: a guard of a handler requires what this policy does not know.
        StartUpError: something is declared that could never take effect.
    """
    routes = list(routes)
    served = [_served(policy, method, route) for route in routes for method in route.methods or (ANY,)]
    _understood(policy, routes)
    wrong = list(_unknown_records(policy, routes, records))
    try:
        refuse_caches()
    except EnforcementError as found:
        wrong.append(str(found))
    findings = dict.fromkeys(_findings(policy, routes, served, records))
    accepted = {(line.place.at, name) for line in policy.endpoints for name in line.accepts}
    findings = {each: None for each in findings if (each.place.at, each.name) not in accepted}
    errors = (finding for finding in findings if finding.severity is Severity.ERROR)
    wrong += [f"{finding.place.at}: {finding.message} {finding.remedy}".rstrip() for finding in errors]
    if wrong:
        raise StartUpError("\n".join(dict.fromkeys(wrong)))
    closed = [each.words for each in served if each.line is None]
    guards = active_policies.guards()
    return StartUp(len(served), tuple(closed), guards, tuple(findings), tuple(_inexact(routes)))


def looked_over(policy: Policy, routes: list[Route], records: Collection[LoaderKey]) -> Policy:
    """A policy that has changed, bound to the routes of an application that runs.

    Raises:
        PolicyError: as `look_over` and `Policy.bind`.
        StartUpError: the application could not start with it.
    """
    bound = policy.bind(routes)
    look_over(bound, routes, records)
    return bound


def _served(policy: Policy, method: str, route: Route) -> _Served:
    template, exact = template_of(route)
    segments = unnamed_segments(template, exact)
    binding = policy.lookup.binding(route)
    methods = _COMMON if method == ANY else (method,)
    lines = (binding.line_for(each, segments) for each in methods)
    return _Served(method, template, route, next((line for line in lines if line is not None), None))


def _understood(policy: Policy, routes: list[Route]) -> None:
    """See that the policy knows what guards require; PolicyError where it does not."""
    for route in routes:
        around = guards_of(route.handler) if route.handler is not None else ()
        for guard in dict.fromkeys((*around, *route.guards)):
            if guard.policy is None:
                guard.compiled_for(policy)


def _unknown_records(policy: Policy, routes: list[Route], records: Collection[LoaderKey]) -> Iterator[str]:
    names = {name for route in routes for name in parameters_of(route)} | set(policy.roles.things.by_name)
    for key in records:
        name = key if isinstance(key, str) else key[1]
        if isinstance(key, str) and key not in names and any(_is_for_one(key, route) for route in routes):
            continue
        if name not in names:
            guess = suggestion(name, names) or f"; parameters are {', '.join(sorted(names)) or 'none'}"
            yield f"records has a loader for {words(key)}, which is no parameter of any route{guess}"
        elif isinstance(key, tuple):
            at = [route for route in routes if name in parameters_of(route)]
            actions = {action for route in at for action in route.actions}
            if not any(key_for((key,), (action,), name, None, alone=False) for action in actions):
                guess = suggestion(key[0], actions) or f"; actions with {name} are {', '.join(sorted(actions))}"
                yield f"records has a loader for {words(key)}, and no action of that name has this parameter{guess}"


def _is_for_one(key: str, route: Route) -> bool:
    """Whether a loader is for the only parameter of a route, whose action has a name that begins so."""
    names = parameters_of(route)
    return len(names) == 1 and key_for((key,), route.actions, names[0], None, alone=True) is not None


def _findings(
    policy: Policy, routes: list[Route], served: list[_Served], records: Collection[LoaderKey]
) -> Iterator[Finding]:
    by_template = PathTree((each.template, each) for each in served)
    for line in policy.endpoints:
        near = by_template.near(line.template)
        if line.action is None and not any(line.may_cover(each.method, each.template) for each in near):
            yield without_endpoint(line, line.template.text, by_routes=True)
    for rule in policy.standing:
        near = by_template.near(rule.template)
        if not any(rule.may_cover(each.method, each.template) for each in near):
            yield RULE_WITHOUT_ENDPOINT.at(rule.place, f"No endpoint of the application is covered by {rule.text}.")
    yield from guards_not_run(routes)
    yield from routes_ignoring_case(routes)
    meant = (action for action in policy.declared.actions if SEVERAL_ROUTES.name not in action.accepts)
    yield from several_routes(routes, meant)
    for each in served:
        if each.line is None:
            continue
        rules = tuple(policy.lookup.rules_over(each.template, "GET" if each.method == ANY else each.method))
        at = AtRoute(each.words, each.method, each.route, each.line, rules)
        loaded = set(names_at(records, each.route, each.method))
        yield from find_at(policy.roles, at, loaded, at_start=True)


def _inexact(routes: list[Route]) -> Iterator[str]:
    for route in routes:
        template, exact = template_of(route)
        if not exact:
            yield (
                f"{route.spelling or route.path} ({route.action}) cannot be written as a path of a policy; the matrix, "
                f"flags and the probe take it for {template.text}, and requests are decided by what is served"
            )
