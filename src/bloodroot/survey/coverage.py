"""Endpoints of all sources held together, and against the lines of a policy."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from ..core.binding import Route, RouteKind, template_of
from ..core.compiler import collector_paused
from ..core.lines import Line
from ..core.methods import ANY, COMMON, covers
from ..core.paths import Template, specificity, unnamed_segments
from ..core.policy import Policy
from ..core.routing import PathTree
from ..endings import Ending
from .endpoints import Endpoint, Found

# What an endpoint that declares no methods may well serve.
_SERVED = tuple(method for method in COMMON if method != "HEAD")


@dataclass(frozen=True, slots=True)
class Surveyed:
    """One method of one endpoint, as all sources together know it.

    Attributes:
        method: in capitals, or ``any`` where no method is declared.
        endpoint: what the first source says of it, completed by what the others say.
        sources: where it was found.
        template: its path, as a policy reads it.
        shape: equal for templates that cover the same paths.
        line: the line of the policy that decides, or None.
        closed: for ``any``, the common methods that no line covers, where others are covered.
        rules: the standing rules that must hold beside the line, whatever the path turns out to be.
    """

    method: str
    endpoint: Endpoint
    sources: tuple[str, ...]
    template: Template
    shape: tuple[object, ...]
    line: Line | None = None
    closed: tuple[str, ...] = ()
    rules: tuple[Line, ...] = ()


@dataclass(frozen=True, slots=True)
class SurveyResult:
    """What a survey came to.

    Attributes:
        policy: the policy that the endpoints were held against, or None.
        sources: what was read.
        endpoints: every method of every endpoint, in the order of the first source that has it.
        idle: lines of the policy that cover none of them.
        notes: what was left out, and why.
        unread: how many lines of logs could not be read.
    """

    policy: Policy | None
    sources: tuple[str, ...]
    endpoints: tuple[Surveyed, ...]
    idle: tuple[Line, ...] = ()
    notes: tuple[str, ...] = ()
    unread: int = 0

    @property
    def ending(self) -> Ending:
        """Whether a line covers every endpoint, and every request of a log was read."""
        if self.policy is not None and self.uncovered:
            return Ending.FOUND
        return Ending.UNJUDGED if self.unread else Ending.WELL

    @property
    def uncovered(self) -> tuple[Surveyed, ...]:
        """What no line covers."""
        return tuple(endpoint for endpoint in self.endpoints if endpoint.line is None)


def survey(founds: Iterable[Found], policy: Policy | None) -> SurveyResult:
    """Hold what sources gave together, and against a policy.

    Args:
        found: what each source gave, those that declare before those that observe.
        policy: bound to the routes of the application where it has lines of actions; None for no policy.
    """
    with collector_paused():
        return _survey(list(founds), policy)


def _survey(founds: list[Found], policy: Policy | None) -> SurveyResult:
    merged: dict[tuple[str, object], Surveyed] = {}
    notes = [note for declaration in founds for note in declaration.notes]
    for each in founds:
        for endpoint in each.endpoints:
            template = template_of(Route("", (), endpoint.template))[0]
            shape = specificity(template, exact=True)
            # Templates that a policy cannot write may look alike, and be different endpoints.
            alike: object = shape if endpoint.exact else (shape, endpoint.spelling)
            for method in endpoint.methods or (ANY,):
                key = _known_as(merged, method, alike, endpoint)
                before = merged.get(key)
                if before is not None and each.source in before.sources and not endpoint.statuses:
                    one, other = (here.spelling or here.template for here in (before.endpoint, endpoint))
                    if one != other:
                        notes.append(f"{each.source}: {method} {other} covers the same requests as {method} {one}")
                if before is None:
                    merged[key] = Surveyed(method, endpoint, (each.source,), template, shape)
                else:
                    merged[key] = _both(before, endpoint)
    rows = tuple(merged.values())
    if policy is not None:
        rows = tuple(surveyed for row in rows for surveyed in _with_lines(row, policy))
    idle = tuple(_idle(policy, rows)) if policy is not None else ()
    unread = sum(found.unread for found in founds)
    return SurveyResult(policy, tuple(found.source for found in founds), rows, idle, tuple(notes), unread)


def _known_as(
    merged: Mapping[tuple[str, object], Surveyed], method: str, shape: object, endpoint: Endpoint
) -> tuple[str, object]:
    """The key of an endpoint: that of one for any method, where another source has such.

    HEAD belongs to GET, but for one that a document describes as an operation of its own.
    """
    with_get = method == "HEAD" and not endpoint.is_operation
    for name in (method, "GET" if with_get else method, ANY):
        if (name, shape) in merged:
            return name, shape
    return method, shape


def _both(row: Surveyed, other: Endpoint) -> Surveyed:
    """What two sources say of an endpoint: the first one comes first."""
    one = row.endpoint
    statuses = dict(one.statuses)
    for status, times in other.statuses.items():
        statuses[status] = statuses.get(status, 0) + times
    endpoint = replace(
        one,
        action=one.action or other.action,
        operation=one.operation or other.operation,
        summary=one.summary or other.summary,
        tags=one.tags or other.tags,
        guards=one.guards or other.guards,
        security=one.security if one.security is not None else other.security,
        statuses=statuses,
        route=one.route or other.route,
    )
    return replace(row, endpoint=endpoint, sources=tuple(dict.fromkeys((*row.sources, other.source))))


def _with_lines(row: Surveyed, policy: Policy) -> Iterable[Surveyed]:
    """An endpoint with the line that decides; one for any method, once for each line that decides some of them."""
    segments = unnamed_segments(row.template, row.endpoint.exact)
    near = policy.lookup.rules_near(row.template) if policy.standing else []
    always = [rule for rule in near if rule.overlaps(row.template)]
    if row.method != ANY:
        yield _decided(row, row.method, _line_of(policy, row.endpoint, row.method, segments), (), always)
        return
    methods = ("GET",) if row.endpoint.kind == RouteKind.STATIC else _SERVED
    lines = {method: _line_of(policy, row.endpoint, method, segments) for method in methods}
    others = lines[methods[-1]]  # as for every method that no line names
    closed = tuple(method for method, line in lines.items() if line is None)
    if others is None:
        others = next((line for line in lines.values() if line is not None), None)
    yield _decided(row, ANY, others, closed if others is not None else (), always)
    for method, line in lines.items():
        # The line of an action is made for each route that it is bound to: the place says whether it is the same.
        if line is not None and others is not None and (line.place, line.guards) != (others.place, others.guards):
            yield _decided(row, method, line, (), always)


def _line_of(policy: Policy, endpoint: Endpoint, method: str, segments: list[str]) -> Line | None:
    if endpoint.route is not None:
        return policy.lookup.at_route(endpoint.route, method, segments)
    return policy.lookup.find(method, segments)


def _decided(row: Surveyed, method: str, line: Line | None, closed: tuple[str, ...], always: list[Line]) -> Surveyed:
    methods = _SERVED if method == ANY else (method,)
    rules = tuple(rule for rule in always if any(covers(rule.methods, each) for each in methods))
    return Surveyed(method, row.endpoint, row.sources, row.template, row.shape, line, closed, rules)


def _idle(policy: Policy, rows: tuple[Surveyed, ...]) -> Iterable[Line]:
    """Lines that cover no endpoint. Those that decide for one are known; the others are looked for."""
    used = {row.line for row in rows}
    waiting = [line for line in policy.endpoints if line not in used]
    if not waiting:
        return
    served = PathTree((row.template, row) for row in rows)
    for line in waiting:
        if not any(line.may_cover(row.method, row.template) for row in served.near(line.template)):
            yield line
