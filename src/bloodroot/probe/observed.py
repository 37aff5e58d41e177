"""What a probe saw of each endpoint, in the words of an expected matrix: a column for each persona."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from ..expected import Actual, ActualRow
from .facts import Came
from .judging import Verdict

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .judging import Observation
    from .result import Result


def as_it_is(policy: Policy, result: Result) -> Actual:
    """What the application answered, endpoint by endpoint.

    A cell is ``allow``, ``deny``, ``sign-in``, ``if NAME`` where it depends on a condition of which there are samples,
    ``mixed`` where no one condition explains it, ``?`` where an answer is inconclusive, and empty where no one asked.
    """
    groups: dict[int, dict[str, list[Observation]]] = {}
    asked = {}
    for each in result.observations:
        if not each.case.spelled:
            asked[id(each.case.asked)] = each.case.asked
            groups.setdefault(id(each.case.asked), {}).setdefault(each.case.persona.name, []).append(each)

    def row(number: int) -> ActualRow:
        found: Mapping[str, list[Observation]] = groups[number]
        endpoint = asked[number]
        return ActualRow(
            (endpoint.method,), endpoint.template.text, lambda name: _cell(policy, found.get(name, [])), endpoint.line
        )

    return Actual(policy, map(row, groups))


def _cell(policy: Policy, found: list[Observation]) -> str:
    if not found:
        return ""
    words = [_word(each) for each in found]
    if "?" in words:
        return "?"
    if len(set(words)) == 1:
        return words[0]
    case = found[0].case
    if case.asked.line is not None and all(each.verdict is Verdict.AGREE for each in found):
        _, remainder = policy.engine.outcome_at(case.asked.line, case.asked.method, case.persona.caller)
        if remainder is not None:
            return f"if {remainder.words()}"
    for name in case.known:
        truths = [each.case.known.get(name) for each in found]
        if all((word == "allow") is truth for word, truth in zip(words, truths, strict=True)):
            return f"if {name}"
    return "mixed"


def _word(each: Observation) -> str:
    if each.verdict is Verdict.INCONCLUSIVE:
        return "?"
    if each.let_in:
        return "allow"
    return "sign-in" if each.seen.came is Came.SIGN_IN or each.case.declared.value == "sign-in" else "deny"
