"""CSV (RFC 4180), for spreadsheets; the matrix in the form that a reviewed table has too."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from typing import Any

from ..identity.seed_result import SeedResult
from ..probe.result import PlanResult, Result
from ..review.all_members import Review
from ..review.expected import ExpectedResult
from ..review.member_access import MemberAccess
from ..review.tried import TriedResult
from ..survey.coverage import SurveyResult
from .results import MatrixResult


def _text(heads: list[str], rows: Iterable[list[Any]]) -> str:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(heads)
    writer.writerows([_inert(cell) for cell in row] for row in rows)
    return text.getvalue()


def _inert(cell: Any) -> Any:
    """A cell that no spreadsheet takes for a formula: names in it may come from a directory or an application."""
    return f"'{cell}" if isinstance(cell, str) and cell[:1] in ("=", "+", "-", "@", "\t", "\r") else cell


def matrix(result: MatrixResult) -> str:
    """``method``, ``path``, then a column for each kind of caller: ``allow``, ``deny``, ``sign-in`` or ``if NAME``."""
    columns = [column.name for column in result.matrix.columns]
    rows = ([row.method, row.path, *(c.words() for c in result.matrix.cells(row))] for row in result.matrix.rows)
    return _text(["method", "path", *columns], rows)


def expected(result: ExpectedResult) -> str:
    """A row for each cell of reviewed tables that is not as expected."""
    rows = (
        [each.row.method, each.row.path, each.column, each.expected, each.actual, each.row.at]
        for each in result.mismatches
    )
    return _text(["method", "path", "caller", "expected", "actual", "table"], rows)


def probe(result: Result) -> str:
    """A row for each request of a probe, and for each that could not be tried."""
    heads = ["verdict", "method", "template", "path", "persona", "sample", "declared", "observed", "status", "text"]
    rows: list[list[Any]] = []
    for each in result.observations:
        case = each.case
        about = (case.method, case.asked.template.text, case.raw or case.target, case.persona.name, case.sample)
        rows.append([each.verdict, *about, case.declared, each.seen.came, each.seen.status, each.text])
    rows += [
        ["not-tried", each.asked.method, each.asked.template.text, "", each.persona.name, "", "", "", "", each.why]
        for each in result.untried
    ]
    return _text(heads, rows)


def tried(result: TriedResult) -> str:
    """A row for each cell that was not tried."""
    names = [column.name for column in result.matrix.columns]
    rows = (
        [each.row.method, each.row.path, names[each.column], each.cell.words(), each.side.strip(", ")]
        for each in result.lacking
    )
    return _text(["method", "path", "caller", "declared", "not tried"], rows)


def plan(result: PlanResult) -> str:
    """A row for each request that a probe would send."""
    heads = ["method", "template", "path", "persona", "sample", "declared", "line"]
    rows = (
        [
            case.method,
            case.asked.template.text,
            case.raw or case.target,
            case.persona.name,
            case.sample,
            case.declared,
            case.asked.declared_at,
        ]
        for case in result.plan.cases
    )
    return _text(heads, rows)


def review(result: Review) -> str:
    """A row for each thing that a member holds; members who hold nothing have one too."""
    heads = ["id", "name", "status", "kind", "holds", "gives", "known", "since", "last used", "last seen"]
    rows: list[list[Any]] = []
    for each in result.members:
        member = each.member
        about = [str(member.id), member.name, member.status]
        seen = each.seen.isoformat() if each.seen is not None else ""
        for one in each.holdings:
            holding = one.holding
            since = one.since.isoformat() if one.since is not None else ""
            used = one.used.isoformat() if one.used is not None else "never" if result.logs else ""
            known = "yes" if holding.known else "no"
            rows.append([*about, holding.kind, holding.name, " ".join(holding.gives), known, since, used, seen])
        if not each.holdings:
            rows.append([*about, "", "", "", "", "", "", seen])
    return _text(heads, rows)


def member_access(result: MemberAccess) -> str:
    """A row for each endpoint that a member may use."""
    rows = ([each.method, each.path, each.words, "; ".join(each.through)] for each in result.allowed)
    return _text(["method", "path", "outcome", "through"], rows)


def seed(result: SeedResult) -> str:
    """A row for each role, group and member of a seed."""
    rows = ([row.kind, row.name, row.verdict, "; ".join(row.differences)] for row in result.rows)
    return _text(["kind", "name", "verdict", "differences"], rows)


def survey(result: SurveyResult) -> str:
    """A row for each method of each endpoint."""
    heads = ["method", "template", "kind", "action", "requirement", "line", "guards", "sources", "count"]
    rows: list[list[Any]] = []
    for row in result.endpoints:
        each, line = row.endpoint, row.line
        required, place = (line.requirement.words(), line.place.at) if line is not None else ("", "")
        about = (
            each.kind,
            each.action or each.operation or "",
            required,
            place,
            "; ".join(guard.text for guard in each.guards),
            "; ".join(row.sources),
        )
        rows.append([row.method, each.template, *about, each.count])
    return _text(heads, rows)


REPORTS = {
    SurveyResult: survey,
    TriedResult: tried,
    ExpectedResult: expected,
    MatrixResult: matrix,
    Result: probe,
    PlanResult: plan,
    Review: review,
    MemberAccess: member_access,
    SeedResult: seed,
}
