"""What each operation of an OpenAPI document requires: security, roles, and how refusals are answered."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ..core.caller import imagined
from ..core.decision import Outcome
from ..core.matrix import matrix_of_roles, row_of, spreading_of_roles
from ..core.paths import read_path
from ..core.question import Question

if TYPE_CHECKING:
    from ..core.lines import Line
    from ..core.policy import Policy
    from ..survey.coverage import Surveyed, SurveyResult


@dataclass(frozen=True, slots=True)
class Operation:
    """What is filled into one operation.

    Attributes:
        keys: where it is in the document: ``paths``, the path, the method.
        open_to: ``anyone``, ``some`` signed-out callers, or ``nobody`` who is signed out.
        access: what is required, and which roles are let in.
        refusals: what refused callers get, by status, in words.
    """

    keys: tuple[str, str, str]
    open_to: str
    access: dict[str, Any]
    refusals: dict[str, str]


def operations(policy: Policy, surveyed: SurveyResult) -> Iterator[Operation]:
    """Every operation of a document, in its order.

    Args:
        policy: the policy.
        surveyed: the document, held against the policy.
    """
    spreading = spreading_of_roles(policy)
    names = [column.name for column in matrix_of_roles(policy).columns]
    seen: set[tuple[str, str, str]] = set()
    for each in surveyed.endpoints:
        keys = _keys(each)
        # With several servers an operation has several addresses; the first one speaks for it.
        if keys in seen:
            continue
        seen.add(keys)
        if each.line is None:
            refusals = _answers(policy, each)
            yield Operation(keys, "nobody", {"requirement": "nobody", "roles": {}}, refusals)
            continue
        row = row_of(policy, spreading, replace(each.line, template=each.template), (each.method,))
        cells = {name: row.cell(number) for number, name in enumerate(names)}
        signed_out = cells["signed-out"].outcome
        open_to = {Outcome.ALLOW: "anyone", Outcome.DEPENDS: "some"}.get(signed_out, "nobody")
        access: dict[str, Any] = {"requirement": each.line.requirement.words()}
        rules = [rule.requirement.words() for rule in each.rules]
        if rules:
            access["always"] = rules
        access["roles"] = {
            name: cell.words() for name, cell in cells.items() if cell.outcome in (Outcome.ALLOW, Outcome.DEPENDS)
        }
        yield Operation(keys, open_to, access, _answers(policy, each))


def differing(surveyed: SurveyResult) -> Iterator[str]:
    """Operations whose servers lead to different lines, in words: what is filled in goes for the first one."""
    first: dict[tuple[str, str, str], Surveyed] = {}
    for each in surveyed.endpoints:
        other = first.setdefault(_keys(each), each)
        if other.line is not each.line:
            place = f"{each.method} {each.template.text}"
            yield f"{place} is decided otherwise than {other.template.text}, which is what was filled in"


def _keys(each: Surveyed) -> tuple[str, str, str]:
    """Where an operation is: ``paths./trials.get`` says it, and a path may have dots of its own."""
    place = each.endpoint.place.removeprefix("paths.")
    path, _, method = place.rpartition(".")
    return "paths", path, method


def _answers(policy: Policy, each: Surveyed) -> dict[str, str]:
    """What refused callers get, by status: signed-out ones first, then those whose role or condition is not enough."""
    path = each.template.fill(dict.fromkeys(each.template.names, "x"))
    found: dict[str, list[str]] = {}
    for reason in _reasons(policy, each.line, each.method, path):
        answer = policy.answers.answer(each.method, path, reason)
        said = found.setdefault(str(answer.otherwise or answer.status), [])
        if answer.message not in said:
            said.append(answer.message)
    return {status: " ".join(messages) for status, messages in found.items()}


def _reasons(policy: Policy, line: Line | None, method: str, path: str) -> list[str]:
    """Why callers of one kind or another are refused, or may be."""
    if line is None:
        return ["closed"]
    segments = read_path(path) or []
    reasons: dict[str, None] = {}
    for caller in (None, imagined(), *(imagined(name) for name in policy.roles.by_reach())):
        question = Question(caller, method, path)
        question.line, question.routed = line, True
        decision = policy.evaluator.decide_routed(question, segments)
        if decision.reason is not None:
            reasons[decision.reason] = None
        elif decision.outcome is Outcome.DEPENDS:
            reasons |= dict.fromkeys(sorted(policy.evaluator.possible_reasons(decision)))
    return list(reasons)
