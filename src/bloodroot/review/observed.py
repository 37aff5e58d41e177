"""What the journal of a probe says of an application: of the cells of a matrix, and of the endpoints of a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from ..core.caller import Caller
from ..core.formulas import FALSE, TRUE, Facts, Formula
from ..core.lines import Line
from ..core.matrix import Cell, Matrix, matrix_of_callers
from ..core.policy import Policy
from ..probe.journal import Judged, JudgedRun, read_judged
from ..probe.verdicts import Verdict
from .expected import NOT_ASKED, Actual, ActualRow, Doubt
from .tried import ALLOWED, REFUSED, Columns, Tried, row_for, rows_by_line

_WORST_FIRST = (Verdict.HOLE, Verdict.BLOCKED, Verdict.OTHER, Verdict.INCONCLUSIVE, Verdict.AGREE)


@dataclass(frozen=True, slots=True)
class Observed:
    """What a probe observed in one cell.

    Attributes:
        requests: its requests, those with the worst verdict first.
    """

    requests: tuple[Judged, ...]

    @property
    def verdict(self) -> Verdict:
        """The worst verdict."""
        return self.requests[0].verdict


# By the numbers of row and column.
Cells = Mapping[tuple[int, int], Observed]


def observed_cells(policy: Policy, matrix: Matrix, journal: Path, columns: Columns) -> Cells:
    """What a journal says of each cell of a matrix.

    Args:
        policy: the policy.
        matrix: its matrix.
        journal: the journal.
        columns: in which columns a request counts.

    Raises:
        JournalError: the journal cannot be read, or has no judged request in it.
    """
    rows = rows_by_line(matrix)
    numbers = {row: number for number, row in enumerate(matrix.rows)}
    judged: dict[tuple[int, int], list[Judged]] = {}
    for request in read_judged(journal).requests:
        row = row_for(policy, rows, request.method, request.path)
        if row is not None:
            tried = Tried(request.method, request.path, ALLOWED if request.let_in else REFUSED, persona=request.persona)
            for column in columns(tried):
                judged.setdefault((numbers[row], column), []).append(request)
    return {
        cell: Observed(tuple(sorted(requests, key=lambda judged: _WORST_FIRST.index(judged.verdict))))
        for cell, requests in judged.items()
    }


_FOUND = {Verdict.HOLE: "let in against the policy", Verdict.BLOCKED: "blocked", Verdict.OTHER: "answered otherwise"}


def application_as_observed(
    policy: Policy, personas: Mapping[str, Caller | None], journals: Iterable[Path]
) -> tuple[Actual, tuple[Doubt, ...]]:
    """What an application answered, endpoint by endpoint, with a column for each persona; and what the probe found.

    A cell is ``allow``, ``deny``, ``sign-in``, ``if NAME`` where it depends on a condition of which there are samples,
    ``mixed`` where no one condition explains it, ``?`` where an answer is inconclusive, and ``not asked`` where no
    request was sent.

    Raises:
        JournalError: a journal cannot be read, or has no judged request in it.
    """
    matrix = matrix_of_callers(policy, personas)
    rows = rows_by_line(matrix)
    numbers = {column.name: number for number, column in enumerate(matrix.columns)}
    groups: dict[str, dict[str, list[Judged]]] = {}
    doubts: list[Doubt] = []
    for journal in journals:
        run = read_judged(journal)
        doubts += _doubts(str(journal), run)
        for judged in run.requests:
            groups.setdefault(judged.endpoint, {}).setdefault(judged.persona, []).append(judged)

    def row_of(endpoint: str, by_persona: dict[str, list[Judged]]) -> ActualRow:
        method, _, path = endpoint.partition(" ")
        first = next(iter(by_persona.values()))[0]
        row = row_for(policy, rows, first.method, first.path)
        line: Line | None = row.line if row is not None else None

        def cell(persona: str) -> str:
            declared = row.cell(numbers[persona]) if row is not None and persona in numbers else None
            return _cell(by_persona.get(persona, []), declared)

        return ActualRow((method,), path, cell, line)

    rows_asked = [row_of(endpoint, group) for endpoint, group in groups.items() if endpoint]
    return Actual(policy, rows_asked, observed=True), tuple(doubts)


def _doubts(name: str, run: JudgedRun) -> Iterator[Doubt]:
    """Why the run of a journal was not well, or did not judge everything."""
    counts = Counter([*(judged.verdict for judged in run.requests), *run.spelled])
    for verdict, words in _FOUND.items():
        if counts[verdict]:
            yield Doubt(f"{name}: {counts[verdict]} {words}", found=True)
    for fault in run.faults:
        yield Doubt(f"{name}: {fault}", found=True)
    if counts[Verdict.INCONCLUSIVE]:
        yield Doubt(f"{name}: {counts[Verdict.INCONCLUSIVE]} inconclusive", found=False)
    for doubt in run.doubts:
        yield Doubt(f"{name}: {doubt}", found=False)
    if run.untried is None:
        yield Doubt(f"{name}: the run was not ended", found=False)
    elif run.untried:
        yield Doubt(f"{name}: {run.untried} not tried", found=False)


def _explains(remainder: Formula, request: Judged) -> bool:
    """Whether what is declared now, with what was known of the sample, comes to what was observed.

    The policy may have changed since the journal was written: that a verdict agreed then says nothing of it.
    """
    folded = remainder.fold(Facts(0, 0, assumed=request.known))
    return folded is (TRUE if request.outcome == "allow" else FALSE)


def _cell(requests: list[Judged], declared: Cell | None) -> str:
    if not requests:
        return NOT_ASKED
    outcomes = {request.outcome for request in requests}
    if "?" in outcomes:
        return "?"
    if len(outcomes) == 1:
        return outcomes.pop()
    remainder = declared.remainder if declared is not None else None
    if remainder is not None and all(_explains(remainder, request) for request in requests):
        return f"if {remainder.words()}"
    for name in requests[0].known:
        if all((request.outcome == "allow") is request.known.get(name) for request in requests):
            return f"if {name}"
    return "mixed"
