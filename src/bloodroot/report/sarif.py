"""SARIF 2.1.0 (OASIS), for code hosts and editors that show findings beside the lines they are about."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from ..checks.checking import KINDS, CheckResult
from .repository_names import in_repository

if TYPE_CHECKING:
    from ..core.finding import Finding
    from ..language.problems import Place

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def check(result: CheckResult) -> str:
    """One run: a rule for each kind of finding, a result for each finding; what is accepted is suppressed."""
    from .. import __version__

    names = list(KINDS)
    rules = [
        {
            "id": kind.name,
            "shortDescription": {"text": kind.summary},
            "help": {"text": kind.remedy},
            "defaultConfiguration": {"level": kind.severity.value},
        }
        for kind in KINDS.values()
    ]
    results = [_result(finding, names) for finding in result.findings]
    for finding, reason in result.accepted:
        suppressed = {"kind": "inSource", "justification": reason}
        results.append({**_result(finding, names), "suppressions": [suppressed]})
    run = {
        "tool": {"driver": {"name": "Bloodroot", "version": __version__, "rules": rules}},
        "columnKind": "unicodeCodePoints",
        "results": results,
    }
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=False) + "\n"


def _result(finding: Finding, names: list[str]) -> dict[str, Any]:
    result: dict[str, Any] = {
        "ruleId": finding.name,
        "ruleIndex": names.index(finding.name),
        "level": finding.severity.value,
        "message": {"text": f"{finding.message} {finding.remedy}"},
        "locations": [_location(finding.place)],
    }
    if finding.related:
        result["relatedLocations"] = [_location(place) for place in finding.related]
    return result


def _location(place: Place) -> dict[str, Any]:
    region = {"startLine": place.line, "startColumn": place.column, "endColumn": place.column + max(1, place.length)}
    return {
        "physicalLocation": {"artifactLocation": {"uri": quote(in_repository(place.source.name))}, "region": region}
    }
