"""Results as JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from ...checks.checking import CheckResult
from ...core.decision import Outcome
from ...core.entrance import Entrance, Treated
from ...core.explanation import Explanation
from ...core.finding import Severity
from ...identity.seed_result import SeedResult
from ...probe.asking import AskResult
from ...probe.result import PlanResult, ProbeResult
from ...probe.verdicts import Verdict
from ...review.expected import ExpectedResult, Mismatch, Redefined
from ...review.reviewed_table import ExpectedDefinition, ExpectedRow
from ...review.tried import TriedResult
from ...survey.coverage import SurveyResult
from ..results import FormatResult, LinesResult, MadeToken, MatrixResult, RolesResult, TokenResult

if TYPE_CHECKING:
    pass

from .pieces import (
    answer_of,
    asked_of,
    caller_of,
    finding_of,
    line_of,
    observation_of,
    place_of,
    row_of,
    step_of,
    surveyed_of,
    untried_of,
)
from .written import written


def matrix(result: MatrixResult) -> Iterator[str]:
    """The matrix: its columns, and a row for each endpoint with a cell for each column."""
    columns = result.matrix.columns
    counts = Counter(cell.outcome for row in result.matrix.rows for cell in result.matrix.cells(row))
    return written(
        "matrix",
        policy=result.policy.title,
        counts={outcome.value: counts[outcome] for outcome in Outcome},
        columns=[{"name": column.name, "description": column.description} for column in columns],
        rows=(row_of(row, [column.name for column in columns]) for row in result.matrix.rows),
    )


def roles(result: RolesResult) -> Iterator[str]:
    """Every role, the roles that it includes, and the endpoints that it adds to theirs."""
    return written(
        "roles",
        policy=result.policy.title,
        roles=[
            {
                "name": role.name,
                "description": role.description,
                "default": role.default,
                "includes": list(role.includes),
                "endpoints": role.total,
                "adds": [{"method": added.method, "path": added.path, "outcome": added.words} for added in role.adds],
            }
            for role in result.roles
        ],
    )


def ask(result: AskResult) -> Iterator[str]:
    """What an application answered to one request, and what is declared for it."""
    response = {
        "status": result.status,
        "headers": [{"name": name, "value": value} for name, value in result.headers],
        "body": result.body,
    }
    return written("ask", response=response, body_sent=result.body_sent or None, declared=_decision(result.explanation))


def decision(result: Explanation) -> Iterator[str]:
    """One decision: outcome, reason, answer, the line that decides, the steps, what remains, who would be let in."""
    return written("decision", **_decision(result))


def _decision(result: Explanation) -> dict[str, Any]:
    made = result.decision
    return {
        "method": result.method,
        "path": result.path,
        "caller": caller_of(result.who, result.caller, result.role_table),
        "outcome": made.outcome.value,
        "reason": made.reason,
        "remainder": result.remainder,
        "answer": answer_of(made.answer) if made.answer is not None else None,
        "line": line_of(made.line) if made.line is not None else None,
        "steps": [step_of(step) for step in made.steps],
        "sufficient_roles": list(result.sufficient_roles),
        "hints": list(result.hints),
    }


def entrance(result: Entrance) -> Iterator[str]:
    """Who gets in at one endpoint: kinds of callers and personas, with those who get the same together."""
    return written(
        "entrance",
        method=result.method,
        path=result.path,
        line=line_of(result.line) if result.line is not None else None,
        rules=[line_of(rule) for rule in result.rules],
        let_in=result.let_in,
        kinds=result.count,
        roles=[_treated(role) for role in result.roles],
        personas=[_treated(persona) for persona in result.personas],
    )


def _treated(treated: Treated) -> dict[str, Any]:
    return {
        "outcome": treated.outcome.value,
        "names": list(treated.names),
        "remainder": treated.remainder,
        "reason": treated.reason,
        "answer": answer_of(treated.answer) if treated.answer is not None else None,
    }


def lines(result: LinesResult) -> Iterator[str]:
    """The lines that cover a request, the one that decides first, and the standing rules beside them."""
    return written(
        "lines",
        method=result.method,
        path=result.path,
        lines=[line_of(line) for line in result.lines],
        rules=[line_of(rule) for rule in result.rules],
    )


def probe(result: ProbeResult) -> Iterator[str]:
    """Every request of a probe with what was declared and observed, and what could not be tried."""
    counts = {verdict.value: result.count(verdict) for verdict in Verdict}
    return written(
        "probe",
        counts={**counts, "not-tried": len(result.untried)},
        observations=(observation_of(observation) for observation in result.observations),
        not_tried=(untried_of(skipped) for skipped in result.untried),
        sign_in_faults=list(result.sign_in_faults),
        stale=[
            {
                "persona": stale.case.persona.name,
                "method": stale.case.method,
                "path": stale.case.target,
                "how": stale.how,
                "seconds": stale.seconds,
                "limit": stale.limit,
            }
            for stale in result.stale
        ],
        notes=list(result.notes),
        url=result.base or None,
        part=result.part or None,
    )


def tried(result: TriedResult) -> Iterator[str]:
    """How many cells of the matrix were tried, and each that was not."""
    return written(
        "tried",
        files=list(result.files),
        cells=result.cells,
        tried=result.cells - len(result.lacking),
        decisions=result.decisions,
        others=result.others,
        unread=result.unread,
        lacking=(
            {
                "methods": list(lacking.row.methods),
                "template": lacking.row.path,
                "column": result.matrix.columns[lacking.column].name,
                "declared": lacking.cell.words(),
                "never": lacking.never,
                "side": lacking.side.strip(", ") or None,
                "line": line_of(lacking.row.line),
            }
            for lacking in result.lacking
        ),
        reported=(
            {
                "method": each.method,
                "template": each.path,
                "who": each.who,
                "outcome": each.outcome,
                "reason": each.reason,
                "count": each.count,
                "callers": each.callers,
                "first": each.first,
                "last": each.last,
                "line": line_of(each.line) if each.line is not None else None,
            }
            for each in result.reported
        ),
    )


def plan(result: PlanResult) -> Iterator[str]:
    """What a probe would ask."""
    return written(
        "plan",
        url=result.base or None,
        requests=(asked_of(case) for case in result.plan.cases),
        not_tried=(untried_of(skipped) for skipped in result.plan.untried),
    )


def seed(result: SeedResult) -> Iterator[str]:
    """What became of each row of a seed."""
    rows = [
        {"kind": row.kind, "name": row.name, "verdict": row.verdict.value, "differences": list(row.differences)}
        for row in result.rows
    ]
    return written("seed", dry_run=result.dry_run, rows=rows)


def token(result: TokenResult) -> Iterator[str]:
    """What a token says and comes to; neither its signature nor a key."""
    examined = result.examined
    caller = examined.counts
    return written(
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
        caller=caller_of(str(caller.id), caller, result.policy.roles) if caller is not None else None,
        permissions=[{"name": name, "remainder": remainder} for name, remainder in examined.permissions],
        lacking=list(examined.lacking),
    )


def made_token(result: MadeToken) -> Iterator[str]:
    """A token made for development."""
    caller = caller_of(result.who, result.caller, result.policy.roles)
    return written("made-token", token=result.token, caller=caller, minutes=result.minutes)


def formatted(result: FormatResult) -> Iterator[str]:
    """Which files are tidy, and what changes in those that are not."""
    files = [{"file": file.name, "tidy": file.tidy, "diff": file.diff or None} for file in result.files]
    return written("format", files=files)


def survey(result: SurveyResult) -> Iterator[str]:
    """Every method of every endpoint, with the line that decides it; lines that cover none; what was left out."""
    return written(
        "survey",
        sources=list(result.sources),
        endpoints=(surveyed_of(row) for row in result.endpoints),
        idle=[line_of(line) for line in result.idle],
        notes=list(result.notes),
    )


def expected(result: ExpectedResult) -> Iterator[str]:
    """What of reviewed tables is not as expected, and what no table has."""
    return written(
        "expected",
        files=list(result.files),
        agreed=result.agreed,
        mismatches=[_mismatch(mismatch) for mismatch in result.mismatches],
        redefined=[_redefined(redefined) for redefined in result.redefined],
        unsaid=[
            {
                "methods": list(row.methods),
                "template": row.path,
                "line": line_of(row.line) if row.line is not None else None,
            }
            for row in result.unsaid
        ],
        callers=list(result.callers),
        empty=result.silent,
        doubts=[{"text": doubt.words, "found": doubt.found} for doubt in result.doubts],
    )


def _mismatch(mismatch: Mismatch) -> dict[str, object]:
    return {
        "method": mismatch.row.method,
        "template": mismatch.row.path,
        "column": mismatch.column,
        "expected": mismatch.expected,
        "actual": mismatch.actual,
        "table": _place_in(mismatch.row),
        "line": line_of(mismatch.line) if mismatch.line is not None else None,
    }


def _redefined(redefined: Redefined) -> dict[str, object]:
    expected, actual = redefined.expected, redefined.actual
    return {
        "definition": redefined.name,
        "expected": expected.text if expected is not None else None,
        "actual": actual.text if actual is not None else None,
        "table": _place_in(expected) if expected is not None else None,
        "place": place_of(actual.place) if actual is not None else None,
    }


def _place_in(row: ExpectedRow | ExpectedDefinition) -> dict[str, object]:
    return {"file": row.file, "line": row.number, "column": 1}


def check(result: CheckResult) -> Iterator[str]:
    """What was found, worst first, and what is accepted."""
    return written(
        "check",
        sources=list(result.sources),
        endpoints=result.endpoints,
        counts={severity.value: result.count(severity) for severity in Severity},
        findings=(finding_of(finding) for finding in result.findings),
        accepted=[{**finding_of(finding), "reason": reason} for finding, reason in result.accepted],
        unknown=list(result.unknown),
    )
