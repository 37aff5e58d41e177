"""What results have in common, each thing with one shape in JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ...checks.witnesses import command
from ...core.finding import Witness
from ...core.records import UNKNOWN

if TYPE_CHECKING:
    from ...core.answers import Answer
    from ...core.caller import Caller
    from ...core.decision import Step
    from ...core.finding import Finding
    from ...core.lines import CompiledGuard, Line
    from ...core.matrix import Cell, Row
    from ...core.roles import RoleTable
    from ...identity.members import Member
    from ...language.problems import Place
    from ...probe.plan import Case, SkippedRequest
    from ...probe.verdicts import Observation
    from ...survey.coverage import Surveyed
    from ...survey.endpoints import HandlerGuard


def caller_of(name: str, caller: Caller | None, roles: RoleTable) -> dict[str, Any]:
    """A caller: the roles it holds directly, and those it holds because of them, of groups and by default."""
    direct, included = roles.direct_and_included(caller)
    values: dict[str, Any] = {"name": name, "signed_in": caller is not None, "id": None, "groups": [], "granted": {}}
    values |= {"roles": list(direct), "included_roles": list(included), "scopes": None}
    if caller is not None:
        # Roles that the policy does not know are held all the same, and count for nothing.
        values["roles"] += sorted({*caller.roles} - {*direct})
        values["id"] = id_of(caller.id)
        values["groups"] = sorted(caller.groups)
        values["granted"] = dict(sorted(caller.granted.items()))
        values["scopes"] = sorted(caller.scopes) if caller.scopes is not None else None
        if caller.roles_in:
            values["roles_in"] = {
                thing: {
                    "" if identifier is None else str(identifier): sorted(names)
                    for identifier, names in records.items()
                }
                for thing, records in caller.roles_in.items()
            }
    return values


def id_of(value: Any) -> Any:
    """The id of a caller: a whole number, or text."""
    if value is None or value is UNKNOWN:
        return None
    return value if isinstance(value, int) else str(value)


def member_of(member: Member, roles: RoleTable) -> dict[str, Any]:
    """A member of a directory."""
    caller = caller_of(member.name or str(member.id), member.caller(), roles)
    about = {"status": member.status, "active": member.active, "attributes": dict(member.attributes)}
    return {**caller, **about}


def place_of(place: Place) -> dict[str, Any]:
    """File, line and column."""
    return {"file": place.source.name, "line": place.line, "column": place.column}


def line_of(line: Line) -> dict[str, Any]:
    """A line, with its place."""
    return {"place": place_of(line.place), "text": line.text}


def guard_of(guard: CompiledGuard | HandlerGuard) -> dict[str, Any]:
    """A guard, with its place."""
    return {"place": place_of(guard.place), "text": guard.text}


def step_of(step: Step) -> dict[str, Any]:
    """A step of a decision."""
    line = {"place": place_of(step.place), "text": step.line} if step.place is not None else None
    return {"name": step.name, "verdict": step.verdict, "text": step.text, "line": line}


def answer_of(answer: Answer) -> dict[str, Any]:
    """What a refused caller gets."""
    place = place_of(answer.place) if answer.place is not None else None
    return {"status": answer.status, "message": answer.message, "location": answer.location, "place": place}


def row_of(row: Row, columns: list[str]) -> dict[str, Any]:
    """A row of the matrix."""
    cells = {name: cell_of(row.cell(number)) for number, name in enumerate(columns)}
    return {
        "methods": list(row.methods),
        "template": row.path,
        "exact": row.line.exact,
        "line": line_of(row.line),
        "guards": [guard_of(guard) for guard in row.line.guards],
        "cells": cells,
    }


def cell_of(cell: Cell) -> dict[str, Any]:
    """A cell of the matrix."""
    remainder = cell.remainder.words() if cell.remainder is not None else None
    return {
        "outcome": cell.outcome.value,
        "remainder": remainder,
        "standing": [formula.words() for formula in cell.standing],
    }


def surveyed_of(row: Surveyed) -> dict[str, Any]:
    """An endpoint of a survey."""
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
        "guards": [guard_of(guard) for guard in endpoint.guards],
        "security": list(endpoint.security) if endpoint.security is not None else None,
        "statuses": {str(status): times for status, times in sorted(endpoint.statuses.items())},
        "sources": list(row.sources),
        "found": endpoint.place or None,
        "requirement": row.line.requirement.words() if row.line is not None else None,
        "line": line_of(row.line) if row.line is not None else None,
        "methods_without_line": list(row.closed),
        "rules": [line_of(rule) for rule in row.rules],
    }


def asked_of(case: Case) -> dict[str, Any]:
    """A request of a probe."""
    return {
        "method": case.method,
        "template": case.asked.template.text,
        "path": case.raw or case.target,
        "persona": case.persona.name,
        "sample": case.sample or None,
        "spelled": case.spelled or None,
        "declared": case.declared.value,
        "line": line_of(case.asked.line) if case.asked.line is not None else None,
    }


def untried_of(skipped: SkippedRequest) -> dict[str, Any]:
    """What a probe could not ask."""
    endpoint = skipped.asked
    return {
        "method": endpoint.method,
        "template": endpoint.template.text,
        "persona": skipped.persona.name,
        "why": skipped.why,
    }


def observation_of(observation: Observation) -> dict[str, Any]:
    """What came of a request."""
    seen = observation.seen
    return {
        "verdict": observation.verdict.value,
        **asked_of(observation.case),
        "observed": seen.came.value,
        "by": seen.by.value or None,
        "text": observation.text,
        "status": seen.status or None,
        "location": seen.location or None,
        "changed": seen.changed,
        "exception": seen.note or None,
        "settle": observation.settle or None,
        "repeat": list(observation.repeat),
    }


def finding_of(finding: Finding) -> dict[str, Any]:
    """A finding of a check."""
    return {
        "name": finding.name,
        "severity": finding.severity.value,
        "place": place_of(finding.place),
        "text": finding.text or None,
        "message": finding.message,
        "remedy": finding.remedy,
        "witness": witness_of(finding.witness) if finding.witness is not None else None,
        "related": [place_of(place) for place in finding.related],
    }


def witness_of(witness: Witness) -> dict[str, Any]:
    """A caller and a request that show something."""
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
