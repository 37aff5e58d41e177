"""Which cells of a matrix were tried: held against decisions that were written down.

Decisions are in the audit log of an application, of its tests or of production, and in the journal of a probe; both are
JSON Lines.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from ..core.caller import Caller
from ..core.decision import Outcome
from ..core.lines import Line
from ..core.matrix import Cell, Matrix, Row
from ..core.methods import ANY, covers
from ..core.policy import Policy
from ..probe.journal import JournalError, json_lines, judged_of

T = TypeVar("T")
ALLOWED, REFUSED = "allowed", "refused"
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
        persona: for the journal of a probe, the persona's name.
    """

    method: str
    path: str
    outcome: str
    caller: str | None = None
    roles: tuple[str, ...] | None = None
    groups: tuple[str, ...] = ()
    persona: str | None = None


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
    """

    policy: Policy
    matrix: Matrix
    files: tuple[str, ...]
    decisions: int
    others: int
    lacking: tuple[Lacking, ...] = field(default=())

    @property
    def cells(self) -> int:
        """How many cells the matrix has."""
        return len(self.matrix.rows) * len(self.matrix.columns)


def read_tried(file: Path) -> Iterator[Tried]:
    """The decisions of a log, one after the other. Lines that are no decision are left out.

    Raises:
        JournalError: it cannot be read, or has no decision in it.
    """
    return read_log(
        file,
        _read,
        "there is no decision in it; an audit log is written by bloodroot.enforce.JsonLines, and has what is allowed "
        'too with Audit("all")',
    )


def read_log(file: Path, read: Callable[[Mapping[str, Any]], T | None], lacking: str) -> Iterator[T]:
    """The entries of a log of JSON Lines, one after the other.

    Args:
        file: the log.
        read: the entry of a line, or None.
        lacking: the message where no line has one.

    Raises:
        JournalError: it cannot be read, or has no entry.
    """
    is_read = False
    for values in json_lines(file):
        entry = read(values)
        if entry is not None:
            is_read = True
            yield entry
    if not is_read:
        raise JournalError(f"{file}: {lacking}")


def _read(values: Mapping[str, Any]) -> Tried | None:
    return _of_journal(values) if "judged" in values else _of_audit(values)


def _of_audit(values: Mapping[str, Any]) -> Tried | None:
    outcome = _OUTCOMES.get(str(values.get("outcome")))
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
    )


def _of_journal(values: Mapping[str, Any]) -> Tried | None:
    judged = judged_of(values)
    if judged is None or judged.let_in is None:
        return None
    return Tried(judged.method, judged.path, ALLOWED if judged.let_in else REFUSED, persona=judged.persona)


Columns = Callable[[Tried], Iterable[int]]
_MOST_SETS = 10_000  # of roles and groups, which whoever signs in may have chosen


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
    policy: Policy, matrix: Matrix, tried: Iterable[Tried], columns: Columns, files: Iterable[Path] = ()
) -> TriedResult:
    """Hold a matrix against decisions that were written down.

    Args:
        policy: the policy.
        matrix: its matrix.
        tried: the decisions.
        columns: in which columns a decision counts.
        files: the logs, for the result.
    """
    rows_of = rows_by_line(matrix)
    seen: dict[tuple[Row, int], set[str]] = {}
    decisions = others = 0
    for each in tried:
        decisions += 1
        at = row_for(policy, rows_of, each.method, each.path)
        counted = [(at, column) for column in columns(each)] if at is not None else []
        others += not counted
        for cell in counted:
            seen.setdefault(cell, set()).add(each.outcome)
    lacking = tuple(
        found
        for row in matrix.rows
        for column in range(len(matrix.columns))
        if (found := _lacking(row, column, seen.get((row, column), set()))) is not None
    )
    return TriedResult(policy, matrix, tuple(map(str, files)), decisions, others, lacking)


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


def _lacking(row: Row, column: int, seen: set[str]) -> Lacking | None:
    cell = row.cell(column)
    if cell.outcome is Outcome.DEPENDS and cell.remainder is not None:
        words = cell.remainder.words()
        sides = [side for side, outcome in (("holds", ALLOWED), ("fails", REFUSED)) if outcome not in seen]
        if not sides:
            return None
        return Lacking(row, column, cell, len(sides) == 2, f" where {words} {sides[0]}" if len(sides) == 1 else "")
    wanted = ALLOWED if cell.outcome is Outcome.ALLOW else REFUSED
    if wanted in seen:
        return None
    only = next(iter(seen), None)
    return Lacking(row, column, cell, only is None, f", only ever {only}" if only else "")
