"""Fields of records: text that shows a field to callers who may not read it, and changes without the right."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ..core.conditions import Condition
from ..core.decision import Outcome
from ..core.endpoint_outcomes import left_of
from ..core.formulas import TRUE, Formula, can_be_true, known, mapped
from ..core.request_facts import counted_as, facts_of
from ..settings import Body, Persona, Settings
from .plan import Case, Plan, Secret
from .thing_samples import ThingSamples

if TYPE_CHECKING:
    from ..core.policy import Policy


def with_fields(plan: Plan, policy: Policy, settings: Settings) -> Plan:
    """A plan that knows of the fields which the settings have marks and values for.

    Args:
        plan: the plan.
        policy: what is declared.
        settings: the marks, the values, and where fields are changed.
    """
    secrets = {name: [*planned] for name, planned in plan.secrets.items()}
    rules: dict[str, list[tuple[Secret, Formula]]] = {}
    for persona in settings.personas.values():
        for secret, left in _read_rules(policy, settings, persona):
            if can_be_true(left):
                rules.setdefault(persona.name, []).append((secret, left))
            else:
                secrets.setdefault(persona.name, []).append(secret)
    cases = [_with_rules(case, rules.get(case.persona.name, [])) for case in plan.cases]
    plan = replace(plan, cases=tuple(cases))
    more = {case.key: case for case in _changes(plan, policy, settings)}
    whole = {name: tuple(found) for name, found in secrets.items()}
    return replace(plan, cases=(*plan.cases, *more.values()), secrets=whole)


def _read_rules(policy: Policy, settings: Settings, persona: Persona) -> Iterator[tuple[Secret, Formula]]:
    """The marked fields, each with what reading it still depends on for a persona."""
    for kind, fields in settings.probe.fields.items():
        for name, mark in fields.marks.items():
            left = left_of(policy, policy.fields[kind].required(name, "read"), persona.caller)
            if left is not TRUE:
                yield Secret(mark, f"which is {name} of {kind}, and not for them to read"), left


def _with_rules(case: Case, rules: list[tuple[Secret, Formula]]) -> Case:
    """A request with the fields that the persona may not read in its very record, as far as that is known."""
    hides: list[Secret] = []
    perhaps: list[Secret] = []
    for secret, left in rules:
        here = mapped(left, lambda part: _known_part(part, case.known))
        if not can_be_true(here):
            hides.append(secret)
        elif here is not TRUE:
            perhaps.append(secret)
    return replace(case, hides=tuple(hides), perhaps=tuple(perhaps)) if hides or perhaps else case


def _known_part(part: Formula, truths: Mapping[str, bool]) -> Formula | None:
    return known(truths[part.name]) if isinstance(part, Condition) and part.name in truths else None


def _may(policy: Policy, persona: Persona, kind: str, name: str, verb: str) -> bool:
    """Whether a persona may change a field, of some record at least."""
    return can_be_true(left_of(policy, policy.fields[kind].required(name, verb), persona.caller))


def _changes(plan: Plan, policy: Policy, settings: Settings) -> Iterator[Case]:
    """Requests by personas who may use an endpoint, each with one field that they may not change."""
    for kind, fields in settings.probe.fields.items():
        for case in plan.cases:
            if not case.allowed or case.spelled or not _is_one_of(case, fields.change):
                continue
            for name, value in fields.values.items():
                may = _may(policy, case.persona, kind, name, "change")
                if not may or not _may_move(policy, settings, case, kind, {name: value}):
                    body = _with_field(case.body, name, value)
                    yield replace(
                        case,
                        declared=Outcome.DENY,
                        body=body,
                        spelled=f"{name} of {kind}",
                        changes=f"{name} of {kind}",
                        plain=case,
                    )


def _with_field(body: Body | None, name: str, value: Any) -> Body:
    """The body that an endpoint takes, with one field more, or another one in its place."""
    form = body is not None and body.kind == "form"
    before = body.content if body is not None and isinstance(body.content, Mapping) else {}
    return Body("form", {**before, name: str(value)}) if form else Body("json", {**before, name: value})


def _may_move(policy: Policy, settings: Settings, case: Case, kind: str, changes: dict[str, Any]) -> bool:
    """Whether a persona may move a record into another one, where a change does that; as far as it is known."""
    if kind not in policy.roles.things.by_name:
        return True
    record = ThingSamples(policy.roles.things, settings).record(kind, case.values)
    moved = policy.moved(kind, record, changes) if record is not None else None
    if moved is None:
        return True
    required = policy.fields[kind].required(moved.attribute, "change")
    every = counted_as(policy.roles, case.persona.caller)
    return all(
        can_be_true(required.fold(facts_of(policy.roles, caller, each)))
        for caller in every
        for each in (record, moved.record)
    )


def _is_one_of(case: Case, endpoints: tuple[str, ...]) -> bool:
    line = case.asked.line
    names = (case.asked.name, f"{case.asked.method} {line.template.text}" if line is not None else "")
    return any(name in endpoints for name in names)
