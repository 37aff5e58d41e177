"""Which cells of a matrix were tried."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..sheet import Cell, Grid, Line, Meaning, Section, Sheet, line, plural, quiet, strong

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ...core.matrix import Row
    from ...review.tried import Lacking, Reported, TriedResult

_MOST = 20


def tried(result: TriedResult) -> Sheet:
    """How many cells were tried, the matrix with a mark at each that was not, and these in words."""
    lacking = result.lacking
    names = [column.name for column in result.matrix.columns]
    of = plural(result.decisions, "decision")
    headline = f"{result.cells - len(lacking)} of {result.cells} cells tried, by {of} in {', '.join(result.files)}"
    grid = Grid(result.matrix, frozenset((cell.row, cell.column) for cell in lacking))
    sections = [Section(grid=grid), *(_not_tried(result, names) if lacking else ()), *_beside(result)]
    closing = (
        "Next: bloodroot probe asks them all; bloodroot.testing makes a test of each endpoint and persona."
        if lacking
        else "Every cell was tried."
    )
    return Sheet(
        Cell(headline, Meaning.WARN if lacking else Meaning.GOOD),
        tuple(sections),
        (closing,),
        ("method", "path", "caller", "declared", "not tried"),
        (
            (cell.row.method, cell.row.path, names[cell.column], cell.cell.words(), cell.side.strip(", "))
            for cell in lacking
        ),
    )


def _not_tried(result: TriedResult, names: list[str]) -> Iterator[Section]:
    """The cells that were not tried, in words."""
    groups = _by_endpoint(result, names)
    more = [f"and at {plural(len(groups) - _MOST, 'endpoint')} more; --format csv has every cell"]
    shown = (*groups[:_MOST], *(more if len(groups) > _MOST else ()))
    yield Section(lines=(line("! not tried, or on one side only"),), tight=True)
    yield Section((strong("Not tried"),), tuple(line(text, indent=2) for text in shown))


def _beside(result: TriedResult) -> Iterator[Section]:
    """What logs say beside the cells: refusals that were only written down, and what could not be counted."""
    if result.reported:
        times = plural(sum(kind.count for kind in result.reported), "request")
        title = f"{times} would have been refused, where the policy is only reported"
        left = len(result.reported) - _MOST
        rest = [line(f"and {plural(left, 'kind')} more; --format json has all", indent=2)] if left > 0 else []
        yield Section((Cell(title, Meaning.WARN),), (*map(_reported, result.reported[:_MOST]), *rest))
    if result.unread:
        text = f"{plural(result.unread, 'line')} of the logs could not be read, and may have had more"
        yield Section(lines=(line(Cell(text, Meaning.WARN)),))
    if result.others:
        others = plural(result.others, "decision")
        text = f"{others} of callers who are in no column, or at endpoints in no row, left out"
        yield Section(lines=(line(quiet(text)),))


def _reported(each: Reported) -> Line:
    """One kind of refusal: what, for whom, how often, first and last seen."""
    why = f" ({each.reason})" if each.reason else ""
    often = f"{each.count} ×, {plural(each.callers, 'caller')}" if each.who != "signed-out" else f"{each.count} ×"
    seen = f"{each.first[:19]} to {each.last[:19]}" if each.first != each.last else each.first[:19]
    place = f", {each.line.place.at}" if each.line is not None else ", no line"
    return line(
        f"{each.method} {each.path} as {each.who}: {each.outcome}{why}, {often}", quiet(f"  {seen}{place}"), indent=2
    )


def _by_endpoint(result: TriedResult, names: list[str]) -> list[str]:
    groups: dict[Row, list[Lacking]] = {}
    for lacking in result.lacking:
        groups.setdefault(lacking.row, []).append(lacking)
    texts = []
    for row, group in groups.items():
        by_side: dict[str, list[str]] = {}
        for lacking in group:
            by_side.setdefault(lacking.side, []).append(names[lacking.column])
        parts = [f"as {', '.join(columns)}{side}" for side, columns in by_side.items()]
        texts.append(f"{row.method} {row.path} {'; '.join(parts)}")
    return texts
