"""Which cells of a matrix were tried: held against decisions that were written down.

Decisions are in the audit log of an application, of its tests or of production, and in the journal of a probe; both are
JSON Lines.
"""

from __future__ import annotations

import glob
import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar

from ..core.caller import Caller
from ..core.conditions import Condition
from ..core.decision import Outcome
from ..core.formulas import FALSE, Conjunction, Disjunction, Facts, Formula
from ..core.lines import Line
from ..core.matrix import Cell, Matrix, Row
from ..core.methods import ANY, covers
from ..core.policy import Policy
from ..core.reasons import UNNAMED
from ..core.requirements import HELD, conditions_in
from ..endings import Ending
from ..probe.journal import JournalError, json_lines, judged_of

T = TypeVar("T")
ALLOWED, REFUSED = "allowed", "refused"
_REPORTED = ("deny", "sign-in", "missing", "withheld")
_OUTCOMES = {"allow": ALLOWED, "deny": REFUSED, "sign-in": REFUSED}


@dataclass(frozen=True, slots=True)
class Tried:
    """One decision that was written down.

    Attributes:
        method: the method of the request.
        path: its path.
        outcome: ``allowed`` or ``refused``.
        caller: the caller's id as text, or None for a signed-out caller.
        roles: the roles that were held directly; None where the log does not say.
        groups: the groups.
        reason: why it was refused, as a decision has it; None where the log does not say.
        persona: for the journal of a probe, the persona's name.
        known: for the journal of a probe, conditions and whether each holds.
        reported: for what was let through and only written down, what it would have got: ``deny``, ``sign-in``,
            ``missing`` or ``withheld``; None for what was enforced, and for what is allowed.
        time: when it was written down, or an empty string.
    """

    method: str
    path: str
    outcome: str
    caller: str | None = None
    roles: tuple[str, ...] | None = None
    groups: tuple[str, ...] = ()
    reason: str | None = None
    persona: str | None = None
    known: Mapping[str, bool] | None = None
    reported: str | None = None
    time: str = ""


@dataclass(frozen=True, slots=True)
class Reported:
    """What callers of one kind would have been refused at an endpoint, had the policy been enforced there.

    Attributes:
        method: the method.
        path: the template of the endpoint; the path itself where there is none.
        who: the roles and groups that were held, in words; ``signed-out`` for signed-out callers.
        outcome: what they would have got: ``deny``, ``sign-in``, ``missing`` or ``withheld``.
        reason: why, as a decision has it; None where it has none.
        line: the line that decides, or None.
        count: how often.
        callers: by how many of them.
        first: when that was seen first.
        last: when that was seen last.
    """

    method: str
    path: str
    who: str
    outcome: str
    reason: str | None
    line: Line | None
    count: int
    callers: int
    first: str
    last: str


@dataclass(frozen=True, slots=True)
class Lacking:
    """A cell that was not tried, or on one side only.

    Attributes:
        row: the endpoint.
        column: the number of the column, counted from 0.
        cell: what is declared.
        never: whether it was not tried at all.
        side: what of it was not: `` where own-trial fails``, or ``, who was only ever refused``; empty for all of it.
    """

    row: Row
    column: int
    cell: Cell
    never: bool
    side: str = ""


@dataclass(frozen=True, slots=True)
class TriedResult:
    """A matrix, with what of it was tried.

    Attributes:
        policy: the policy.
        matrix: its matrix.
        files: the logs.
        decisions: how many decisions are in them.
        others: how many of these were by callers who are in no column, or at endpoints that are in no row.
        lacking: the cells that were not tried, row by row.
        unread: lines of the logs that say nothing: half a line, another kind of record.
        reported: what would have been refused where the policy is only reported, the most frequent first.
    """

    policy: Policy
    matrix: Matrix
    files: tuple[str, ...]
    decisions: int
    others: int
    lacking: tuple[Lacking, ...] = field(default=())
    unread: int = 0
    reported: tuple[Reported, ...] = ()

    @property
    def ending(self) -> Ending:
        """Whether every line of the logs was read."""
        return Ending.UNJUDGED if self.unread else Ending.WELL

    @property
    def cells(self) -> int:
        """How many cells the matrix has."""
        return len(self.matrix.rows) * len(self.matrix.columns)


