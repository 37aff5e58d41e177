"""Samples held against the records that the application itself loads: what these say counts."""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import Mapping
from dataclasses import replace
from itertools import combinations
from typing import TYPE_CHECKING, Any

from ..core.decision import Outcome
from ..core.paths import read_path
from ..core.question import Question
from ..enforce import active_policies
from ..enforce.field_values import values_of
from ..enforce.loaders import Loading, actions_at
from ..settings import Settings, SettingsError
from .marks import lists_as_loaded, texts_for_lists
from .plan import Case, Plan, SkippedRequest

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .application import Application


async def verify(policy: Policy, plan: Plan, application: Application) -> Plan:
    """The plan, with what the record of each sample itself says in the place of what the sample says.

    That is possible where an application in this process is protected, and loads records from the text of a parameter
    alone. A record that is not there cannot be asked for.
    """
    if not application.here:
        return plan
    loaded: dict[tuple[str, str], Any] = {}
    corrected: dict[Case, Case | SkippedRequest] = {}
    made_with = application.made_with
    with made_with.adapter.around_loaders(made_with.app) if made_with is not None else contextlib.nullcontext():
        found = [
            (case, await _records(case, policy, loaded))
            for case in plan.cases
            if case.sample and case.asked.line is not None and not (case.spelled or case.missing or case.crossed)
        ]
    doubtful = _loaded_twice(loaded)
    for case, records in found:
        if isinstance(records, str):
            corrected[case] = SkippedRequest(case.asked, case.persona, records)
        elif records and not any((_key(policy, name, case), case.values[name]) in doubtful for name in records):
            corrected[case] = _by_record(policy, case, records)
    plan = _with(plan, corrected) if corrected else plan
    plan = replace(plan, lists=lists_as_loaded(plan))
    return replace(plan, texts=texts_for_lists(plan, loaded, lambda name, case: _key(policy, name, case)))


async def with_candidates(policy: Policy, settings: Settings, application: Application) -> Settings:
    """The settings with the records of candidates, as the application itself loads them.

    Raises:
        SettingsError: they cannot be loaded from here, or one is not there.
    """
    found: dict[str, dict[str, Any]] = {}
    made_with = application.made_with if application.here else None
    with made_with.adapter.around_loaders(made_with.app) if made_with is not None else contextlib.nullcontext():
        for name, values in settings.candidates.items():
            where = f"{settings.file.name}: samples.{name}"
            loading = _loading(policy, name) if application.here else None
            if loading is None or loading.takes:
                raise SettingsError(
                    f"{where}: no loader of the application reads {name} from its text alone; write records that hold "
                    "and fail under [samples.CONDITION] instead"
                )
            for value in values:
                record = loading.function(value)
                found.setdefault(name, {})[value] = await record if inspect.isawaitable(record) else record
                if found[name][value] is None:
                    raise SettingsError(
                        f"{where}: there is no record for {value}; put it into the data that reset makes"
                    )
    return replace(settings, loaded=found)


def _loading(policy: Policy, name: str, case: Case | None = None) -> Loading | None:
    """What loads the record of a parameter, of a case or of any; None for nothing."""
    thing = policy.roles.things.by_parameter.get(name)
    route = case.asked.route if case is not None else None
    actions = actions_at(route, case.method) if case is not None and route is not None else ()
    alone = case is not None and len(case.asked.template.names) == 1
    return active_policies.loader_of(name, thing.name if thing else None, actions, alone=alone)


def _key(policy: Policy, name: str, case: Case) -> str:
    """What a loader is known by: where it is for one action alone, another parameter of its name is something else."""
    loading = _loading(policy, name, case)
    return name if loading is None or loading is _loading(policy, name) else f"{name} {id(loading.function)}"


def _with(plan: Plan, corrected: Mapping[Case, Case | SkippedRequest]) -> Plan:
    """A plan with other cases in the place of some; what was made of a case goes with it."""
    cases: list[Case] = []
    for case in plan.cases:
        plain = corrected.get(case.plain) if case.plain is not None else None
        if isinstance(plain, SkippedRequest) or (
            isinstance(plain, Case) and plain.allowed and (case.twin or case.crossed)
        ):
            continue
        found = corrected.get(case, case)
        if isinstance(found, Case):
            cases.append(replace(found, plain=plain) if isinstance(plain, Case) else found)
    skipped = dict.fromkeys(each for each in corrected.values() if isinstance(each, SkippedRequest))
    return replace(plan, cases=tuple(cases), untried=(*plan.untried, *skipped))


async def _records(case: Case, policy: Policy, loaded: dict[tuple[str, str], Any]) -> Mapping[str, Any] | str:
    """The records that the parameters of a case lead to; nothing where one cannot be loaded from here.

    Where a record is not there, a sentence that says so.
    """
    records: dict[str, Any] = {}
    for name in case.asked.template.names:
        loading = _loading(policy, name, case)
        text = case.values.get(name)
        if loading is None or text is None:
            continue
        if loading.takes:
            return {}
        key = _key(policy, name, case), text
        if key not in loaded:
            try:
                record = loading.function(text)
                loaded[key] = await record if inspect.isawaitable(record) else record
            except Exception:
                # It may need a request, or a connection that there is only within one.
                return {}
        if loaded[key] is None:
            return (
                f"there is no record for {name} = {text}, which is for {case.sample}; correct the sample, or put the "
                "record into the data that reset makes"
            )
        records[name] = loaded[key]
    return records


def _loaded_twice(loaded: Mapping[tuple[str, str], Any]) -> set[tuple[str, str]]:
    """The numbers for which a loader gave the record of another number: it loads the wrong one, and proves nothing."""
    numbers: dict[str, list[tuple[tuple[str, str], Any]]] = {}
    for key, record in loaded.items():
        if key[1].isdecimal() and record is not None:
            numbers.setdefault(key[0], []).append((key, record))
    return {
        key
        for found in numbers.values()
        for (one, record), (other, another) in combinations(found, 2)
        if int(one[1]) != int(other[1]) and (record is another or _is_alike(record, another))
        for key in (one, other)
    }


def _is_alike(one: Any, other: Any) -> bool:
    """Whether two records have an id, and all that can be read of one is so of the other."""
    fields = values_of(one)
    return "id" in fields and type(one) is type(other) and fields == values_of(other)


def _by_record(policy: Policy, case: Case, records: Mapping[str, Any]) -> Case:
    """A case with what the policy says of the record itself, where that is not what the sample says."""
    question = Question(case.persona.caller, case.method, case.path)
    question.line, question.routed, question.query = case.asked.line, True, {}
    question.record, question.records = [*records.values()][-1], records
    decided = policy.evaluator.decide(question, read_path(case.path.rstrip("/") or "/"))
    if decided.outcome is Outcome.DEPENDS or decided.outcome is case.declared or case.query:
        return case
    # What a sample says of one persona's record need not be so for another.
    refused = not decided.allowed
    return replace(
        case,
        declared=decided.outcome,
        answer=decided.answer,
        sample="as the record itself says",
        known={},
        by_record=refused,
        owned=refused,
    )
