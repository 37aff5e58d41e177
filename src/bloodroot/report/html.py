"""Pages, each whole in itself: nothing is loaded from elsewhere."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from ..probe.judging import Verdict
from ..probe.result import Result
from .table.words import plural

if TYPE_CHECKING:
    from ..probe.judging import Observation

_WORDS = {
    Verdict.HOLE: "hole",
    Verdict.BLOCKED: "blocked",
    Verdict.OTHER: "refused otherwise",
    Verdict.INCONCLUSIVE: "inconclusive",
    Verdict.AGREE: "agree",
}


def probe(result: Result) -> str:
    """What a probe found: what is not as declared first, then every endpoint against every persona."""
    personas = list(dict.fromkeys(each.case.persona.name for each in result.observations))
    rows: dict[int, dict[str, Any]] = {}
    for each in result.observations:
        if each.case.spelled:
            continue
        asked = each.case.asked
        row = rows.setdefault(id(asked), {"name": asked.name, "place": asked.declared_at, "cells": {}})
        row["cells"].setdefault(each.case.persona.name, []).append(each)
    findings = [each for verdict in list(_WORDS)[:-1] for each in result.observations if each.verdict is verdict]
    return _page(
        "probe.html",
        result=result,
        counts=[(_WORDS[verdict], verdict.value, result.count(verdict)) for verdict in _WORDS],
        findings=[_finding(each) for each in findings],
        personas=personas,
        rows=[{**row, "cells": [_cell(row["cells"].get(name, [])) for name in personas]} for row in rows.values()],
        requests=plural(len(result.observations), "request"),
    )


def _finding(each: Observation) -> dict[str, Any]:
    case = each.case
    return {
        "verdict": each.verdict.value,
        "word": _WORDS[each.verdict],
        "name": case.asked.name,
        "persona": case.persona.name,
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


def _page(name: str, **values: Any) -> str:
    environment = Environment(
        loader=PackageLoader("bloodroot.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template(name).render(**values)


REPORTS = {Result: probe}