def read_tried(file: Path, unread: Counter[Path] | None = None) -> Iterator[Tried]:
    """The decisions of a log, one after the other, and of those that the processes of one run wrote beside it.

    Args:
        file: the log.
        unread: to count the lines in that say nothing.

    Raises:
        JournalError: it cannot be read, or has no decision in it.
    """
    return read_log(
        files_of_run(file),
        _read,
        unread,
        "there is no decision in it; an audit log is written by bloodroot.enforce.JsonLines, and has what is allowed "
        'too with Audit("all")',
    )


def files_of_run(file: Path) -> list[Path]:
    """A log, and those that other processes of the same run of tests wrote beside it, as ``tests-4711.jsonl``."""
    pattern = f"{glob.escape(file.stem)}-*{file.suffix}"
    beside = [other for other in sorted(file.parent.glob(pattern)) if run_of(other) is not None]
    return [*([file] if file.exists() or not beside else []), *beside]


def run_of(file: Path) -> str | None:
    """The run of tests that a log is of, from its first line; None for any other file."""
    try:
        with file.open(encoding="utf-8", errors="replace") as lines:
            first = json.loads(lines.readline(200) or "null")
    except (OSError, ValueError):
        return None
    return str(first["run"]) if isinstance(first, dict) and set(first) == {"run"} else None


def read_log(
    files: Iterable[Path],
    read: Callable[[Mapping[str, Any]], T | None],
    unread: Counter[Path] | None,
    lacking: str,
) -> Iterator[T]:
    """The entries of logs of JSON Lines, one after the other.

    Args:
        files: the logs, which are read as one.
        read: the entry of a line, or None.
        unread: to count the lines in that have no entry and are nothing that belongs to a log.
        lacking: the message where no line has one.

    Raises:
        JournalError: one cannot be read, or none has an entry.
    """
    is_read = False
    for file in files:
        for values in json_lines(file):
            entry = read(values) if values is not None else None
            if entry is not None:
                is_read = True
                yield entry
            elif unread is not None and (values is None or not _BESIDE & values.keys()):
                unread[file] += 1
    if not is_read:
        raise JournalError(f"{next(iter(files))}: {lacking}")


# What else is in a probe's journal, at the beginning of the log of tests, and in that of the decision service.
_BESIDE = {"asker", "journal", "answered", "sent", "faults", "end", "judged", "run"}


def _read(values: Mapping[str, Any]) -> Tried | None:
    return _of_journal(values) if "judged" in values else _of_audit(values)


def _of_audit(values: Mapping[str, Any]) -> Tried | None:
    word = str(values.get("outcome"))
    reported = word if values.get("enforced") is False and word in _REPORTED else None
    outcome = REFUSED if reported is not None else _OUTCOMES.get(word)
    method, path = values.get("method"), values.get("path")
    if outcome is None or not isinstance(method, str) or not isinstance(path, str):
        return None
    caller, roles, groups = values.get("caller"), values.get("roles"), values.get("groups")
    return Tried(
        method,
        path,
        outcome,
        str(caller) if caller is not None else None,
        tuple(map(str, roles)) if isinstance(roles, list) else None,
        tuple(map(str, groups)) if isinstance(groups, list) else (),
        str(values["reason"]) if values.get("reason") is not None else None,
        reported=reported,
        time=str(values.get("time") or ""),
    )


def _of_journal(values: Mapping[str, Any]) -> Tried | None:
    judged = judged_of(values)
    if judged is None or judged.let_in is None:
        return None
    outcome = ALLOWED if judged.let_in else REFUSED
    return Tried(judged.method, judged.path, outcome, persona=judged.persona, known=judged.known)


Columns = Callable[[Tried], Iterable[int]]
_MOST_SETS = 10_000  # of roles and groups, which callers may have chosen


