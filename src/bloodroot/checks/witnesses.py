"""Callers and requests that show a finding: made from an assignment, and confirmed by a decision."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

from ..core.caller import Caller, imagined
from ..core.decision import Outcome
from ..core.finding import Witness
from ..core.formulas import TRUE, Formula
from ..core.methods import ANY
from ..core.records import MISSING
from .reach import Unit
from .subject import Subject


def witness_of(
    subject: Subject,
    unit: Unit,
    columns: int,
    assignment: Mapping[str, Any] | None = None,
    allowed: Formula = TRUE,
) -> Witness | None:
    """A caller of one of some columns, and a request, that an endpoint lets in; None where none is certain.

    Args:
        subject: what is checked.
        unit: the endpoint.
        columns: kinds of callers, as bits.
        assignment: values for the references, by their words.
        allowed: on what it depends for these callers.
    """
    if assignment is None:
        proof = subject.reasoner.never(allowed)
        if proof.holds is not False:
            return None
        assignment = proof.assignment or {}
    given = by_root(assignment)
    caller = given.get("caller", {})
    roles = subject.reach.roles_of(columns)
    if roles is None and caller:
        return None
    values = {name: str(given.get("path", {}).get(name, "x")) for name in unit.template.names}
    path = unit.template.fill(values)
    method = "POST" if unit.method == ANY else unit.method
    others = {name: value for name, value in assignment.items() if name.partition(".")[0] in ("query", "args", "now")}
    decided = subject.policy.decide(
        _caller(roles, caller),
        method,
        path,
        record=given.get("record"),
        records=given.get("records"),
        query=given.get("query") or {},
        args=given.get("args"),
        now=assignment.get("now"),
    )
    if decided.outcome not in (Outcome.ALLOW, Outcome.DEPENDS):
        return None
    return Witness(roles, caller, given.get("record"), others, method, path, decided.outcome.value)


def _caller(roles: tuple[str, ...] | None, attributes: Mapping[str, Any]) -> Caller | None:
    if roles is None:
        return None
    if not attributes:
        return imagined(*roles)
    rest = {name: value for name, value in attributes.items() if name != "id"}
    return Caller(attributes.get("id"), roles, attributes=rest)


def by_root(assignment: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """An assignment as the objects that its references lead through."""
    trees: dict[str, dict[str, Any]] = {}
    for name, value in assignment.items():
        root, *names = name.split(".")
        inner = trees.setdefault(root, {})
        if not names or value is MISSING:
            continue
        for each in names[:-1]:
            inner = inner.setdefault(each, {})
        inner[names[-1]] = value
    trees.pop("now", None)
    return trees


def command(witness: Witness) -> str | None:
    """The command that shows what a policy says of a witness; None where a command line cannot say it."""
    path = witness.path
    query = {name.removeprefix("query."): value for name, value in witness.others.items() if name.startswith("query.")}
    if len(query) < len(witness.others) or any(not isinstance(value, str) for value in query.values()):
        return None
    if any("," in name for name in witness.roles or ()):
        return None  # a group with a comma in its name
    if query:
        path += f"?{urlencode(query)}"
    who = "signed-out" if witness.roles is None else ",".join(witness.roles) or "signed-in"
    words = ["bloodroot", "why", who, witness.method, path]
    try:
        if witness.caller:
            words += ["--caller", json.dumps(dict(witness.caller), allow_nan=False)]
        if witness.record is not None:
            words += ["--record", json.dumps(dict(witness.record), allow_nan=False)]
    except (TypeError, ValueError):
        return None
    return shlex.join(words)
