"""The matrix as a page."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from ...core.decision import Outcome
from ...probe.verdicts import Verdict
from ..sheet import plural
from .page import part, pieces_of_page
from .page_data import PageData, callers_of_roles, ordered

if TYPE_CHECKING:
    from ...probe.journal import Judged
    from ...review.observed import Observed
from ..results import MatrixResult


def matrix(result: MatrixResult) -> Iterator[str]:
    """Endpoints down the side, kinds of caller across the top; what explains a cell is shown where it is chosen."""
    names = [column.name for column in result.matrix.columns]
    callers = list(result.callers.values()) if result.callers is not None else callers_of_roles(names)
    data = PageData(result.policy, names, callers)
    rows = [data.row(row, result.matrix) for row in result.matrix.rows]
    for (number, column), observed in (result.observed or {}).items():
        rows[number].setdefault("v", {})[column] = _observed(observed)
    title = result.policy.title or "Access matrix"
    outcomes = Counter(cell.outcome for row in result.matrix.rows for cell in result.matrix.cells(row))
    counted = f"{plural(len(rows), 'endpoint')}, {plural(len(names), 'kind')} of caller; "
    counted += ", ".join(f"{outcomes[outcome]} {outcome.value}" for outcome in Outcome) + "."
    return pieces_of_page(
        "matrix.html",
        style=part("matrix.css"),
        script=part("matrix.js"),
        title=title,
        subtitle=f"{counted} {_observed_in_words(result)}".strip(),
        changes=[],
        data={
            "mode": "observed" if result.observed is not None else "matrix",
            "about": [column.description for column in result.matrix.columns],
            "personas": result.callers is not None,
            "rows": ordered(rows),
            **data.data(),
        },
    )


def _observed(observed: Observed) -> list[Any]:
    return [
        observed.verdict,
        [
            [judged.persona, f"{judged.method} {judged.target}", judged.sample, judged.verdict, _answer(judged)]
            for judged in observed.requests
        ],
    ]


def _answer(judged: Judged) -> str:
    """``let in, 200``."""
    came = {True: "let in", False: "refused", None: "not known"}[judged.let_in]
    return f"{came}, {judged.status}" if judged.status else came


def _observed_in_words(result: MatrixResult) -> str:
    if result.observed is None:
        return ""
    verdicts = [observed.verdict for observed in result.observed.values()]
    counts = [f"{verdicts.count(verdict)} {word}" for verdict, word in _COUNTED.items() if verdict in verdicts]
    return f"Cells that a probe asked: {len(verdicts)}; {', '.join(counts)}."


_COUNTED = {
    Verdict.HOLE: "with a hole",
    Verdict.BLOCKED: "blocked",
    Verdict.OTHER: "refused otherwise",
    Verdict.INCONCLUSIVE: "inconclusive",
    Verdict.AGREE: "as declared",
}