def columns_of_roles(policy: Policy, matrix: Matrix, personas: Mapping[str, Caller | None]) -> Columns:
    """In which columns of a matrix of roles a decision counts: those whose callers hold the same roles.

    Args:
        policy: the policy.
        matrix: the matrix.
        personas: the callers that a probe has acted as.
    """
    by_roles: dict[int, list[int]] = {}
    for number, column in enumerate(matrix.columns):
        if number < 2:
            by_roles.setdefault(policy.roles.held(None if number == 0 else Caller("")).bits, []).append(number)
        else:
            by_roles.setdefault(policy.roles.base | policy.roles.closure_of.get(column.name, 0), []).append(number)

    known: dict[object, Iterable[int]] = {}

    def columns(tried: Tried) -> Iterable[int]:
        # Most decisions of a log are on callers with the same few sets of roles.
        key = tried.persona, tried.caller is None, tried.roles, tried.groups
        found = known.get(key)
        if found is None:
            found = found_for(tried)
            if len(known) < _MOST_SETS:
                known[key] = found
        return found

    def found_for(tried: Tried) -> Iterable[int]:
        if tried.persona is not None:
            caller = personas.get(tried.persona)
            if tried.persona not in personas or (caller is not None and (caller.granted or caller.roles_in)):
                return ()
        elif tried.caller is None:
            caller = None
        elif tried.roles is None:
            return ()
        else:
            caller = Caller(tried.caller, tried.roles, tried.groups)
            bits = policy.roles.held(caller).bits
            for kind in tried.roles:
                # What was held in the records of the request is written down as a kind of caller.
                bits |= policy.roles.closure_of.get(kind, 0)
            return by_roles.get(bits, ())
        return by_roles.get(policy.roles.held(caller).bits, ())

    return columns


def columns_of_callers(personas: Mapping[str, Caller | None]) -> Columns:
    """In which columns of a matrix of personas a decision counts: those of the same caller."""
    numbers = {name: number for number, name in enumerate(personas)}
    by_id: dict[str | None, list[int]] = {}
    for name, caller in personas.items():
        by_id.setdefault(str(caller.id) if caller is not None else None, []).append(numbers[name])

    def columns(tried: Tried) -> Iterable[int]:
        if tried.persona is not None:
            return [numbers[tried.persona]] if tried.persona in numbers else ()
        return by_id.get(tried.caller, ())

    return columns


def hold_tried(
    policy: Policy,
    matrix: Matrix,
    tried: Iterable[Tried],
    columns: Columns,
    files: Iterable[Path] = (),
    unread: Counter[Path] | None = None,
) -> TriedResult:
    """Hold a matrix against decisions that were written down.

    Args:
        policy: the policy.
        matrix: its matrix.
        tried: the decisions.
        columns: in which columns a decision counts.
        files: the logs, for the result.
        unread: how many lines of them say nothing, counted while they are read.
    """
    rows_of = rows_by_line(matrix)
    seen: dict[tuple[Row, int], Seen] = {}
    decisions = others = 0
    reported = _Reports(policy)
    for each in tried:
        decisions += 1
        if each.reported is not None:
            reported.add(each, each.reported)
            continue
        at = row_for(policy, rows_of, each.method, each.path)
        counted = [(at, column) for column in columns(each)] if at is not None else []
        others += not counted
        for row, column in counted:
            if _counts(policy, row, row.cell(column), each):
                seen.setdefault((row, column), {}).setdefault(each.outcome, set()).add(each.method)
    lacking = tuple(
        found
        for row in matrix.rows
        for column in range(len(matrix.columns))
        if (found := _lacking(row, column, seen.get((row, column), {}))) is not None
    )
    lines = sum((unread or Counter()).values())
    return TriedResult(policy, matrix, tuple(map(str, files)), decisions, others, lacking, lines, reported.all())


class _Reports:
    """Counts what would have been refused, by endpoint and kind of caller."""

    def __init__(self, policy: Policy) -> None:
        self._policy = policy
        self._found: dict[tuple[str, ...], Reported] = {}
        self._callers: dict[tuple[str, ...], set[str | None]] = {}

    def add(self, each: Tried, outcome: str) -> None:
        """Count one; of too many kinds, those that came first."""
        line = self._policy.lookup.for_request(each.method, each.path)
        path = line.template.text if line is not None else each.path
        held = [*(each.roles or ()), *each.groups]
        who = "signed-out" if each.roles is None else ", ".join(held) or "signed-in, no role"
        key = (each.method, path, who, outcome, each.reason or "")
        known = self._found.get(key)
        if known is None:
            if len(self._found) >= _MOST_SETS:
                return
            known = Reported(each.method, path, who, outcome, each.reason, line, 0, 0, each.time, each.time)
        callers = self._callers.setdefault(key, set())
        if len(callers) < _MOST_SETS:
            callers.add(each.caller)
        self._found[key] = replace(
            known,
            count=known.count + 1,
            callers=len(callers),
            first=min(known.first, each.time),
            last=max(known.last, each.time),
        )

    def all(self) -> tuple[Reported, ...]:
        """All of it, the most frequent first."""
        return tuple(sorted(self._found.values(), key=lambda each: (-each.count, each.path, each.method, each.who)))


