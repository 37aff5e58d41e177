"""Results as JSON, for programs."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ..core.explanation import Explanation
    from ..core.lines import Line


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
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def lines(method: str, path: str, found: list[Line], rules: list[Line]) -> str:
    """The lines that cover a path, the one that decides first, and the standing rules beside them."""
    data = {
        "method": method,
        "path": path,
        "lines": [_line(line) for line in found],
        "always": [_line(rule) for rule in rules],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def _line(line: Line) -> dict[str, Any]:
    return {"at": line.place.at, "text": line.text}
