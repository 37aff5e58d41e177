"""Two policies side by side, as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from ..compared import ORDER
from .pieces import place_of

if TYPE_CHECKING:
    from ...comparison.changes import CellChange, EndpointChange, NameChange, PolicyComparison, Shown
    from ...core.lines import ActionLine, Line
from .written import written


def compare(result: PolicyComparison) -> Iterator[str]:
    """Every change."""
    counts = result.counts()
    return written(
        "compare",
        old=result.old.name,
        new=result.new.name,
        same_access=result.same_access,
        opens=result.opens,
        counts={change.value: counts[change] for change in ORDER},
        cells=(_cell(cell) for cell in result.cells),
        endpoints={
            "new": [_endpoint(endpoint) for endpoint in result.endpoints if endpoint.new],
            "gone": [_endpoint(endpoint) for endpoint in result.endpoints if not endpoint.new],
        },
        fields=[_named(field) for field in result.fields],
        permissions=[_named(permission) for permission in result.permissions],
        conditions=[_named(condition) for condition in result.conditions],
        declared=[
            {
                "kind": declared.kind,
                "name": declared.name,
                "old": list(declared.old) if declared.old is not None else None,
                "new": list(declared.new) if declared.new is not None else None,
                "opens": declared.opens,
            }
            for declared in result.declared
        ],
        left_open=list(result.left_open),
    )


def _cell(change: CellChange) -> dict[str, Any]:
    return {
        "method": change.method,
        "path": change.path,
        "role": change.role,
        "holding": change.holding or None,
        "change": change.change.value,
        "old": change.old,
        "new": change.new,
        "proved": change.proved,
        "witness": _shown(change.shown) if change.shown is not None else None,
        "old_line": _line(change.old_line),
        "new_line": _line(change.new_line),
    }


def _shown(shown: Shown) -> dict[str, Any]:
    witness = shown.witness
    return {
        "signed_in": witness.roles is not None,
        "roles": list(witness.roles or ()),
        "caller": dict(witness.caller),
        "record": dict(witness.record) if witness.record is not None else None,
        "others": dict(witness.others),
        "method": witness.method,
        "path": witness.path,
        "old": shown.old,
        "new": shown.new,
        "command": shown.command,
    }


def _endpoint(change: EndpointChange) -> dict[str, Any]:
    return {"method": change.method, "path": change.path, "line": _line(change.line), "covered": _line(change.covered)}


def _named(change: NameChange) -> dict[str, Any]:
    return {
        "name": change.name,
        "verb": change.verb or None,
        "role": change.role or None,
        "change": change.change.value,
        "old": change.old,
        "new": change.new,
        "proved": change.proved,
    }


def _line(line: Line | ActionLine | None) -> dict[str, Any] | None:
    if line is None:
        return None
    return {"place": place_of(line.place), "text": " ".join(line.place.text.split(" #")[0].split())}