def _key(line: Line) -> tuple[str, str]:
    """What is equal for a line wherever it is: the line of an action is made anew for each route."""
    return line.place.at, line.template.text


RowsByLine = Mapping[tuple[str, str], list[Row]]


def rows_by_line(matrix: Matrix) -> RowsByLine:
    """The rows of each line."""
    rows: dict[tuple[str, str], list[Row]] = {}
    for row in matrix.rows:
        rows.setdefault(_key(row.line), []).append(row)
    return rows


def row_for(policy: Policy, rows_of: RowsByLine, method: str, path: str) -> Row | None:
    """The row that a request belongs to, or None."""
    line = policy.lookup.for_request(method, path)
    rows = rows_of.get(_key(line), []) if line is not None else []
    named = [row for row in rows if ANY not in row.methods and covers(row.methods, method)]
    return next(iter(named or [row for row in rows if ANY in row.methods]), None)


# By outcome, the methods.
Seen = dict[str, set[str]]


def _counts(policy: Policy, row: Row, cell: Cell, tried: Tried) -> bool:
    """Whether a decision says something of what a cell depends on: something else may have refused the caller."""
    if cell.remainder is None:
        return True
    facts = Facts(0, 0, assumed=tried.known or {})
    if tried.outcome == ALLOWED:
        # One who was let in where the condition fails says nothing of where it holds.
        return tried.known is None or cell.remainder.fold(facts) is not FALSE
    if tried.known is not None:
        if any(standing.fold(facts) is FALSE for standing in cell.standing):
            return False
        return cell.remainder.fold(facts) is FALSE
    if tried.reason == UNNAMED:
        # Of no condition with a name: it is the line's, unless a standing rule may be meant.
        rules = policy.lookup.rules_near(row.line.template) if policy.standing else []
        return all(_has_names(rule.requirement.formula) for rule in rules)
    return tried.reason in {condition.name for condition in conditions_in(cell.remainder)}


def _has_names(formula: Formula) -> bool:
    """Whether all that may make a formula fail has a name."""
    if isinstance(formula, (Condition, *HELD)):
        return True
    return isinstance(formula, Conjunction | Disjunction) and all(map(_has_names, formula.parts))


_READS = {"GET", "HEAD", "OPTIONS", "TRACE"}


def _lacking(row: Row, column: int, seen: Seen) -> Lacking | None:
    cell = row.cell(column)
    if cell.outcome is Outcome.DEPENDS and cell.remainder is not None:
        words = cell.remainder.words()
        sides = {ALLOWED: f" where {words} holds", REFUSED: f" where {words} fails"}
    else:
        sides = {ALLOWED if cell.outcome is Outcome.ALLOW else REFUSED: ""}
    if not seen:
        return Lacking(row, column, cell, never=True)
    missing = [side for outcome, side in sides.items() if outcome not in seen]
    if missing:
        only = next(iter(seen)) if not missing[0] else ""
        return Lacking(row, column, cell, never=False, side=missing[0] or f", only ever {only}")
    methods = {method for outcome in sides for method in _not_tried(row, seen[outcome])}
    if not methods:
        return None
    return Lacking(row, column, cell, never=False, side=f" with {' and '.join(sorted(methods))}")


def _not_tried(row: Row, tried: set[str]) -> list[str]:
    """The methods of a row that were not tried; of ``any`` one that reads and one that changes stand for all."""
    if ANY not in row.methods:
        return [method for method in row.methods if method not in tried]
    reads, changes = bool(tried & _READS), bool(tried - _READS)
    return ([] if reads else ["a method that reads"]) + ([] if changes else ["a method that changes"])
