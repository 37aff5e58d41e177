"""What the journal of a probe says of the cells of a matrix."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from .core.matrix import Matrix
from .core.policy import Policy
from .tried import ALLOWED, REFUSED, Columns, Tried, TriedError, read_log, row_for, rows_by_line

# The worst first.
VERDICTS = ("hole", "blocked", "other", "inconclusive", "agree")


@dataclass(frozen=True, slots=True)
class Asked:
    """One request of a probe.

    Attributes:
        persona: as whom it was sent.
        request: method and path.
        sample: which record, in words; an empty string for none in particular.
        verdict: what the probe made of the answer, one of `VERDICTS`.
        let_in: whether the caller was let in; None where that is not known.
        status: the status code; 0 where nothing was answered.
    """

    persona: str
    request: str
    sample: str
    verdict: str
    let_in: bool | None
    status: int

    @property
    def words(self) -> str:
        """``let in, 200``."""
        came = {True: "let in", False: "refused", None: "not known"}[self.let_in]
        return f"{came}, {self.status}" if self.status else came


@dataclass(frozen=True, slots=True)
class Observed:
    """What a probe observed in one cell.

    Attributes:
        requests: its requests, those with the worst verdict first.
    """

    requests: tuple[Asked, ...]

    @property
    def verdict(self) -> str:
        """The worst verdict."""
        return self.requests[0].verdict


Cells = Mapping[tuple[int, int], Observed]


def observed_cells(policy: Policy, matrix: Matrix, journal: Path, columns: Columns) -> Cells:
    """What a journal says of each cell, by the numbers of its row and column.

    Args:
        policy: the policy.
        matrix: its matrix.
        journal: the journal.
        columns: in which columns a request counts.

    Raises:
        TriedError: the journal cannot be read, or has no judged request in it.
    """
    rows = rows_by_line(matrix)
    numbers = {id(row): number for number, row in enumerate(matrix.rows)}
    found: dict[tuple[int, int], list[Asked]] = {}
    for method, path, each in _read(journal):
        at = row_for(policy, rows, method, path)
        if at is not None:
            if each.sample == at.path:
                each = replace(each, sample="")
            tried = Tried(method, path, ALLOWED if each.let_in else REFUSED, persona=each.persona)
            for column in columns(tried):
                found.setdefault((numbers[id(at)], column), []).append(each)
    return {
        cell: Observed(tuple(sorted(asked, key=lambda each: VERDICTS.index(each.verdict))))
        for cell, asked in found.items()
    }


def _read(journal: Path) -> Iterator[tuple[str, str, Asked]]:
    """Method, path and what came of it, for each judged request. What is spelled oddly is about no cell."""
    answers: dict[tuple[str, ...], int] = {}
    judged: dict[tuple[str, ...], Mapping[str, Any]] = {}
    for values in read_log(journal, _object, "there is nothing in it; bloodroot probe writes a journal"):
        for name in ("answered", "judged"):
            key = values.get(name)
            if isinstance(key, list) and len(key) == 5 and not key[4]:
                if name == "answered":
                    answers[tuple(map(str, key))] = values.get("status") or 0
                elif values.get("verdict") in VERDICTS:
                    judged[tuple(map(str, key))] = values
    if not judged:
        raise TriedError(f"{journal}: there is no judged request in it; it is no journal of a probe, or of an old one")
    for key, values in judged.items():
        method, target, persona, sample, _ = key
        path = target.partition("?")[0]
        let_in = values.get("let_in")
        about = "" if sample in (path, target) else sample
        asked = Asked(
            persona,
            f"{method} {target}",
            about,
            str(values["verdict"]),
            let_in if isinstance(let_in, bool) else None,
            answers.get(key, 0),
        )
        yield method, path, asked


def _object(line: str) -> Mapping[str, Any] | None:
    try:
        values = json.loads(line)
    except ValueError:
        return None
    return values if isinstance(values, dict) else None
