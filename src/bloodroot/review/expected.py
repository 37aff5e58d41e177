"""Reviewed tables held against what is, cell by cell: the matrix of a policy, or what a running application answered.

What a policy says beside its endpoints is held against the definitions of the tables. What no table has is not as
expected.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

from ..core.caller import Caller
from ..core.formulas import Conjunction, Formula, Negated, walk
from ..core.lines import Line
from ..core.matrix import Matrix, Row
from ..core.methods import ANY, covers
from ..core.paths import Template, parse_template, specificity, unnamed_segments
from ..core.policy import Policy
from ..core.requirements import Guarded, Holding, HoldingAt, HoldingIn, HoldingSomewhere, PermissionAsked
from ..endings import Ending
from ..language.normal import normal_text
from .definitions import Definition
from .reviewed_table import (
    HEADS,
    OUTCOMES,
    REQUIRES,
    ExpectedDefinition,
    ExpectedError,
    ExpectedRow,
    Table,
    read_table,
    same_cell,
)

NOT_ASKED = "not asked"


@dataclass(frozen=True, slots=True, eq=False)
class ActualRow:
    """What is true of one endpoint.

    Attributes:
        methods: its methods; ``any`` for all that are not named.
        path: the path template.
        cell: what is true for a kind of caller, in the words of a table.
        line: the line that decides, or None.
    """

    methods: tuple[str, ...]
    path: str
    cell: Callable[[str], str]
    line: Line | None

    @property
    def requires(self) -> str:
        """What the line requires, where cells for one role each do not say it; else an empty string."""
        if self.line is None or not _is_more_than_cells(self.line.requirement.formula):
            return ""
        return normal_text(self.line.requirement.words())


@dataclass(frozen=True, slots=True)
class Mismatch:
    """A cell that is not as expected.

    Attributes:
        row: the row of the table.
        column: the kind of caller, or ``requires``.
        expected: what the table says.
        actual: what is; ``no line`` where nothing covers the endpoint, ``not asked`` where no probe asked.
        line: the line that decides, or None.
    """

    row: ExpectedRow
    column: str
    expected: str
    actual: str
    line: Line | None


@dataclass(frozen=True, slots=True)
class Redefined:
    """A definition that is not as expected.

    Attributes:
        expected: what a table says; None where no table has it.
        actual: what the policy says; None where it is not there.
    """

    expected: ExpectedDefinition | None
    actual: Definition | None

    @property
    def name(self) -> str:
        """What it is, as ``condition own-trial``."""
        found = self.actual or self.expected
        assert found is not None
        return f"{found.kind} {found.name}".rstrip()


@dataclass(frozen=True, slots=True)
class Doubt:
    """What a probe's journal says of the probe itself, where that is not that all is well.

    Attributes:
        words: what it says.
        found: whether something was found; else not everything was judged.
    """

    words: str
    found: bool


@dataclass(frozen=True, slots=True)
class ExpectedResult:
    """What holding what is against tables came to.

    Attributes:
        files: the tables.
        agreed: how many cells and definitions are as expected.
        mismatches: cells that are not, in the order of the tables.
        redefined: definitions that are not.
        unsaid: the endpoints that no table has, with the methods that are lacking.
        callers: the kinds of callers that no table has a column for.
        silent: how many cells of the tables are empty.
        doubts: what else the journals of probes say.
        written: the table that was written, or None.
        observed: whether this is what an application answered, which says nothing of definitions.
    """

    files: tuple[str, ...]
    agreed: int
    mismatches: tuple[Mismatch, ...]
    redefined: tuple[Redefined, ...] = ()
    unsaid: tuple[ActualRow, ...] = ()
    callers: tuple[str, ...] = ()
    silent: int = 0
    doubts: tuple[Doubt, ...] = ()
    written: str | None = None
    observed: bool = False

    @property
    def ending(self) -> Ending:
        """Whether all is as expected."""
        if self.written is not None:
            return Ending.WELL
        if (
            self.mismatches
            or self.redefined
            or self.unsaid
            or self.callers
            or any(doubt.found for doubt in self.doubts)
        ):
            return Ending.FOUND
        return Ending.UNJUDGED if self.silent or self.doubts else Ending.WELL


def _is_more_than_cells(formula: Formula) -> bool:
    """Whether a formula asks what a column for each role cannot show: several roles together, ``not``, a permission."""
    for part in walk(formula):
        if isinstance(part, PermissionAsked | Guarded | HoldingSomewhere):
            return True
        if isinstance(part, Negated) and _asks_for_roles(part):
            return True
        if isinstance(part, Conjunction) and sum(map(_asks_for_roles, part.parts)) > 1:
            return True
    return False


def _asks_for_roles(formula: Formula) -> bool:
    return any(isinstance(part, Holding | HoldingIn | HoldingAt) for part in walk(formula))


def is_address(template: Template) -> bool:
    """Whether a template covers one path alone."""
    return all(isinstance(part, str) for part in template.segments)


class Actual:
    """What is true of every endpoint.

    Args:
        policy: the policy, which says what line decides for an endpoint of a table.
        rows: the endpoints.
        observed: whether this is what an application answered: nothing is concluded from one endpoint to another that
            the same line decides.
        callers: by column, who asks, where an address without parameters is decided with its own values.

    Attributes:
        missing: what is said of an endpoint that has no row.
    """

    def __init__(
        self,
        policy: Policy,
        rows: Iterable[ActualRow],
        *,
        observed: bool = False,
        callers: Mapping[str, Caller | None] | None = None,
    ) -> None:
        self._callers = callers
        self._addresses: dict[tuple[str, str], ActualRow] = {}
        self.rows = tuple(rows)
        self.missing = NOT_ASKED if observed else "no line"
        self._policy = policy
        self._exact: dict[tuple[str, object], ActualRow] = {}
        self._by_line: dict[Line, list[ActualRow]] = {}
        for row in self.rows:
            shape = specificity(parse_template(row.path), exact=True)
            for method in row.methods:
                self._exact.setdefault((method, shape), row)
            if row.line is not None and not observed:
                self._by_line.setdefault(row.line, []).append(row)

    def row(self, method: str, path: str) -> ActualRow | None:
        """The row that says what becomes of an endpoint: its own, or that of the line that decides for it."""
        template = parse_template(path)
        exact = self._exact.get((method, specificity(template, exact=True)))
        if exact is not None:
            return exact
        sent = "TRACE" if method == ANY else method
        line = self._policy.lookup.find(sent, unnamed_segments(template, True))
        if line is None or (method == ANY and line.methods):
            return None
        if self._callers is not None and method != ANY and line.template.names and is_address(template):
            return self._at_address(method, path, line)
        rows = self._by_line.get(line, [])
        named = [row for row in rows if ANY not in row.methods and covers(row.methods, method)]
        return next(iter(named or [row for row in rows if ANY in row.methods or method in row.methods]), None)

    def _at_address(self, method: str, path: str, line: Line) -> ActualRow:
        """What becomes of an address that is a request itself: the values of its path are known."""
        row = self._addresses.get((method, path))
        if row is None:

            def cell(name: str) -> str:
                decision = self._policy.decide((self._callers or {})[name], method, path)
                remainder = decision.remainder
                return decision.outcome.value if remainder is None else f"if {remainder.words()}"

            row = self._addresses[method, path] = ActualRow((method,), path, cell, line)
        return row


def matrix_as_it_is(policy: Policy, matrix: Matrix, callers: Mapping[str, Caller | None] | None = None) -> Actual:
    """What a matrix says of every endpoint.

    Args:
        policy: the policy.
        matrix: the matrix.
        callers: the callers of its columns, where these are callers: for them an address such as ``/studios/7`` is
            decided with its own values.
    """
    numbers = {column.name: number for number, column in enumerate(matrix.columns)}

    def actual(row: Row) -> ActualRow:
        return ActualRow(row.methods, row.path, lambda name: row.cell(numbers[name]).words(), row.line)

    return Actual(policy, map(actual, matrix.rows), callers=callers)


@dataclass(frozen=True, slots=True)
class Held:
    """What tables are held against.

    Attributes:
        actual: what is true of every endpoint.
        columns: the kinds of callers there are.
        definitions: what the policy says beside its endpoints.
        observed: whether this is what an application answered, which says nothing of definitions.
        doubts: what else the journals of probes say.
    """

    actual: Actual
    columns: Sequence[str]
    definitions: Sequence[Definition] = ()
    observed: bool = False
    doubts: tuple[Doubt, ...] = field(default=())


def hold_against(held: Held, tables: Sequence[Table]) -> ExpectedResult:
    """Hold what is against what tables say.

    Raises:
        ExpectedError: two tables contradict each other.
    """
    rows = [row for table in tables for row in table.rows]
    said = [definition for table in tables for definition in table.definitions]
    contradictions = [*_contradictions(rows), *_contradictory_definitions(said)]
    if contradictions:
        raise ExpectedError("\n".join(contradictions))
    agreed = 0
    mismatches: list[Mismatch] = []
    for expected in rows:
        actual_row = held.actual.row(expected.method, expected.path)
        line = actual_row.line if actual_row is not None else None
        for column, cell in expected.cells.items():
            is_now = actual_row.cell(column) if actual_row is not None else held.actual.missing
            if same_cell(cell, is_now):
                agreed += 1
            else:
                mismatches.append(Mismatch(expected, column, cell, is_now, line))
        if held.observed or actual_row is None:
            continue
        if normal_text(expected.requires) != actual_row.requires:
            mismatches.append(Mismatch(expected, REQUIRES, expected.requires, actual_row.requires, line))
    redefined = list(_redefined(said, held.definitions)) if not held.observed else []
    if not held.observed:
        agreed += len(held.definitions) - sum(each.actual is not None for each in redefined)
    in_tables = {column for table in tables for column in table.columns}
    return ExpectedResult(
        tuple(str(table.file) for table in tables),
        agreed,
        tuple(mismatches),
        tuple(redefined),
        tuple(_unsaid(held.actual, rows)),
        tuple(column for column in held.columns if column not in in_tables),
        sum(table.silent for table in tables),
        held.doubts,
        observed=held.observed,
    )


def _unsaid(actual: Actual, rows: list[ExpectedRow]) -> Iterator[ActualRow]:
    """The endpoints that are in no table, each with the methods that are not."""
    said = {(row.method, specificity(parse_template(row.path), exact=True)) for row in rows}
    for row in actual.rows:
        shape = specificity(parse_template(row.path), exact=True)
        lacking = tuple(method for method in row.methods if (method, shape) not in said)
        if lacking:
            yield replace(row, methods=lacking)


def _redefined(said: list[ExpectedDefinition], actual: Iterable[Definition]) -> Iterator[Redefined]:
    by_key = {(each.kind, each.name): each for each in said}
    for definition in actual:
        expected = by_key.pop(definition.key, None)
        if expected is None or expected.text != definition.text:
            yield Redefined(expected, definition)
    for expected in by_key.values():
        yield Redefined(expected, None)


def _contradictions(rows: list[ExpectedRow]) -> Iterator[str]:
    known: dict[tuple[str, object, str], ExpectedRow] = {}
    for row in rows:
        for column, cell in {**row.cells, REQUIRES: row.requires}.items():
            first = known.setdefault((row.method, specificity(parse_template(row.path), exact=True), column), row)
            before = first.requires if column == REQUIRES else first.cells[column]
            if before != cell:
                yield (
                    f"{row.at}: {row.method} {row.path} is {cell or 'empty'} for {column} here, "
                    f"and {before or 'empty'} in {first.at}"
                )


def _contradictory_definitions(said: list[ExpectedDefinition]) -> Iterator[str]:
    known: dict[tuple[str, str], ExpectedDefinition] = {}
    for each in said:
        first = known.setdefault((each.kind, each.name), each)
        if first.text != each.text:
            yield f"{each.at}: {each.kind} {each.name} is {each.text} here, and {first.text} in {first.at}"


def updated_table(held: Held, table: Table) -> str:
    """The table updated to match current access: its rows corrected, with what it lacks, and all definitions.

    Args:
        held: what is.
        table: the table; one without rows for a new one.
    """
    columns = [*table.columns, *(column for column in held.columns if column not in table.columns)]
    actual = held.actual
    # Methods that one row of the table has stay together while their cells are the same.
    lines: dict[tuple[str, str, tuple[str, ...]], list[str]] = {}
    for expected in table.rows:
        row = actual.row(expected.method, expected.path)
        if row is None:
            continue  # nothing covers it any more
        said = {*expected.cells, *(name for name in columns if name not in table.columns)}
        cells = tuple(_writable(row.cell(name)) if name in said else "" for name in columns)
        lines.setdefault((expected.at, expected.path, (*cells, row.requires)), []).append(expected.method)
    written = [[" ".join(methods), path, *cells] for (_, path, cells), methods in lines.items()]
    for row in _unsaid(actual, list(table.rows)):
        cells = tuple(_writable(row.cell(name)) for name in columns)
        written.append([" ".join(row.methods), row.path, *cells, row.requires])
    heads = [*HEADS, *columns]
    if any(row[-1] for row in written):
        heads.append(REQUIRES)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(heads)
    writer.writerows(row[: len(heads)] for row in written)
    if held.definitions:
        text.write("\n")
    writer.writerows((definition.kind, definition.name, definition.text) for definition in held.definitions)
    return text.getvalue()


def _writable(cell: str) -> str:
    """A cell that a table may have; one that is not known is left empty."""
    return cell if cell in OUTCOMES or cell.startswith("if ") else ""


class HeldFiles(NamedTuple):
    """What tables in files came to.

    Attributes:
        result: the result.
        text: the text of the updated table; an empty string where it is not to be updated.
    """

    result: ExpectedResult
    text: str


def hold_files(held: Held, files: list[Path], *, update: bool) -> HeldFiles:
    """Hold what is against tables in files.

    Args:
        held: what is.
        files: the tables.
        update: whether the one table is to be updated to match current access.

    Raises:
        ExpectedError: a table cannot be read, two contradict each other, or several are to be written.
    """
    if not update:
        return HeldFiles(hold_against(held, [read_table(file, held.columns) for file in files]), "")
    if len(files) > 1:
        raise ExpectedError("--update writes one table; name one")
    file = files[0]
    table = read_table(file, held.columns) if file.exists() else Table(file)
    return HeldFiles(replace(hold_against(held, [table]), written=str(file)), updated_table(held, table))
