"""How all that is asked of a caller is weighed: the outcome, the reason, and the steps for those who want to know."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, NamedTuple

from .caller import Caller, CallerView
from .conditions import FAULTY, TRUE, UNKNOWN, Facts, Formula, Known, both, can_be_true, findings
from .decision import Outcome, Step, may_hold
from .requirements import asks_in_words, conditions_in, in_words, permissions_in
from .roles import SIGNED_OUT, Held, RoleTable

if TYPE_CHECKING:
    from .lines import Line


class Asked(NamedTuple):
    """What one line asks, and what is known where it is: its own template names the parameters of the path."""

    line: Line
    formula: Formula
    facts: Facts


@dataclass(slots=True)
class Trace:
    """The steps of a decision, kept only when somebody asks for them."""

    steps: list[Step] = field(default_factory=list)

    def add(self, name: str, verdict: str, text: str, line: Line | None = None) -> None:
        where, written = (line.place.at, line.text) if line is not None else ("", "")
        self.steps.append(Step(name, verdict, text, where, written))


def facts_for(held: Held, caller: Caller | None, **supplied: Any) -> Facts:
    """What is known of a caller and of all that is supplied beside, for folding formulas."""
    moment = supplied.pop("now", None) or datetime.datetime.now(datetime.UTC)
    if caller is None or held.apart:
        # Who holds what nobody may hold together counts as nobody at all, not even as a visitor.
        bits = 0 if held.apart else held.bits
        return Facts(bits, bits, now=moment, **supplied)
    scopes = frozenset(caller.scopes) if caller.scopes is not None else None
    return Facts(
        held.bits,
        held.bits,
        caller=CallerView(caller),
        now=moment,
        scopes=scopes,
        granted=caller.granted,
        **supplied,
    )


def weigh(
    roles: RoleTable,
    asked: list[Asked],
    held: Held,
    caller: Caller | None,
    trace: Trace | None,
) -> tuple[Outcome, str | None, Formula | None]:
    """Outcome, reason and remainder for all that is asked, standing rules first and the endpoint last."""
    line = asked[-1].line
    folded = [each.formula.fold(each.facts) for each in asked]
    if held.apart:
        if all(formula is TRUE for formula in folded):
            return Outcome.ALLOW, None, None
        return Outcome.DENY, "apart", None
    if caller is None and not may_hold(folded) and opens_after_sign_in(roles, asked):
        if trace:
            trace.add("sign-in", "refused", "the caller is signed out; somebody signed in might be let in", line)
        return Outcome.SIGN_IN, "signed-out", None
    remains = []
    for (each, _, facts), formula in zip(asked, folded, strict=True):
        if not can_be_true(formula):
            return Outcome.DENY, _reason(roles, each, facts, caller, trace, is_rule=each is not line), None
        if trace:
            _tell(trace, each, formula, facts, is_rule=each is not line)
        if formula is not TRUE:
            remains.append(formula)
    if remains:
        return Outcome.DEPENDS, None, both(remains)
    return Outcome.ALLOW, None, None


def opens_after_sign_in(roles: RoleTable, asked: list[Asked]) -> bool:
    """Whether a signed-in caller might be let in where this signed-out caller is not."""
    return may_hold(
        [
            each.formula.fold(replace(each.facts, certain=roles.base, possible=~SIGNED_OUT, caller=UNKNOWN))
            for each in asked
        ]
    )


def _reason(
    roles: RoleTable, line: Line, facts: Facts, caller: Caller | None, trace: Trace | None, *, is_rule: bool
) -> str:
    """Why a line refuses: being signed in, roles and permissions, or a condition."""
    where = "standing" if is_rule else "roles"
    if caller is not None:
        visitor = replace(facts, certain=SIGNED_OUT, possible=SIGNED_OUT, caller=None, scopes=None, granted=None)
        if can_be_true(line.requirement.fold(visitor)):
            if trace:
                trace.add(where, "refused", "the page is for signed-out visitors, and the caller is signed in", line)
            return "signed-in"
    # With every question about conditions left open, only roles and permissions can refuse.
    roles_alone = line.requirement.fold(
        Facts(
            facts.certain,
            facts.possible,
            caller=UNKNOWN,
            scopes=facts.scopes,
            granted=facts.granted,
            guarded=facts.guarded,
        )
    )
    if not can_be_true(roles_alone):
        if trace:
            has = ", ".join(roles.names(facts.certain)) or "no role"
            trace.add(where, "refused", f"asks for {asks_in_words(line.requirement)}; the caller has {has}", line)
        return "role"
    for condition in conditions_in(roles_alone):
        if not can_be_true(condition.fold(facts)):
            if trace:
                value = condition.fold(facts)
                verdict = value.name if isinstance(value, Known) else "never true"
                found = ", ".join(findings(condition, facts))
                text = f"{condition.name} is {verdict}: {condition.test.words()}" + (f" ({found})" if found else "")
                if value is FAULTY and found:
                    text = f"{condition.name} is faulty: {found}; it asks for {condition.test.words()}"
                trace.add("standing" if is_rule else "conditions", "refused", text, line)
            return condition.name
    if trace:
        text = f"what remained to be asked does not hold: {roles_alone.words()}"
        trace.add("standing" if is_rule else "conditions", "refused", text, line)
    return next((condition.name for condition in conditions_in(roles_alone)), "condition")


def _tell(trace: Trace, line: Line, formula: Formula, facts: Facts, *, is_rule: bool) -> None:
    """The step of a line that does not refuse."""
    name = "standing" if is_rule else "roles"
    asked = line.requirement.words()
    if formula is TRUE:
        trace.add(name, "passed", f"asks for {asked}, which holds{_by_grant(line.requirement, facts)}", line)
    else:
        trace.add("standing" if is_rule else "conditions", "open", f"depends on {in_words(formula)}", line)


def _by_grant(formula: Formula, facts: Facts) -> str:
    """Which of the permissions asked for the caller has only because they were granted outside of the policy."""
    message = ""
    for asked in permissions_in(formula):
        name = asked.named_by(facts.granted or {})
        if name is not None and asked.grants.fold(facts) is not TRUE:
            message += f"; {name} was granted by {(facts.granted or {})[name]}"
    return message
