"""JSON, for programs. Format 1; docs/results.schema.json is its schema.

Every result is an object with ``format``, the number of this contract, and ``result``, what it is about. The same thing
has the same name and shape in all of them: a caller, a line with its place, a step.
"""

from __future__ import annotations

import json
import math
from collections import Counter
from typing import TYPE_CHECKING, Any

from ..checks.checking import CheckResult
from ..checks.finding import Severity, Witness
from ..checks.witnesses import command
from ..core.decision import Outcome
from ..core.explanation import Explanation
from ..core.records import UNKNOWN
from ..expected import ExpectedResult
from ..identity.seed_result import SeedResult
from ..probe.asking import AskResult
from ..probe.judging import Verdict
from ..probe.result import PlanResult, Result
from ..survey.coverage import SurveyResult
from ..tried import TriedResult
from .results import FormatResult, LinesResult, MadeToken, MatrixResult, MembersResult, TokenResult

if TYPE_CHECKING:
    from ..checks.finding import Finding
    from ..core.answers import Answer
    from ..core.caller import Caller
    from ..core.decision import Step
    from ..core.lines import CompiledGuard, Line
    from ..core.matrix import Cell, Row
    from ..core.roles import RoleTable
    from ..identity.members import Member
    from ..language.problems import Place
    from ..probe.judging import Observation
    from ..probe.planning import Case, Untried
    from ..survey.coverage import Surveyed
    from ..survey.endpoints import HandlerGuard

FORMAT = 1


def _text(result: str, **data: Any) -> str:
    whole = {"format": FORMAT, "result": result, **data}
    try:
        text = json.dumps(whole, indent=2, ensure_ascii=False, allow_nan=False, default=str)
    except ValueError:
        # Claims and attributes may hold numbers that JSON has no word for.
        text = json.dumps(_finite(whole), indent=2, ensure_ascii=False, allow_nan=False, default=str)
    return f"{text}\n"


