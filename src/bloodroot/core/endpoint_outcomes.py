"""What an endpoint asks, and says to a caller, before there is a request: nothing is known but its line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .closed_tokens import opened_by_scopes
from .decision import Outcome
from .evaluate import Weighed, beside_guards, outcome_left, outcome_of_all
from .formulas import Disjunction, Formula, both, can_be_true
from .locating import Together
from .methods import covers
from .reasons import opens_after_sign_in
from .request_facts import counted_as, facts_of
from .requirements import OtherPath, permissions_in, references_in

if TYPE_CHECKING:
    from collections.abc import Sequence

    from .caller import Caller
    from .lines import Line
    from .policy import Policy


def asked_at(policy: Policy, line: Line, method: str) -> list[tuple[Line, Formula]]:
    """All that is asked of a caller at an endpoint, whatever the parameters of its path turn out to be.

    Returns:
        The standing rules that concern the endpoint and the endpoint's own line, each with what it asks.
    """
    formulas: list[tuple[Line, Formula]] = []
    for rule in policy.lookup.rules_near(line.template) if policy.standing else ():
        if covers(rule.methods, method):
            formula = beside_guards(rule.requirement.formula, line)
            if rule.overlaps(line.template) is None:
                formula = Disjunction((OtherPath(rule.pattern), formula))
            formulas.append((rule, formula))
    formulas.append((line, line.requirement.formula))
    return formulas


def asks_for(policy: Policy, root: str, line: Line, method: str) -> bool:
    """Whether what is asked at an endpoint rests on ``record``, ``query`` or another root of references."""
    return any(
        reference.root == root for _, formula in asked_at(policy, line, method) for reference in references_in(formula)
    )


def outcome_at(policy: Policy, line: Line, method: str, caller: Caller | None) -> Weighed:
    """What an endpoint says to a caller; without a reason."""
    return outcome_of(policy, [formula for _, formula in asked_at(policy, line, method)], caller)


def outcome_of(policy: Policy, formulas: Sequence[Formula], caller: Caller | None) -> Weighed:
    """What comes of all that standing rules and a line, which comes last, ask; without a reason."""
    counted = counted_as(policy.roles, caller)
    if len(counted) > 1:
        return outcome_of_all([outcome_of(policy, formulas, other) for other in counted])._replace(reason=None)
    facts = facts_of(policy.roles, caller)
    facts.now = None
    left = [formula.fold(facts) for formula in formulas]
    if facts.allowed != -1:
        about_caller = facts.with_(allowed=-1, hidden_allowed=-1)
        line = max(place for place, formula in enumerate(formulas) if not isinstance(formula, Together))
        left = [
            opened_by_scopes(formula).fold(facts) if place == line else formula.fold(about_caller)
            for place, formula in enumerate(formulas)
        ]
    if not all(map(can_be_true, left)):
        if caller is None and opens_after_sign_in(policy.roles, ((formula, facts) for formula in formulas)):
            return Weighed(Outcome.SIGN_IN)
        return Weighed(Outcome.DENY)
    return outcome_left(left)


def left_of(policy: Policy, formula: Formula, caller: Caller | None, *, at_any_time: bool = False) -> Formula:
    """What is left of a requirement for a caller of whom alone something is known, and perhaps the time."""
    every = [facts_of(policy.roles, counted) for counted in counted_as(policy.roles, caller)]
    for facts in every if at_any_time else ():
        facts.now = None
    return both(formula.fold(facts) for facts in every)


def remainders(policy: Policy, caller: Caller | None) -> dict[str, Formula]:
    """What remains of each permission for a caller of whom alone something is known.

    Returns:
        By name, in the order of the file and then of the lines: every permission declared or asked for somewhere.
    """
    requirements = [line.requirement for line in policy.endpoints] + [line.requirement for line in policy.unbound]
    by_name = dict.fromkeys(permission.name for asks in requirements for permission in permissions_in(asks.formula))
    found = {}
    for name in (*policy.permissions, *by_name):
        permission = policy.resolver.permission(name)
        if permission is not None and not name.endswith("*"):
            found[name] = left_of(policy, permission, caller, at_any_time=True)
    return found
