"""What a person wants to know of a decision beside its steps: who would be let in, and what is missing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from .caller import Caller, with_roles
from .decision import Decision, Outcome
from .formulas import Formula
from .requirements import in_words, permissions_in, references_in

if TYPE_CHECKING:
    from .policy import Policy
    from .roles import RoleTable


@dataclass(frozen=True, slots=True)
class Explanation:
    """A decision with what explains it.

    Attributes:
        decision: the decision itself.
        who: what the caller is called.
        method: the request method.
        path: the request path.
        caller: who asks; None for a signed-out caller.
        role_table: the roles of the policy.
        sufficient_roles: roles of which any one alone would have been enough, from least to most.
        remainder: what remains to be known, in words, or None.
        record: an example of the record that would settle it, as JSON, or None.
        records: the same of the records that say what belongs to what, by thing or parameter, or None.
        hints: sentences about what could be written differently.
    """

    decision: Decision
    who: str
    method: str
    path: str
    caller: Caller | None
    role_table: RoleTable
    sufficient_roles: tuple[str, ...]
    remainder: str | None
    record: str | None
    records: str | None
    hints: tuple[str, ...]


def explain(policy: Policy, who: str, caller: Caller | None, method: str, path: str, **values: Any) -> Explanation:
    """Decide a request and gather what explains the decision.

    Args:
        policy: what decides.
        who: what to call the caller.
        caller: who asks; None for a signed-out caller.
        method: the request method.
        path: the request path.
        known: what else `Policy.decide` takes: ``record``, ``query`` and so on.
    """
    # What is refused before its record is known, as a visitor is, never has it loaded.
    early = {name: value for name, value in values.items() if name not in ("record", "records")}
    decision = policy.decide(caller, method, path, **early)
    if decision.reason is None:
        decision = policy.decide(caller, method, path, **values)
    sufficient = []
    if decision.outcome is not Outcome.ALLOW:
        of_caller = (caller.id, caller.attributes) if caller is not None else (None, {})
        held = policy.roles.held(caller).bits
        for role in policy.roles.kinds:
            if not policy.roles.closure_of[role] & ~held:
                continue  # the caller holds it, and it was not enough
            other = with_roles(of_caller[0], (role,), of_caller[1])
            if caller is not None and caller.scopes is not None:
                other = replace(other, scopes=caller.scopes, scoped_roles=caller.scoped_roles)
            if policy.decide(other, method, path, **values).outcome is Outcome.ALLOW:
                sufficient.append(role)
    remainder = decision.remainder
    return Explanation(
        decision,
        who,
        method,
        path,
        caller,
        policy.roles,
        tuple(sufficient),
        in_words(remainder) if remainder is not None else None,
        _record(remainder) if remainder is not None else None,
        _records(policy, decision) if remainder is not None else None,
        tuple(_hints(policy, caller, decision, sufficient) or _about_token(policy, caller, decision, values)),
    )


def _about_token(policy: Policy, caller: Caller | None, decision: Decision, values: dict[str, Any]) -> list[str]:
    """Where a token was made for too little: what it is for, and that its owner would be let in."""
    if caller is None or caller.scopes is None or decision.outcome is Outcome.ALLOW:
        return []
    question = decision.question
    whole = policy.decide(replace(caller, scopes=None), question.method, question.path, **values)
    if whole.outcome is Outcome.DENY:
        return []
    roles = [f"lines for {role}" for role in sorted(caller.scoped_roles or ())]
    given = ", ".join((*sorted(caller.scopes), *roles)) or "nothing that is asked here"
    hints = [f"the owner of the token would not be refused; the token is for {given}"]
    asks = [] if decision.line is None else permissions_in(decision.line.requirement.formula)
    if caller.scoped_roles is not None and not any(True for _ in asks):
        hints.append("a line that asks for no permission is open where a scope gives the role, or signed-in")
    return hints


def _record(remainder: Formula) -> str | None:
    """A record with the attributes that a remainder requires, their values left open."""
    names = dict.fromkeys(reference.names[0] for reference in references_in(remainder) if reference.root == "record")
    return "{" + ", ".join(f'"{name}": ...' for name in names) + "}" if names else None


def _records(policy: Policy, decision: Decision) -> str | None:
    """The records that have to be known to say where a request is, the attributes that say it left open."""
    if not policy.roles.things:
        return None
    examples = {}
    wanted = policy.evaluator.wanted(decision.question, decision.line)
    for each in wanted:
        alone = sum(other.thing == each.thing for other in wanted) == 1
        example = "..."
        for name in reversed(policy.roles.things.by_name[each.thing].by):
            example = f'{{"{name}": {example}}}'
        examples[each.thing if alone or each.parameter is None else each.parameter] = example
    return "{" + ", ".join(f'"{name}": {example}' for name, example in examples.items()) + "}" if examples else None


def _hints(policy: Policy, caller: Caller | None, decision: Decision, sufficient: list[str]) -> list[str]:
    """Where a role was missing: that a higher role does not count as a lower one unless it includes it."""
    if decision.reason != "role" or caller is None or not sufficient:
        return []
    held = [role for role in policy.roles.bit if role in caller.roles]
    if not set(sufficient).isdisjoint(policy.roles.names(policy.roles.held(caller).bits)):
        # The line refuses a role by name: no inclusion would help.
        return []
    hints = []
    for role in held:
        included = [name for name in policy.roles.names(policy.roles.closure[role]) if name != role]
        hints.append(f"{role} includes {', '.join(included) or 'no other role'}, and none of them is enough")
    if held:
        hints.append(
            f'if {held[0]} should count as {sufficient[0]}, write "{held[0]} includes {sufficient[0]}" under roles'
        )
    return hints
