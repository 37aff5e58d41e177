"""A survey."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ..sheet import Cell, Meaning, Section, Sheet, line, place, plural, quiet, strong, text_section
from ..sheet import endpoint as endpoint_cell

if TYPE_CHECKING:
    from ...survey.coverage import Surveyed, SurveyResult

_MOST_IDLE = 20


def survey(result: SurveyResult) -> Sheet:
    """Endpoints by area of the path, with the line that covers each and what it requires."""
    uncovered = result.uncovered if result.policy is not None else ()
    meaning = Meaning.WRONG if uncovered else Meaning.WARN if result.idle else Meaning.GOOD
    sections = [_table(result)] if result.endpoints else []
    if result.idle:
        idle = (f"{line.place.at}  {line.text}" for line in result.idle)
        sections.append(text_section(idle, title="Lines that cover none of these endpoints:", most=_MOST_IDLE))
    if any(not row.endpoint.exact for row in result.endpoints):
        about = "~ about: the path cannot be written in a policy; name the action, where there is one"
        sections.append(Section(lines=(line(about),)))
    if result.notes:
        sections.append(Section(lines=tuple(line(quiet(f"Note: {note}")) for note in result.notes)))
    return Sheet(
        Cell(_headline(result), meaning if result.policy is not None else Meaning.STRONG),
        tuple(sections),
        (_next(result),),
        ("method", "template", "kind", "action", "requirement", "line", "guards", "sources", "count"),
        map(_listed, result.endpoints),
    )


def _listed(row: Surveyed) -> tuple[object, ...]:
    """A row of the list: one method of one endpoint."""
    endpoint, deciding = row.endpoint, row.line
    requirement, place = (deciding.requirement.words(), deciding.place.at) if deciding is not None else ("", "")
    action = endpoint.action or endpoint.operation or ""
    guards = "; ".join(guard.text for guard in endpoint.guards)
    about = (endpoint.kind, action, requirement, place, guards, "; ".join(row.sources))
    return row.method, endpoint.template, *about, endpoint.count


def _headline(result: SurveyResult) -> str:
    of = f"{plural(len(result.endpoints), 'endpoint')} of {', '.join(result.sources) or 'nothing'}"
    if result.policy is None:
        return f"{of}; there is no policy to hold them against"
    without = len(result.uncovered)
    idle = f"; {plural(len(result.idle), 'line')} for none of them" if result.idle else ""
    return f"{of}: {len(result.endpoints) - without} with a line, {without} without{idle}"


def _table(result: SurveyResult) -> Section:
    several, observed = len(result.sources) > 1, any(row.endpoint.statuses for row in result.endpoints)
    heads = ["", *(["requires", "line"] if result.policy is not None else []), "served by"]
    heads += (["found in"] if several else []) + (["asked for"] if observed else [])
    rows: list[tuple[Cell | str | tuple[Cell | str, ...], ...]] = []
    for number, (area, endpoints) in enumerate(_by_area(result).items()):
        rows += [("",), (strong(area),)] if number else [(strong(area),)]
        for row in endpoints:
            cells = [_endpoint(row), *(_line(row) if result.policy is not None else ()), _served_by(row)]
            cells += ([quiet(", ".join(row.sources))] if several else []) + ([_asked(row)] if observed else [])
            rows.append(tuple(cells))
    return Section(heads=tuple(heads), rows=tuple(rows))


def _by_area(result: SurveyResult) -> dict[str, list[Surveyed]]:
    """Rows by the first segment of the path; areas of one row are together under ``/``."""
    areas: dict[str, list[Surveyed]] = {}
    for row in result.endpoints:
        first = row.endpoint.template.split("/")[1]
        areas.setdefault("/" if first.startswith(("{", "*")) or not first else f"/{first}", []).append(row)
    alone = [row for area, rows in areas.items() if area == "/" or len(rows) == 1 for row in rows]
    rest = {area: rows for area, rows in sorted(areas.items()) if area != "/" and len(rows) > 1}
    return {"/": alone, **rest} if alone else rest


def _endpoint(row: Surveyed) -> tuple[Cell | str, ...]:
    endpoint = row.endpoint
    about = "" if endpoint.exact else " ~"
    kind = f"  ({endpoint.kind})" if endpoint.kind != "endpoint" else ""
    return "  ", endpoint_cell(f"{row.method} {endpoint.template}"), f"{about}", quiet(kind)


def _line(row: Surveyed) -> Iterator[Cell | str | tuple[Cell | str, ...]]:
    if row.line is None:
        yield Cell("✗ no line: closed", Meaning.WRONG, "! no line: closed", bold=True)
        yield ""
        return
    words: list[Cell | str] = [row.line.requirement.words()]
    words += [quiet(f", and always {rule.requirement.words()}") for rule in row.rules]
    words += [quiet(f", and in {guard.place.at} {guard.text}") for guard in row.endpoint.guards]
    if row.closed:
        words.append(Cell(f"; no line for {' '.join(row.closed)}", Meaning.OPEN))
    yield tuple(words)
    yield place(row.line.place.at)


def _served_by(row: Surveyed) -> str:
    endpoint = row.endpoint
    served = endpoint.action or endpoint.operation or ""
    if endpoint.security is not None:
        declared = " or ".join(endpoint.security) or "nothing"
        served += f"{' ' if served else ''}[declares {declared}]"
    return served


def _asked(row: Surveyed) -> str:
    """How often, with the kinds of status that were answered: ``412  2xx 400, 4xx 12``."""
    kinds: Counter[str] = Counter()
    for status, times in row.endpoint.statuses.items():
        kinds[f"{status // 100}xx"] += times
    return ", ".join(f"{times} {kind}" for kind, times in sorted(kinds.items()))


def _next(result: SurveyResult) -> str:
    if result.policy is None:
        return "Next: write a policy with a line for each endpoint, and survey again."
    if result.uncovered:
        return "Next: write a line for each endpoint without one; until then it is closed to all callers."
    if result.idle:
        return "Next: see whether those lines are misspelled, or for endpoints that are gone."
    return "Every endpoint that was found has a line."
