"""A survey, as a person reads it in a terminal."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ..words import GOOD, OPEN, WARN, WRONG, plural

if TYPE_CHECKING:
    from ...survey.coverage import Surveyed, SurveyResult

_MOST_IDLE = 20


def survey(result: SurveyResult, console: Console) -> RenderableType:
    """Endpoints by area of the path, with the line that covers each and what it requires."""
    uncovered = result.uncovered if result.policy is not None else ()
    style = f"bold {WRONG}" if uncovered else f"bold {WARN}" if result.idle else f"bold {GOOD}"
    parts: list[RenderableType] = [Text(_headline(result), style=style if result.policy is not None else "bold")]
    if result.endpoints:
        parts += [Text(), _table(result, console)]
    if result.idle:
        parts += [Text(), Text("Lines that cover none of these endpoints:", style="bold")]
        parts += [Text(f"  {line.place.at}  {line.text}") for line in result.idle[:_MOST_IDLE]]
        if len(result.idle) > _MOST_IDLE:
            parts.append(Text(f"  and {len(result.idle) - _MOST_IDLE} more"))
    if any(not row.endpoint.exact for row in result.endpoints):
        parts += [Text(), Text("~ about: the path cannot be written in a policy; name the action, where there is one")]
    if result.notes:
        parts.append(Text())
        parts += [Text(f"Note: {note}", style="dim") for note in result.notes]
    return Group(*parts, Text(), Text(_next(result)))


def _headline(result: SurveyResult) -> str:
    of = f"{plural(len(result.endpoints), 'endpoint')} of {', '.join(result.sources) or 'nothing'}"
    if result.policy is None:
        return f"{of}; there is no policy to hold them against"
    without = len(result.uncovered)
    idle = f"; {plural(len(result.idle), 'line')} for none of them" if result.idle else ""
    return f"{of}: {len(result.endpoints) - without} with a line, {without} without{idle}"


def _table(result: SurveyResult, console: Console) -> Table:
    plain = not console.encoding.lower().startswith("utf")
    several, observed = len(result.sources) > 1, any(row.endpoint.statuses for row in result.endpoints)
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for head in ("", *(["requires", "line"] if result.policy is not None else []), "served by"):
        table.add_column(head, overflow="fold")
    if several:
        table.add_column("found in", overflow="fold")
    if observed:
        table.add_column("asked for", justify="right")
    for number, (area, rows) in enumerate(_by_area(result).items()):
        if number:
            table.add_row()
        table.add_row(Text(area, style="bold"))
        for row in rows:
            cells = [_what(row)]
            if result.policy is not None:
                cells += _line(row, plain)
            cells.append(_served_by(row))
            if several:
                cells.append(Text(", ".join(row.sources), style="dim"))
            if observed:
                cells.append(Text(_asked(row)))
            table.add_row(*cells)
    return table


def _by_area(result: SurveyResult) -> dict[str, list[Surveyed]]:
    """Rows by the first segment of the path; areas of one row are together under ``/``."""
    areas: dict[str, list[Surveyed]] = {}
    for row in result.endpoints:
        first = row.endpoint.template.split("/")[1]
        areas.setdefault("/" if first.startswith(("{", "*")) or not first else f"/{first}", []).append(row)
    alone = [row for area, rows in areas.items() if area == "/" or len(rows) == 1 for row in rows]
    rest = {area: rows for area, rows in sorted(areas.items()) if area != "/" and len(rows) > 1}
    return {"/": alone, **rest} if alone else rest


def _what(row: Surveyed) -> Text:
    endpoint = row.endpoint
    about = "" if endpoint.exact else " ~"
    kind = f"  ({endpoint.kind})" if endpoint.kind != "endpoint" else ""
    return Text.assemble(f"  {row.method} {endpoint.template}{about}", (kind, "dim"))


def _line(row: Surveyed, plain: bool) -> list[Text]:
    if row.line is None:
        return [Text(f"{'!' if plain else '✗'} no line: closed", style=f"bold {WRONG}"), Text()]
    words = Text(row.line.requirement.words())
    for rule in row.rules:
        words.append(f", and always {rule.requirement.words()}", style="dim")
    for guard in row.endpoint.guards:
        words.append(f", and in {guard.place.at} {guard.text}", style="dim")
    if row.closed:
        words.append(f"; no line for {' '.join(row.closed)}", style=OPEN)
    return [words, Text(row.line.place.at, style="dim")]


def _served_by(row: Surveyed) -> Text:
    endpoint = row.endpoint
    served = endpoint.action or endpoint.operation or ""
    if endpoint.security is not None:
        declared = " or ".join(endpoint.security) or "nothing"
        served += f"{' ' if served else ''}[declares {declared}]"
    return Text(served)


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
