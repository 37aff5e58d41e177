"""Expected matrices: tables that people have reviewed, read from CSV and held cell by cell against what is.

What is may be the matrix of a policy, or what a running application answered.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.caller import Caller
from ..core.lines import Line
from ..core.matrix import Matrix, Row
from ..core.methods import ANY, covers
from ..core.paths import Template, TemplateError, parse_template, specificity, unnamed_segments
from ..core.policy import Policy
from ..language.errors import BloodrootError
from ..language.problems import suggestion

_CELLS = ("allow", "deny", "sign-in")
_HEADS = ("method", "path")
NOT_ASKED = "not asked"


class ExpectedError(BloodrootError):
    """A table that cannot be read, or tables that contradict each other. The message says where."""


@dataclass(frozen=True, slots=True)
class ExpectedRow:
    """What a table says of one endpoint.

    Attributes:
        file: the table.
        number: the number of its line, counted from 1.
        method: the method, or ``any``; a row of a table for several methods is several of these.
        path: the path template.
        cells: by column: ``allow``, ``deny``, ``sign-in`` or ``if NAME``; what is not said is not there.
    """

    file: str
    number: int
    method: str
    path: str
    cells: dict[str, str]

    @property
    def at(self) -> str:
        """File and line."""
        return f"{self.file}:{self.number}"


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


@dataclass(frozen=True, slots=True)
class Mismatch:
    """A cell that is not as expected.

    Attributes:
        row: the row of the table.
        column: the kind of caller.
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
class ExpectedResult:
    """What holding what is against tables came to.

    Attributes:
        files: the tables.
        agreed: how many cells are as expected.
        mismatches: those that are not, in the order of the tables.
        unsaid: the endpoints that no table has.
        written: the table that was written, or None.
    """

    files: tuple[str, ...]
    agreed: int
    mismatches: tuple[Mismatch, ...]
    unsaid: tuple[ActualRow, ...]
    written: str | None = None


def read_expected(file: Path, columns: Iterable[str]) -> list[ExpectedRow]:
    """Read a table.

    Args:
        file: CSV with the columns ``method`` and ``path``, then one for each kind of caller.
        columns: the kinds of callers there are.

    Raises:
        ExpectedError: it cannot be read; every mistake in it is in the message.
    """
    try:
        text = file.read_text("utf-8-sig")
    except FileNotFoundError as error:
        raise ExpectedError(f"{file}: there is no such file; --update writes one") from error
    except (OSError, UnicodeDecodeError) as error:
        raise ExpectedError(f"{file}: this file cannot be read: {error}") from error
    lines = [(number, [cell.strip() for cell in row]) for number, row in _numbered(file, text) if any(row)]
    if not lines or tuple(lines[0][1][:2]) != _HEADS:
        raise ExpectedError(f"{file}:1: the first columns must be method and path")
    heads = lines[0][1]
    problems = list(_in_heads(file, heads, list(columns)))
    rows: list[ExpectedRow] = []
    seen: dict[tuple[str, str], int] = {}
    for number, cells in lines[1:]:
        path = cells[1] if len(cells) > 1 else ""
        by_column = _said(heads, cells)
        problems += _in_row(ExpectedRow(str(file), number, cells[0], path, by_column), len(cells) - len(heads))
        for method in cells[0].split() or [""]:
            row = ExpectedRow(str(file), number, method, path, by_column)
            first = seen.setdefault((method, path), number)
            if first != number or rows[-1:] == [row]:
                problems.append(f"{row.at}: {method} {path} is in line {first} already")
            rows.append(row)
    if problems:
        raise ExpectedError("\n".join(problems))
    return rows


def columns_of(file: Path) -> list[str]:
    """The kinds of callers that a table has columns for."""
    heads = next(iter(_numbered(file, file.read_text("utf-8-sig"))))[1]
    return [head.strip() for head in heads[2:]]


def _numbered(file: Path, text: str) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(io.StringIO(text), strict=True)
    try:
        for row in reader:
            yield reader.line_num, row
    except csv.Error as error:
        raise ExpectedError(f"{file}:{reader.line_num}: not valid CSV: {error}") from error


def _in_heads(file: Path, heads: list[str], columns: list[str]) -> Iterator[str]:
    for place, head in enumerate(heads[2:], 2):
        if head not in columns:
            guess = suggestion(head, columns) or f"; columns are {', '.join(columns)}"
            yield f'{file}:1: unknown column "{head}"{guess}'
        elif head in heads[2:place]:
            yield f'{file}:1: the column "{head}" is there twice'


def _said(heads: list[str], cells: list[str]) -> dict[str, str]:
    return {head: " ".join(cell.split()) for head, cell in zip(heads[2:], cells[2:], strict=False) if cell}


