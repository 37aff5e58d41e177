"""Findings about endpoints and lines: what is served and not declared, and what is declared and not served."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.lines import Line
from ..core.methods import ANY, covers
from ..core.paths import Template, specificity
from ..enforce.start_checks import (
    IGNORES_CASE,
    RULE_WITHOUT_ENDPOINT,
    SEVERAL_ROUTES,
    WITHOUT_ENDPOINT,
    routes_ignoring_case,
    several_routes,
    without_endpoint,
)
from ..language.problems import Place, SourceText, suggestion
from .subject import Subject, place_of_endpoint
from .unused import nearly_the_same

WITHOUT_LINE = FindingKind(
    "endpoint-without-line",
    Severity.WARNING,
    "An endpoint is covered by no line, so that it is closed to all callers.",
    "Write a line for it; bloodroot draft --update adds one that is closed.",
    Needs.ENDPOINTS,
)
REPORT_ONLY = FindingKind(
    "report-only",
    Severity.WARNING,
    "At some paths nothing is enforced: what would be refused is only written down.",
    "Read what was written down with bloodroot tried, and leave report_only out where nothing more is wrong.",
    Needs.ROUTES,
    at_start=True,
)
KINDS = (WITHOUT_LINE, WITHOUT_ENDPOINT, RULE_WITHOUT_ENDPOINT, SEVERAL_ROUTES, IGNORES_CASE, REPORT_ONLY)
_MOST_COMPARED = 200  # endpoints beside a line


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    if subject.report_only and subject.survey is not None:
        where = " and ".join(subject.report_only)
        place = Place(SourceText(subject.survey.sources[0], ()), 1, 1, 1)
        yield REPORT_ONLY.at(place, f"At {where} the application refuses nothing, as report_only says.")
    if subject.survey is not None:
        yield from _endpoints_without_line(subject)
        yield from _lines_without_endpoint(subject)
        yield from _nearly_at_an_endpoint(subject)
        yield from _rules_without_endpoint(subject)
    yield from routes_ignoring_case(subject.routes)
    yield from several_routes(subject.routes, subject.policy.declared.actions)


def _endpoints_without_line(subject: Subject) -> Iterator[Finding]:
    assert subject.survey is not None
    for row in subject.survey.uncovered:
        endpoint = row.endpoint
        served = f", served by {endpoint.action}," if endpoint.action else ""
        yield WITHOUT_LINE.at(
            place_of_endpoint(endpoint),
            f"{row.method} {endpoint.spelling or endpoint.template}{served} has no line: it is closed to all callers.",
        )


def _lines_without_endpoint(subject: Subject) -> Iterator[Finding]:
    assert subject.survey is not None
    templates = {endpoint.endpoint.template for endpoint in subject.survey.endpoints}
    guessed = len(subject.survey.idle) <= 50  # looking for near misses takes long
    for line in subject.survey.idle:
        if line.guards:
            continue
        guess = suggestion(line.template.text, templates - {line.template.text}) if guessed else ""
        path = f"{' '.join(line.methods) or ANY} {line.template.text}"
        yield without_endpoint(line, path, guess=guess, by_routes=bool(subject.routes))


def _nearly_at_an_endpoint(subject: Subject) -> Iterator[Finding]:
    """Lines for a path that only a route with a parameter there serves, and that is nearly another endpoint's."""
    assert subject.survey is not None
    exact = {endpoint.shape for endpoint in subject.survey.endpoints}
    idle = set(subject.survey.idle)
    lines = {}
    for line in subject.policy.endpoints:
        shape = specificity(line.template, exact=True)
        if line not in idle and shape not in exact and shape and isinstance(line.template.segments[-1], str):
            lines[line] = shape
    if not lines:
        return
    beside: dict[object, list[Template]] = {}
    for endpoint in subject.survey.endpoints:
        if endpoint.template.segments and isinstance(endpoint.template.segments[-1], str):
            beside.setdefault(endpoint.shape[:-1], []).append(endpoint.template)
    for line, shape in lines.items():
        last = str(line.template.segments[-1])
        for other in beside.get(shape[:-1], ())[:_MOST_COMPARED]:
            if nearly_the_same(str(other.segments[-1]), last):
                yield WITHOUT_ENDPOINT.at(
                    line.place, f"No endpoint is at {line.template.text} alone, and one is at {other.text}."
                )
                break


def _rules_without_endpoint(subject: Subject) -> Iterator[Finding]:
    assert subject.survey is not None
    for rule in subject.policy.standing:
        if not any(_concerns(rule, endpoint.method, endpoint.template) for endpoint in subject.survey.endpoints):
            yield RULE_WITHOUT_ENDPOINT.at(rule.place, f"No endpoint that was found is covered by {rule.text}.")


def _concerns(rule: Line, method: str, template: Template) -> bool:
    return (method == ANY or covers(rule.methods, method)) and rule.overlaps(template) is not False
