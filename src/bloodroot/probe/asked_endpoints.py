"""Which endpoints a probe asks for: those that the application serves, and those that only the policy has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.binding import RouteKind, template_of
from ..core.paths import overlap, specificity, unnamed_segments
from ..core.routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ..core.binding import Route
    from ..core.lines import Line
    from ..core.paths import Template
    from ..core.policy import Policy

# What is asked for where nothing says which methods are served.
GUESSED = ("GET", "POST", "PUT", "PATCH", "DELETE")


@dataclass(frozen=True, slots=True, eq=False)
class AskedEndpoint:
    """One method of one endpoint.

    Attributes:
        method: in capitals.
        template: its path, with the parameters named as the line names them where it is for the same paths.
        line: the line that decides, or None where none covers it.
        action: the name by which the framework knows what serves it, or None.
        slash: whether the route is written with a slash at its end.
        guessed: whether nothing says that the method is served.
        handler: what serves it, or None where that is not known.
        route: the route that serves it, or None where that is not known.
    """

    method: str
    template: Template
    line: Line | None
    action: str | None = None
    slash: bool = False
    guessed: bool = False
    handler: object = None
    route: Route | None = None

    @property
    def name(self) -> str:
        """Method and path template."""
        return f"{self.method} {self.template.text}"

    @property
    def undeclared(self) -> bool:
        """Whether it is a method that a view may take, and that no line covers."""
        return self.guessed and self.line is None

    @property
    def declared_at(self) -> str:
        """File and line of what is declared."""
        return self.line.place.at if self.line is not None else ""


def endpoints_asked(policy: Policy, routes: Iterable[Route] | None) -> list[AskedEndpoint]:
    """Every method of every endpoint, in the order of the policy; what no line covers comes last.

    Args:
        policy: what is declared.
        routes: the routes of the application; None where they are not known.
    """
    endpoints = [endpoint for route in routes or () for endpoint in _served(policy, route)]
    used = {(endpoint.line, endpoint.method) for endpoint in endpoints}
    folded: dict[tuple[str, str], list[AskedEndpoint]] = {}
    for asked in endpoints:
        folded.setdefault((asked.declared_at, asked.method), []).append(asked)
    tree = PathTree((template_of(route).template, route) for route in routes or ())
    served = {endpoint.declared_at for endpoint in endpoints}
    for line in policy.endpoints:
        if not line.methods and line.place.at in served:
            continue  # for any method: those that its routes serve are there
        for method in line.methods or GUESSED:
            if (line, method) not in used and not _folded(line, folded.get((line.place.at, method), ())):
                endpoints.append(_declared(line, method, tree))
    return sorted(
        endpoints, key=lambda endpoint: endpoint.line.order if endpoint.line is not None else len(policy.endpoints)
    )


def _served(policy: Policy, route: Route) -> Iterator[AskedEndpoint]:
    """The methods of a route, each with the line that decides where it is served."""
    template, exact = template_of(route)
    segments = unnamed_segments(template, exact)
    shape = specificity(template, exact=True)
    methods = route.methods or (("GET",) if route.kind in (RouteKind.STATIC, RouteKind.DOCUMENTATION) else GUESSED)
    slash = len(route.spelling) > 1 and route.spelling.rstrip("$").endswith("/") and template.text != "/"
    for method in methods:
        line = policy.lookup.at_route(route, method, segments)
        same = line is not None and specificity(line.template, exact=True) == shape
        yield AskedEndpoint(
            method,
            line.template if line is not None and same else template,
            line,
            route.action_for(method),
            slash,
            not route.methods,
            route.handler,
            route,
        )


def _folded(line: Line, endpoints: Iterable[AskedEndpoint]) -> bool:
    """Whether a line is there already, with the guards of a handler or as it was bound to a route."""
    shape = specificity(line.template, exact=True)
    return any(
        specificity(endpoint.template, exact=True) == shape or (endpoint.line is not None and endpoint.line.guards)
        for endpoint in endpoints
    )


def _declared(line: Line, method: str, tree: PathTree[Route]) -> AskedEndpoint:
    """An endpoint as the policy alone has it, spelled as the route spells it that serves its paths."""
    for route in tree.near(line.template):
        template = template_of(route).template
        if overlap(template, line.template) and (not route.methods or method in route.methods):
            slash = route.spelling.rstrip("$").endswith("/") and len(line.template.segments) > 0
            return AskedEndpoint(
                method, line.template, line, route.action_for(method), slash, not line.methods, route.handler, route
            )
    return AskedEndpoint(method, line.template, line, guessed=not line.methods)
