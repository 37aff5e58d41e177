"""Reviewed tables: CSV with a row for each endpoint, a column for each kind of caller, and rows for definitions."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from ..core.methods import ANY
from ..core.paths import TemplateError, is_method, parse_template
from ..language.errors import BloodrootError
from ..language.normal import normal_text
from ..language.problems import suggestion
from .definitions import KINDS, is_kind

OUTCOMES = ("allow", "deny", "sign-in")
HEADS = ("method", "path")
REQUIRES = "requires"


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
        requires: what the line requires, where the cells do not say it; else an empty string.
    """

    file: str
    number: int
    method: str
    path: str
    cells: dict[str, str]
    requires: str = ""

    @property
    def at(self) -> str:
        """File and line."""
        return f"{self.file}:{self.number}"


@dataclass(frozen=True, slots=True)
class ExpectedDefinition:
    """What a table says of one entry of the policy.

    Attributes:
        file: the table.
        number: the number of its line, counted from 1.
        kind: what it defines, as `review.definitions.Definition.kind`.
        name: what it is about.
        text: what it says.
    """

    file: str
    number: int
    kind: str
    name: str
    text: str

    @property
    def at(self) -> str:
        """File and line."""
        return f"{self.file}:{self.number}"


@dataclass(frozen=True, slots=True)
class Table:
    """A reviewed table.

    Attributes:
        file: where it is.
        columns: the kinds of callers that it has columns for.
        rows: its endpoints.
        definitions: its definitions.
    """

    file: Path
    columns: tuple[str, ...] = ()
    rows: tuple[ExpectedRow, ...] = ()
    definitions: tuple[ExpectedDefinition, ...] = ()

    @property
    def silent(self) -> int:
        """How many cells are empty."""
        return sum(len(self.columns) - len(row.cells) for row in self.rows)


def read_table(file: Path, columns: Iterable[str]) -> Table:
    """Read a table.

    Args:
        file: CSV with the columns ``method`` and ``path``, then one for each kind of caller, and ``requires``. A row
            whose first cell is a kind of definition has its name and its text in the next two.
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
    lines = [(number, [cell.strip() for cell in row]) for number, row in _numbered(file, text)]
    lines = [(number, cells) for number, cells in lines if any(cells)]
    if not lines or tuple(lines[0][1][:2]) != HEADS:
        number = lines[0][0] if lines else 1
        raise ExpectedError(f"{file}:{number}: the first columns must be method and path")
    reading = _Reading(str(file), *lines[0])
    reading.read_heads(list(columns))
    for number, cells in lines[1:]:
        if is_kind(cells[0]):
            reading.read_definition(number, cells)
        else:
            reading.read_row(number, cells)
    if reading.problems:
        raise ExpectedError("\n".join(reading.problems))
    kinds_of_callers = tuple(head for head in reading.heads[2:] if head != REQUIRES)
    return Table(file, kinds_of_callers, tuple(reading.rows), tuple(reading.definitions.values()))


def _numbered(file: Path, text: str) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(io.StringIO(text), strict=True)
    try:
        for row in reader:
            yield reader.line_num, row
    except csv.Error as error:
        raise ExpectedError(f"{file}:{reader.line_num}: not valid CSV: {error}") from error


@dataclass(slots=True)
class _Reading:
    """A table as far as it is read, and every mistake met."""

    file: str
    line: int
    heads: list[str]
    rows: list[ExpectedRow] = field(default_factory=list)
    definitions: dict[tuple[str, str], ExpectedDefinition] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    seen: dict[tuple[str, str], int] = field(default_factory=dict)

    def read_heads(self, columns: list[str]) -> None:
        """See that each column is one that there is."""
        while self.heads and not self.heads[-1]:
            self.heads.pop()
        at = f"{self.file}:{self.line}"
        for place, head in enumerate(self.heads[2:], 2):
            if head not in columns and head != REQUIRES:
                guess = suggestion(head, columns) or f"; columns are {', '.join(columns)}"
                self.problems.append(f'{at}: unknown column "{head}"{guess}')
            elif head in self.heads[2:place]:
                self.problems.append(f'{at}: the column "{head}" is there twice')

    def read_definition(self, number: int, cells: list[str]) -> None:
        """Read the row of a definition."""
        kind, name, text = (*cells, "", "")[:3]
        expected_definition = ExpectedDefinition(self.file, number, kind, name, " ".join(text.split()))
        first = self.definitions.setdefault((kind, name), expected_definition)
        if first is not expected_definition:
            self.problems.append(f"{expected_definition.at}: {kind} {name} is in line {first.number} already")
        if any(cells[3:]):
            self.problems.append(
                f"{expected_definition.at}: the row of a definition has three cells: {kind}, its name and its text"
            )

    def read_row(self, number: int, cells: list[str]) -> None:
        """Read the row of an endpoint."""
        path = cells[1] if len(cells) > 1 else ""
        said = {head: " ".join(cell.split()) for head, cell in zip(self.heads[2:], cells[2:], strict=False) if cell}
        requires = said.pop(REQUIRES, "")
        at = f"{self.file}:{number}"
        if any(cells[len(self.heads) :]):
            self.problems.append(f"{at}: this row has more cells than the table has columns")
        try:
            parse_template(path)
        except TemplateError as error:
            self.problems.append(f"{at}: {path}: {error}")
        for column, cell in said.items():
            if cell not in OUTCOMES and not cell.startswith("if "):
                guess = suggestion(cell, OUTCOMES) or "; a cell is allow, deny, sign-in, if NAME, or empty"
                self.problems.append(f'{at}: {column}: "{cell}" is no outcome{guess}')
        for method in cells[0].split() or [""]:
            if method != ANY and not is_method(method):
                guess = suggestion(method, KINDS) or "; a row begins with methods, as GET, or with any"
                self.problems.append(f'{at}: "{method}" is no method{guess}')
            row = ExpectedRow(self.file, number, method, path, said, requires)
            first = self.seen.setdefault((method, path), number)
            if first != number or self.rows[-1:] == [row]:
                self.problems.append(f"{at}: {method} {path} is in line {first} already")
            self.rows.append(row)


def same_cell(expected: str, actual: str) -> bool:
    """Whether two cells say the same, in whatever order the terms of ``if`` are."""
    if expected == actual:
        return True
    if expected.startswith("if ") and actual.startswith("if "):
        return normal_text(expected[3:]) == normal_text(actual[3:])
    return False
