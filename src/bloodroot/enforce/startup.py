"""What is told when an application starts: endpoints without a line, and what is declared and can never take effect."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from ..core.binding import Route, template_of
from ..core.lines import Line
from ..core.paths import Template, overlap
from ..core.policy import Policy
from ..core.requirements import asks_for_guard
from . import in_force
from .access import log

_TOLD = 20


@dataclass(frozen=True, slots=True)
class StartUp:
    """What an application's routes and its policy say of each other.

    Attributes:
        endpoints: how many endpoints the application serves.
        closed: those that no line covers, as ``GET /trials``.
        guards: how many guards there are in this process.
        idle: sentences on what is declared and can never take effect.
    """

    endpoints: int
    closed: tuple[str, ...]
    guards: int
    idle: tuple[str, ...]

    def tell(self) -> None:
        """Write it to the log: the counts as information, the rest as warnings."""
        log.info("%d endpoints, %d without a line, %d guards", self.endpoints, len(self.closed), self.guards)
        for each in self.closed[:_TOLD]:
            log.warning("no line covers %s, so it is closed to everybody", each)
        if len(self.closed) > _TOLD:
            log.warning("and %d endpoints more have no line", len(self.closed) - _TOLD)
        for each in self.idle:
            log.warning("%s", each)


def look_over(policy: Policy, routes: Iterable[Route]) -> StartUp:
    """Hold a policy and the routes of an application against each other.

    Args:
        policy: bound to the routes.
        routes: every route of the application.
    """
    served = [(method, template_of(route)[0], route) for route in routes for method in route.methods or ("any",)]
    closed = [
        f"{method} {template.text}"
        for method, template, _ in served
        if policy.line_for("GET" if method == "any" else method, _sample(template)) is None
    ]
    idle = [*_idle_lines(policy, served), *_idle_rules(policy, served), *_unguarded(policy, served)]
    return StartUp(len(served), tuple(closed), in_force.guards(), tuple(idle))


_Served = list[tuple[str, Template, Route]]


def _sample(template: Template) -> str:
    """A path that a template covers, and no literal of another one as far as can be helped."""
    return template.fill(dict.fromkeys(template.names, "~"))


def _idle_lines(policy: Policy, served: _Served) -> Iterator[str]:
    for line in policy.endpoints:
        if line.action is None and not any(_meet(line, method, template) for method, template, _ in served):
            yield f"{line.place.at}: no endpoint of the application is at {line.template.text}: {line.text}"


def _idle_rules(policy: Policy, served: _Served) -> Iterator[str]:
    for rule in policy.standing:
        if not any(_meet(rule, method, template) for method, template, _ in served):
            yield f"{rule.place.at}: this standing rule stands over no endpoint: {rule.text}"


def _unguarded(policy: Policy, served: _Served) -> Iterator[str]:
    for method, template, route in served:
        line = policy.line_for("GET" if method == "any" else method, _sample(template))
        if line is not None and route.guarded is False and asks_for_guard(line.requirement):
            yield (
                f"{line.place.at}: {method} {template.text} is guarded, and no guard is around {route.action}; unless "
                "something it calls has one, every response is withheld"
            )


def _meet(line: Line, method: str, template: Template) -> bool:
    """Whether a line may speak of requests for a route."""
    if line.methods and method != "any" and method not in line.methods:
        return False
    return overlap(line.template, template) is not False or overlap(template, line.template) is not False
