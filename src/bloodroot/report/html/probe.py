"""What a probe found, as a page."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ...probe.judging import Verdict
from ...probe.result import ProbeResult
from ..sheet import plural
from .page import page

if TYPE_CHECKING:
    from ...probe.judging import Observation

_WORDS = {
    Verdict.HOLE: "hole",
    Verdict.BLOCKED: "blocked",
    Verdict.OTHER: "refused otherwise",
    Verdict.INCONCLUSIVE: "inconclusive",
    Verdict.AGREE: "agree",
}


def probe(result: ProbeResult) -> str:
    """What a probe found: what is not as declared first, then every endpoint against every persona."""
    personas = list(dict.fromkeys(each.case.persona.name for each in result.observations))
    rows: dict[int, dict[str, Any]] = {}
    for each in result.observations:
        if each.case.spelled:
            continue
        asked = each.case.asked
        row = rows.setdefault(id(asked), {"name": asked.name, "place": asked.declared_at, "cells": {}})
        row["cells"].setdefault(each.case.persona.name, []).append(each)
    groups: dict[tuple[object, ...], list[Observation]] = {}
    for verdict in list(_WORDS)[:-1]:
        for each in result.observations:
            if each.verdict is verdict:
                case = each.case
                key = (id(case.asked), each.text, case.declared, case.sample, case.spelled)
                groups.setdefault(key, []).append(each)
    return page(
        "probe.html",
        result=result,
        counts=[(_counted(verdict, result), verdict.value, result.count(verdict)) for verdict in _WORDS],
        findings=[_finding(group) for group in groups.values()],
        personas=personas,
        rows=[{**row, "cells": [_cell(row["cells"].get(name, [])) for name in personas]} for row in rows.values()],
        requests=plural(len(result.observations), "request"),
    )


def _counted(verdict: Verdict, result: ProbeResult) -> str:
    return "holes" if verdict is Verdict.HOLE and result.count(verdict) != 1 else _WORDS[verdict]


def _finding(group: list[Observation]) -> dict[str, Any]:
    """What is alike for several personas, told of the first."""
    each = group[0]
    case = each.case
    return {
        "verdict": each.verdict.value,
        "word": _WORDS[each.verdict],
        "name": case.asked.name,
        "personas": ", ".join(dict.fromkeys(other.case.persona.name for other in group)),
        "sample": case.sample,
        "declared": case.declared.value,
        "text": each.text,
        "request": f"{case.method} {case.raw or case.target}",
        "status": each.seen.status,
        "location": each.seen.location,
        "note": each.seen.note,
        "settle": each.settle,
        "place": case.asked.declared_at or "no line covers this",
        "line": case.asked.line.text if case.asked.line is not None else "",
        "repeat": each.repeat,
    }


def _cell(found: list[Observation]) -> dict[str, str]:
    """The worst of the verdicts on one endpoint as one persona."""
    if not found:
        return {"verdict": "none", "word": "not asked", "text": ""}
    worst = min(found, key=lambda each: list(_WORDS).index(each.verdict))
    if worst.verdict is not Verdict.AGREE:
        return {"verdict": worst.verdict.value, "word": _WORDS[worst.verdict], "text": worst.text}
    declared = list(dict.fromkeys(each.case.declared.value for each in found))
    return {"verdict": "agree", "word": " / ".join(declared), "text": ", ".join(each.case.sample for each in found)}
