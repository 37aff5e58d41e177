"""Results as JSON, for programs."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ..core.explanation import Explanation
    from ..core.lines import Line
    from ..core.policy import Policy
    from ..identity.examination import Examined
    from ..identity.rows import Member
    from ..identity.sown import Sown


def decision(result: Explanation) -> str:
    """One decision: outcome, reason, answer, the line that decides, the steps, what remains, who would be let in."""
    made = result.decision
    answer = made.answer
    data: dict[str, Any] = {
        "method": result.method,
        "path": result.path,
        "caller": result.who,
        "roles": list(result.roles),
        "outcome": made.outcome.value,
        "reason": made.reason,
        "remainder": result.remains,
        "answer": None,
        "line": _line(made.line) if made.line is not None else None,
        "steps": [
            {
                "step": step.name,
                "verdict": step.verdict,
                "text": step.text,
                "at": step.where or None,
                "line": step.line or None,
            }
            for step in made.steps
        ],
        "enough": list(result.enough),
        "hints": list(result.hints),
    }
    if answer is not None:
        data["answer"] = {
            "status": answer.status,
            "message": answer.message,
            "location": answer.location,
            "at": answer.place.at if answer.place is not None else None,
        }
    return _text(data)


def lines(method: str, path: str, found: list[Line], rules: list[Line]) -> str:
    """The lines that cover a path, the one that decides first, and the standing rules beside them."""
    data = {
        "method": method,
        "path": path,
        "lines": [_line(line) for line in found],
        "always": [_line(rule) for rule in rules],
    }
    return _text(data)


def members(found: list[Member], policy: Policy) -> str:
    """Members with the roles they hold, directly and by inclusion."""
    data = [
        {
            "id": member.id if isinstance(member.id, int) else str(member.id),
            "status": member.status,
            "active": member.active,
            "roles": sorted(member.roles),
            "holds": list(policy.roles.names(policy.roles.held(member.caller()).bits)),
            "groups": sorted(member.groups),
            "granted": dict(sorted(member.granted.items())),
            "attributes": dict(member.attributes),
        }
        for member in found
    ]
    return _text(data)


def sown(result: Sown) -> str:
    """What became of each row of a seed."""
    rows = [
        {"kind": row.kind, "name": row.name, "verdict": row.verdict.value, "differences": list(row.differences)}
        for row in result.rows
    ]
    return _text({"dry_run": result.dry_run, "rows": rows})


def token(result: Examined, policy: Policy) -> str:
    """What a token says and comes to; neither its signature nor a key."""
    counts = result.counts
    data = {
        "believed": counts is not None,
        "fault": result.fault,
        "header": result.header,
        "claims": result.claims,
        "steps": [
            {"what": step.what, "claim": step.where, "gives": list(step.gives), "notes": list(step.notes)}
            for step in result.steps
        ],
        "hints": list(result.hints),
        "directory": result.fresh,
        "id": counts.id if counts is not None else None,
        "roles": list(policy.roles.names(policy.roles.held(counts).bits)) if counts is not None else [],
        "permissions": dict(result.permissions),
    }
    return _text(data)


def _text(data: Any) -> str:
    return json.dumps(data, indent=2, ensure_ascii=False, default=str) + "\n"


def _line(line: Line) -> dict[str, Any]:
    return {"at": line.place.at, "text": line.text}
