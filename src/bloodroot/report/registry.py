"""Which result has which formats, and what writes each. Options, endings of files and the documents follow from it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from .sheet import Sheet


class Format(StrEnum):
    """The formats."""

    TABLE = "table"
    JSON = "json"
    CSV = "csv"
    MARKDOWN = "markdown"
    HTML = "html"
    PNG = "png"
    SVG = "svg"
    JUNIT = "junit"
    SARIF = "sarif"
    LINES = "lines"
    OPENAPI = "openapi"


# By which ending of a file name a format is chosen.
ENDINGS = {
    ".txt": Format.TABLE,
    ".json": Format.JSON,
    ".csv": Format.CSV,
    ".sarif": Format.SARIF,
    ".xml": Format.JUNIT,
    ".html": Format.HTML,
    ".md": Format.MARKDOWN,
    ".png": Format.PNG,
    ".svg": Format.SVG,
}


@dataclass(frozen=True, slots=True)
class ResultKind:
    """One kind of result.

    Attributes:
        command: what shows it.
        name: the function that gives its sheet, or its text; that of its JSON has the same name.
        module: the module of that function.
        is_list: whether its sheet has a list for spreadsheets.
        is_text: whether it is a text that is shown as it is, and has no sheet.
        others: what writes it in formats of its own, as ``module:function``.
    """

    command: str
    name: str
    module: str
    is_list: bool = False
    is_text: bool = False
    others: Mapping[Format, str] = field(default_factory=dict)

    @property
    def formats(self) -> tuple[Format, ...]:
        """Its formats, in the order of `Format`."""
        found = {Format.TABLE, Format.JSON, *self.others}
        found |= set() if self.is_text else {Format.MARKDOWN, Format.HTML}
        found |= {Format.CSV} if self.is_list else set()
        return tuple(format for format in Format if format in found)

    def sheet(self, result: object) -> Sheet:
        """The sheet of a result of this kind."""
        made: Sheet = self._function(f"{self.module}:{self.name}")(result)
        return made

    def _function(self, name: str) -> Callable[..., Any]:
        module, _, function = name.partition(":")
        found: Callable[..., Any] = getattr(import_module(f".{module}", __package__), function)
        return found


def _pictures(name: str) -> dict[Format, str]:
    return {Format.PNG: f"png:{name}", Format.SVG: f"svg:{name}"}


# By the name of the class of the result.
RESULTS = {
    "AskResult": ResultKind("ask", "ask", "sheets.decisions"),
    "CheckResult": ResultKind(
        "check",
        "check",
        "sheets.check",
        is_list=True,
        others={Format.SARIF: "sarif:check", Format.LINES: "finding_lines:check"},
    ),
    "PolicyComparison": ResultKind(
        "compare",
        "compare",
        "sheets.compare",
        is_list=True,
        others={Format.HTML: "html.compare:compare", Format.MARKDOWN: "pull_request:compare"},
    ),
    "Entrance": ResultKind("why --who", "entrance", "sheets.decisions", is_list=True),
    "ExpectedResult": ResultKind("expect", "expected", "sheets.expected", is_list=True),
    "Explanation": ResultKind("why", "decision", "sheets.decisions"),
    "FormatResult": ResultKind("format --check", "formatted", "texts", is_text=True),
    "LinesResult": ResultKind("why --path-only", "lines", "sheets.decisions", is_list=True),
    "MadeToken": ResultKind("token make", "made_token", "texts", is_text=True),
    "MatrixResult": ResultKind(
        "matrix",
        "matrix",
        "sheets.matrix",
        is_list=True,
        others={Format.HTML: "html.matrix:matrix", **_pictures("matrix")},
    ),
    "MemberAccess": ResultKind("members LOGIN", "member_access", "sheets.members", is_list=True),
    "PlanResult": ResultKind("probe --list", "plan", "sheets.probe", is_list=True),
    "ProbeResult": ResultKind(
        "probe",
        "probe",
        "sheets.probe",
        is_list=True,
        others={Format.JUNIT: "junit:probe"},
    ),
    "ReplayResult": ResultKind("replay", "replay", "sheets.replay", is_list=True),
    "Review": ResultKind("members", "review", "sheets.members", is_list=True),
    "RolesResult": ResultKind("roles", "roles", "sheets.roles", is_list=True, others=_pictures("roles")),
    "SeedResult": ResultKind("seed", "seed", "sheets.identity", is_list=True),
    "SurveyResult": ResultKind(
        "survey", "survey", "sheets.survey", is_list=True, others={Format.OPENAPI: "openapi:survey"}
    ),
    "TokenResult": ResultKind("token read", "token", "sheets.identity"),
    "TriedResult": ResultKind("tried", "tried", "sheets.tried", is_list=True),
}


def kind_of(result: object) -> ResultKind:
    """The kind of a result."""
    return RESULTS[type(result).__name__]


def formats_of(*results: str) -> tuple[Format, ...]:
    """The formats that any of some kinds of results has, in the order of `Format`."""
    formats = {format for name in results for format in RESULTS[name].formats}
    return tuple(format for format in Format if format in formats)


def write(result: object, form: Format, console: Console | None = None) -> str | bytes:
    """A result in one of its formats.

    Args:
        result: the result.
        form: one of the formats of its kind.
        console: what a table is shown on; needed for no other format.
    """
    found = written(result, form, console)
    return found if isinstance(found, str | bytes) else "".join(found)


def written(result: object, form: Format, console: Console | None = None) -> str | bytes | Iterator[str]:
    """The same as `write`; large results in pieces, as they are made."""
    kind = kind_of(result)
    if form in kind.others:
        found: str | bytes | Iterator[str] = kind._function(kind.others[form])(result)
        return found
    if form is Format.JSON:
        pieces: Iterator[str] = kind._function(f"json:{kind.name}")(result)
        return pieces
    if kind.is_text:
        return str(kind._function(f"{kind.module}:{kind.name}")(result))
    return _write_sheet(kind.sheet(result), form, console)


def _write_sheet(sheet: Sheet, form: Format, console: Console | None) -> str:
    from . import csv, markdown, terminal
    from .html import sheets

    if form is Format.TABLE:
        assert console is not None
        return terminal.write(sheet, console)
    return {Format.CSV: csv.write, Format.MARKDOWN: markdown.write, Format.HTML: sheets.write}[form](sheet)


def formats_table() -> str:
    """Which result has which formats, as the table of ``docs/formats.md``."""
    columns = [form for form in Format if form not in (Format.TABLE, Format.JSON)]
    lines = [f"| command | {' | '.join(columns)} |", f"|---|{':-:|' * len(columns)}"]
    for kind in sorted(RESULTS.values(), key=lambda kind: kind.command):
        marks = ("●" if form in kind.formats else "" for form in columns)
        lines.append(f"| `{kind.command}` | {' | '.join(marks)} |")
    return "\n".join(lines) + "\n"
