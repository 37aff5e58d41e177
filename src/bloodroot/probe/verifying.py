"""Samples held against the records that the application itself loads, before anything is asked."""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from ..core.decision import Outcome
from ..core.paths import read_path
from ..core.question import Question
from ..enforce import active_policies
from ..settings import SettingsError

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .application import Application
    from .planning import Case, Plan


async def verify(policy: Policy, plan: Plan, application: Application) -> None:
    """See that the record of each sample is there, and is as the sample says.

    That is possible where an application in this process is protected, and loads records from the text of a parameter
    alone.

    Raises:
        SettingsError: a record is not there, or a condition is not as its sample says.
    """
    if not application.here:
        return
    loaded: dict[tuple[str, str], Any] = {}
    made_with = application.made_with
    with made_with[0].around_loaders(made_with[1]) if made_with is not None else contextlib.nullcontext():
        for case in plan.cases:
            if case.sample and case.asked.line is not None and not case.spelled:
                records = await _records(policy, case, loaded)
                if records:
                    _hold(policy, case, records)


async def _records(policy: Policy, case: Case, loaded: dict[tuple[str, str], Any]) -> Mapping[str, Any]:
    """The records that the parameters of a case lead to; nothing where one cannot be loaded from here."""
    records: dict[str, Any] = {}
    for name in case.asked.template.names:
        thing = policy.roles.things.by_parameter.get(name)
        loading = active_policies.loader_of(name) or (active_policies.loader_of(thing.name) if thing else None)
        text = case.values.get(name)
        if loading is None or text is None:
            continue
        loader, takes_request, _ = loading
        if takes_request:
            return {}
        if (name, text) not in loaded:
            try:
                record = loader(text)
                loaded[name, text] = await record if inspect.isawaitable(record) else record
            except Exception:
                # It may need a request, or a connection that there is only within one.
                return {}
        if loaded[name, text] is None:
            raise SettingsError(
                f"samples: there is no record for {name} = {text}, which is for {case.sample}; "
                "correct the sample, or put the record into the data that reset makes"
            )
        records[name] = loaded[name, text]
    return records


def _hold(policy: Policy, case: Case, records: Mapping[str, Any]) -> None:
    question = Question(case.persona.caller, case.method, case.path)
    question.line, question.routed, question.query = case.asked.line, True, {}
    question.record, question.records = [*records.values()][-1], records
    decided = policy.evaluator.decide(question, read_path(case.path.rstrip("/") or "/"))
    if decided.outcome is not Outcome.DEPENDS and decided.outcome is not case.declared and not case.query:
        raise SettingsError(
            f"samples: {case.method} {case.path} was to be a record where {case.sample} for {case.persona.name}, and "
            f"the record says otherwise: with it the policy says {decided.outcome.value}, not {case.declared.value}; "
            "correct the sample"
        )