def _in_row(row: ExpectedRow, more: int) -> Iterator[str]:
    if more > 0:
        yield f"{row.at}: this row has more cells than the table has columns"
    try:
        parse_template(row.path)
    except TemplateError as error:
        yield f"{row.at}: {row.path}: {error}"
    for column, cell in row.cells.items():
        if cell not in _CELLS and not cell.startswith("if "):
            guess = suggestion(cell, _CELLS) or "; a cell is allow, deny, sign-in, if NAME, or empty"
            yield f'{row.at}: {column}: "{cell}" is no outcome{guess}'


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


def hold_against(actual: Actual, rows: list[ExpectedRow], files: Iterable[Path] = ()) -> ExpectedResult:
    """Hold what is against what tables say.

    Args:
        actual: what is true of every endpoint.
        rows: the rows of all tables.
        files: the tables, for the result.

    Raises:
        ExpectedError: two tables contradict each other.
    """
    contradictions = list(_contradictions(rows))
    if contradictions:
        raise ExpectedError("\n".join(contradictions))
    agreed = 0
    mismatches: list[Mismatch] = []
    in_table: set[ActualRow] = set()
    for expected in rows:
        actual_row = actual.row(expected.method, expected.path)
        if actual_row is not None:
            in_table.add(actual_row)
        for column, cell in expected.cells.items():
            is_now = actual_row.cell(column) if actual_row is not None else actual.missing
            if is_now == cell:
                agreed += 1
            else:
                line = actual_row.line if actual_row is not None else None
                mismatches.append(Mismatch(expected, column, cell, is_now, line))
    unsaid = tuple(row for row in actual.rows if row not in in_table)
    return ExpectedResult(tuple(map(str, files)), agreed, tuple(mismatches), unsaid)


def _contradictions(rows: list[ExpectedRow]) -> Iterator[str]:
    known: dict[tuple[str, object, str], ExpectedRow] = {}
    for row in rows:
        for column, cell in row.cells.items():
            first = known.setdefault((row.method, specificity(parse_template(row.path), exact=True), column), row)
            if first.cells[column] != cell:
                yield (
                    f"{row.at}: {row.method} {row.path} is {cell} for {column} here, "
                    f"and {first.cells[column]} in {first.at}"
                )


def updated_table(actual: Actual, rows: list[ExpectedRow], heads: Iterable[str]) -> str:
    """The table updated to match current access: its rows corrected, and rows for endpoints that it lacks.

    Args:
        actual: what is true of every endpoint.
        rows: the rows of the table; empty for a new one.
        heads: the kinds of callers that it has columns for.
    """
    columns = list(heads)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow([*_HEADS, *columns])
    in_table: set[ActualRow] = set()
    # Methods that one row of the table has stay together while their cells are the same.
    lines: dict[tuple[str, str, tuple[str, ...]], list[str]] = {}
    for expected in rows:
        row = actual.row(expected.method, expected.path)
        if row is None:
            continue  # nothing covers it any more
        in_table.add(row)
        cells = tuple(_writable(row.cell(name)) if name in expected.cells else "" for name in columns)
        lines.setdefault((expected.at, expected.path, cells), []).append(expected.method)
    writer.writerows([" ".join(methods), path, *cells] for (_, path, cells), methods in lines.items())
    for row in actual.rows:
        if row not in in_table:
            writer.writerow([" ".join(row.methods), row.path, *(_writable(row.cell(name)) for name in columns)])
    return text.getvalue()


def _writable(cell: str) -> str:
    """A cell that a table may have; one that is not known is left empty."""
    return cell if cell in _CELLS or cell.startswith("if ") else ""


def hold_files(actual: Actual, columns: list[str], files: list[Path], *, update: bool) -> tuple[ExpectedResult, str]:
    """Hold what is against tables in files.

    Args:
        actual: what is true of every endpoint.
        columns: the kinds of callers there are.
        files: the tables.
        update: whether the one table is to be updated to match current access.

    Returns:
        What it came to, and the text of the updated table; an empty string where it is not to be updated.

    Raises:
        ExpectedError: a table cannot be read, two contradict each other, or several are to be written.
    """
    if not update:
        return hold_against(actual, [row for file in files for row in read_expected(file, columns)], files), ""
    if len(files) > 1:
        raise ExpectedError("--update writes one table; name one")
    file = files[0]
    rows = read_expected(file, columns) if file.exists() else []
    held = replace(hold_against(actual, rows, files), written=str(file))
    return held, updated_table(actual, rows, columns_of(file) if file.exists() else columns)