def _finite(value: Any) -> Any:
    """A value with strings in the place of infinite numbers and NaN."""
    if isinstance(value, dict):
        return {key: _finite(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(each) for each in value]
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value


# Results --------------------------------------------------------------------------------


def matrix(result: MatrixResult) -> str:
    """The matrix: its columns, and a row for each endpoint with a cell for each column."""
    columns = result.matrix.columns
    counts = Counter(cell.outcome for row in result.matrix.rows for cell in result.matrix.cells(row))
    return _text(
        "matrix",
        policy=result.policy.title,
        counts={outcome.value: counts[outcome] for outcome in Outcome},
        columns=[{"name": column.name, "description": column.description} for column in columns],
        rows=[_row(row, [column.name for column in columns]) for row in result.matrix.rows],
    )


def ask(result: AskResult) -> str:
    """What an application answered to one request, and what is declared for it."""
    response = {
        "status": result.status,
        "headers": [{"name": name, "value": value} for name, value in result.headers],
        "body": result.body,
    }
    return _text("ask", response=response, body_sent=result.body_sent or None, declared=_decision(result.explanation))


def decision(result: Explanation) -> str:
    """One decision: outcome, reason, answer, the line that decides, the steps, what remains, who would be let in."""
    return _text("decision", **_decision(result))


def _decision(result: Explanation) -> dict[str, Any]:
    made = result.decision
    return {
        "method": result.method,
        "path": result.path,
        "caller": _caller(result.who, result.caller, result.role_table),
        "outcome": made.outcome.value,
        "reason": made.reason,
        "remainder": result.remainder,
        "answer": _answer(made.answer) if made.answer is not None else None,
        "line": _line(made.line) if made.line is not None else None,
        "steps": [_step(step) for step in made.steps],
        "sufficient_roles": list(result.sufficient_roles),
        "hints": list(result.hints),
    }


def lines(result: LinesResult) -> str:
    """The lines that cover a request, the one that decides first, and the standing rules beside them."""
    return _text(
        "lines",
        method=result.method,
        path=result.path,
        lines=[_line(line) for line in result.lines],
        rules=[_line(rule) for rule in result.rules],
    )


def probe(result: Result) -> str:
    """Every request of a probe with what was declared and observed, and what could not be tried."""
    counts = {verdict.value: result.count(verdict) for verdict in Verdict}
    return _text(
        "probe",
        counts={**counts, "not-tried": len(result.untried)},
        observations=[_observation(each) for each in result.observations],
        not_tried=[_untried(each) for each in result.untried],
        sign_in_faults=list(result.sign_in_faults),
        stale=[
            {
                "persona": each.case.persona.name,
                "method": each.case.method,
                "path": each.case.target,
                "how": each.how,
                "seconds": each.seconds,
                "limit": each.limit,
            }
            for each in result.stale
        ],
        notes=list(result.notes),
        url=result.base or None,
        part=result.part or None,
    )


def tried(result: TriedResult) -> str:
    """How many cells of the matrix were tried, and each that was not."""
    return _text(
        "tried",
        files=list(result.files),
        cells=result.cells,
        tried=result.cells - len(result.lacking),
        decisions=result.decisions,
        others=result.others,
        lacking=[
            {
                "methods": list(each.row.methods),
                "template": each.row.path,
                "column": result.matrix.columns[each.column].name,
                "declared": each.cell.words(),
                "never": each.never,
                "side": each.side.strip(", ") or None,
                "line": _line(each.row.line),
            }
            for each in result.lacking
        ],
    )


def plan(result: PlanResult) -> str:
    """What a probe would ask."""
    return _text(
        "plan",
        url=result.base or None,
        requests=[_asked(case) for case in result.plan.cases],
        not_tried=[_untried(each) for each in result.plan.untried],
    )


def members(result: MembersResult) -> str:
    """Members with the roles they hold, directly and by inclusion."""
    return _text("members", members=[_member(member, result.policy.roles) for member in result.members])


def seed(result: SeedResult) -> str:
    """What became of each row of a seed."""
    rows = [
        {"kind": row.kind, "name": row.name, "verdict": row.verdict.value, "differences": list(row.differences)}
        for row in result.rows
    ]
    return _text("seed", dry_run=result.dry_run, rows=rows)


def token(result: TokenResult) -> str:
    """What a token says and comes to; neither its signature nor a key."""
    examined = result.examined
    caller = examined.counts
    return _text(
        "token",
        valid=caller is not None,
        fault=examined.fault,
        header=examined.header,
        claims=examined.claims,
        readings=[
            {"what": step.what, "claim": step.where, "gives": list(step.gives), "notes": list(step.notes)}
            for step in examined.steps
        ],
        hints=list(examined.hints),
        directory=examined.fresh,
        caller=_caller(str(caller.id), caller, result.policy.roles) if caller is not None else None,
        permissions=[{"name": name, "remainder": remainder} for name, remainder in examined.permissions],
        lacking=list(examined.lacking),
    )


def made_token(result: MadeToken) -> str:
    """A token made for development."""
    caller = _caller(result.who, result.caller, result.policy.roles)
    return _text("made-token", token=result.token, caller=caller, minutes=result.minutes)


def formatted(result: FormatResult) -> str:
    """Which files are tidy, and what changes in those that are not."""
    files = [{"file": file.name, "tidy": file.tidy, "diff": file.diff or None} for file in result.files]
    return _text("format", files=files)


def survey(result: SurveyResult) -> str:
    """Every method of every endpoint, with the line that decides it; lines that cover none; what was left out."""
    return _text(
        "survey",
        sources=list(result.sources),
        endpoints=[_surveyed(row) for row in result.endpoints],
        idle=[_line(line) for line in result.idle],
        notes=list(result.notes),
    )


def expected(result: ExpectedResult) -> str:
    """Each cell of reviewed tables that is not as expected, and the endpoints that no table has."""
    mismatches = [
        {
            "method": each.row.method,
            "template": each.row.path,
            "column": each.column,
            "expected": each.expected,
            "actual": each.actual,
            "table": {"file": each.row.file, "line": each.row.number, "column": 1},
            "line": _line(each.line) if each.line is not None else None,
        }
        for each in result.mismatches
    ]
    unsaid = [
        {
            "methods": list(row.methods),
            "template": row.path,
            "line": _line(row.line) if row.line is not None else None,
        }
        for row in result.unsaid
    ]
    return _text("expected", files=list(result.files), agreed=result.agreed, mismatches=mismatches, unsaid=unsaid)


def check(result: CheckResult) -> str:
    """What was found, worst first, and what is accepted."""
    return _text(
        "check",
        sources=list(result.sources),
        endpoints=result.endpoints,
        counts={severity.value: result.count(severity) for severity in Severity},
        findings=[_finding(finding) for finding in result.findings],
        accepted=[{**_finding(finding), "reason": reason} for finding, reason in result.accepted],
        unknown=list(result.unknown),
    )


# What they have in common --------------------------------------------------------------------------------


def _caller(name: str, caller: Caller | None, roles: RoleTable) -> dict[str, Any]:
    """A caller: the roles it holds directly, and those it holds because of them, of groups and by default."""
    direct, included = roles.direct_and_included(caller)
    found: dict[str, Any] = {"name": name, "signed_in": caller is not None, "id": None, "groups": [], "granted": {}}
    found |= {"roles": list(direct), "included_roles": list(included), "scopes": None}
    if caller is not None:
        # Roles that the policy does not know are held all the same, and count for nothing.
        found["roles"] += sorted({*caller.roles} - {*direct})
        found["id"] = _id(caller.id)
        found["groups"] = sorted(caller.groups)
        found["granted"] = dict(sorted(caller.granted.items()))
        found["scopes"] = sorted(caller.scopes) if caller.scopes is not None else None
    return found


def _id(value: Any) -> Any:
    if value is None or value is UNKNOWN:
        return None
    return value if isinstance(value, int) else str(value)


def _member(member: Member, roles: RoleTable) -> dict[str, Any]:
    caller = _caller(member.name or str(member.id), member.caller(), roles)
    about = {"status": member.status, "active": member.active, "attributes": dict(member.attributes)}
    return {**caller, **about}


def _place(place: Place) -> dict[str, Any]:
    return {"file": place.source.name, "line": place.line, "column": place.column}


def _line(line: Line) -> dict[str, Any]:
    return {"place": _place(line.place), "text": line.text}


def _guard(guard: CompiledGuard | HandlerGuard) -> dict[str, Any]:
    return {"place": _place(guard.place), "text": guard.text}


def _step(step: Step) -> dict[str, Any]:
    line = {"place": _place(step.place), "text": step.line} if step.place is not None else None
    return {"name": step.name, "verdict": step.verdict, "text": step.text, "line": line}


def _answer(answer: Answer) -> dict[str, Any]:
    place = _place(answer.place) if answer.place is not None else None
    return {"status": answer.status, "message": answer.message, "location": answer.location, "place": place}


def _row(row: Row, columns: list[str]) -> dict[str, Any]:
    cells = {name: _cell(row.cell(number)) for number, name in enumerate(columns)}
    return {
        "methods": list(row.methods),
        "template": row.path,
        "exact": row.line.exact,
        "line": _line(row.line),
        "guards": [_guard(guard) for guard in row.line.guards],
        "cells": cells,
    }


def _cell(cell: Cell) -> dict[str, Any]:
    remainder = cell.remainder.words() if cell.remainder is not None else None
    return {"outcome": cell.outcome.value, "remainder": remainder, "standing": [each.words() for each in cell.standing]}


def _surveyed(row: Surveyed) -> dict[str, Any]:
    endpoint = row.endpoint
    return {
        "method": row.method,
        "template": endpoint.template,
        "exact": endpoint.exact,
        "spelling": endpoint.spelling or endpoint.template,
        "kind": endpoint.kind,
        "action": endpoint.action,
        "operation": endpoint.operation,
        "summary": endpoint.summary or None,
        "tags": list(endpoint.tags),
        "guards": [_guard(guard) for guard in endpoint.guards],
        "security": list(endpoint.security) if endpoint.security is not None else None,
        "statuses": {str(status): times for status, times in sorted(endpoint.statuses.items())},
        "sources": list(row.sources),
        "found": endpoint.place or None,
        "requirement": row.line.requirement.words() if row.line is not None else None,
        "line": _line(row.line) if row.line is not None else None,
        "methods_without_line": list(row.closed),
        "rules": [_line(rule) for rule in row.rules],
    }


def _asked(case: Case) -> dict[str, Any]:
    return {
        "method": case.method,
        "template": case.asked.template.text,
        "path": case.raw or case.target,
        "persona": case.persona.name,
        "sample": case.sample or None,
        "spelled": case.spelled or None,
        "declared": case.declared.value,
        "line": _line(case.asked.line) if case.asked.line is not None else None,
    }


def _untried(each: Untried) -> dict[str, Any]:
    asked = each.asked
    return {
        "method": asked.method,
        "template": asked.template.text,
        "persona": each.persona.name,
        "why": each.why,
    }


def _observation(each: Observation) -> dict[str, Any]:
    seen = each.seen
    return {
        "verdict": each.verdict.value,
        **_asked(each.case),
        "observed": seen.came.value,
        "by": seen.by.value or None,
        "text": each.text,
        "status": seen.status or None,
        "location": seen.location or None,
        "changed": seen.changed,
        "exception": seen.note or None,
        "settle": each.settle or None,
        "repeat": list(each.repeat),
    }


def _finding(finding: Finding) -> dict[str, Any]:
    return {
        "name": finding.name,
        "severity": finding.severity.value,
        "place": _place(finding.place),
        "text": finding.text or None,
        "message": finding.message,
        "remedy": finding.remedy,
        "witness": _witness(finding.witness) if finding.witness is not None else None,
        "related": [_place(place) for place in finding.related],
    }


def _witness(witness: Witness) -> dict[str, Any]:
    return {
        "signed_in": witness.roles is not None,
        "roles": list(witness.roles or ()),
        "caller": dict(witness.caller),
        "record": dict(witness.record) if witness.record is not None else None,
        "others": dict(witness.others),
        "method": witness.method,
        "path": witness.path,
        "outcome": witness.outcome,
        "command": command(witness),
    }


REPORTS = {
    MatrixResult: matrix,
    Explanation: decision,
    LinesResult: lines,
    Result: probe,
    PlanResult: plan,
    MembersResult: members,
    SeedResult: seed,
    TokenResult: token,
    MadeToken: made_token,
    FormatResult: formatted,
    SurveyResult: survey,
    TriedResult: tried,
    CheckResult: check,
    AskResult: ask,
    ExpectedResult: expected,
}
