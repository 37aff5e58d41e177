"""Why a request is refused: the part of a requirement that does not hold, and the steps in words."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from .caller import roles_in_records
from .conditions import Condition, findings
from .decision import Step, StepVerdict
from .formulas import FAULTY, TRUE, Conjunction, Constant, Disjunction, Facts, Formula, can_be_true, walk
from .records import UNKNOWN
from .requirements import ANY_GRANT, HoldingAt, HoldingIn, in_words, permissions_in, requirement_in_words
from .roles import SIGNED_OUT, RoleTable
from .roles_in import NOWHERE, RolesIn

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .caller import Caller
    from .lines import CompiledGuard, Line
    from .locating import There
    from .roles import Held

UNNAMED = "condition"  # the reason where no condition with a name is to blame


@dataclass(slots=True)
class Trace:
    """The steps of a decision, written down only where they are asked for."""

    steps: list[Step] = field(default_factory=list)

    def add(self, name: str, verdict: StepVerdict, text: str, line: Line | CompiledGuard | None = None) -> None:
        place, written = (line.place, line.text) if line is not None else (None, "")
        self.steps.append(Step(name, verdict, text, place, written))

    def add_caller(self, caller: Caller | None, held: Held) -> None:
        """Write down what of a caller gives nothing here."""
        for name in held.unknown:
            self.add("caller", StepVerdict.PASSED, f"the policy does not know the {name}, so it gives no role here")
        for note in caller.notes if caller is not None else ():
            self.add("caller", StepVerdict.PASSED, note)


def as_signed_in(facts: Facts, roles: RoleTable) -> Facts:
    """The facts with a signed-in caller of whom nothing is known: any roles, attributes and grants are possible."""
    return facts.with_(
        certain=roles.base,
        possible=~SIGNED_OUT,
        caller=UNKNOWN,
        scopes=None,
        hidden=None,
        allowed=-1,
        hidden_allowed=-1,
        granted=ANY_GRANT,
        there=None,
    )


def opens_after_sign_in(roles: RoleTable, parts: Iterable[tuple[Formula, Facts]]) -> bool:
    """Whether a signed-in caller might be let in where this signed-out caller is not, of whom this is known."""
    return all(can_be_true(formula.fold(as_signed_in(facts, roles))) for formula, facts in parts)


def as_signed_out(facts: Facts) -> Facts:
    """The facts with a signed-out caller."""
    return facts.with_(
        certain=SIGNED_OUT,
        possible=SIGNED_OUT,
        caller=None,
        scopes=None,
        hidden=None,
        allowed=-1,
        hidden_allowed=-1,
        granted=None,
        there=None,
    )


def reason_of(
    roles: RoleTable,
    line: Line | CompiledGuard,
    requirement: Formula,
    facts: Facts,
    caller: Caller | None,
    trace: Trace | None,
    *,
    is_rule: bool,
) -> str:
    """Why a line, whose requirement cannot hold any more, refuses: being signed in, roles, or a condition."""
    if (
        caller is not None
        and can_be_true(requirement.fold(as_signed_out(facts)))
        and not can_be_true(requirement.fold(as_signed_in(facts.with_(record=None, records=None), roles)))
    ):
        if trace:
            text = "the page is for signed-out callers, and the caller is signed in"
            trace.add("standing" if is_rule else "roles", StepVerdict.REFUSED, text, line)
        return "signed-in"
    left = roles_alone(requirement, facts)
    if not can_be_true(left):
        if trace:
            text = f"requires {requirement_in_words(requirement)}; the caller has {_held(roles, facts)}"
            trace.add("standing" if is_rule else "roles", StepVerdict.REFUSED, text, line)
        return "role"
    blamed = blame(left, facts)
    if blamed is None and any(isinstance(part, HoldingAt) for part in walk(left)):
        if trace:
            text = f"{_does_not_hold(left, facts)}; the caller has {_held(roles, facts)}"
            trace.add("standing" if is_rule else "roles", StepVerdict.REFUSED, text, line)
        return "role"
    if trace:
        text = _failed(blamed, facts) if blamed is not None else _does_not_hold(left, facts)
        trace.add("standing" if is_rule else "conditions", StepVerdict.REFUSED, text, line)
    return blamed.name if blamed is not None else UNNAMED


def _held(roles: RoleTable, facts: Facts) -> str:
    """The roles that a caller has, in words; those in things with where they are held, and where this is."""
    there: There | None = facts.there
    everywhere = [
        f"{role} in every {thing}" for role, thing in roles.in_thing.items() if facts.certain & roles.bit_in[role]
    ]
    found = [*roles.names(facts.certain), *everywhere, *roles_in_records(there.caller if there is not None else None)]
    text = ", ".join(found) or "no role"
    if facts.scopes is not None:
        text += ", with a token made for less"
    location = there.location if there is not None else None
    return "; ".join([text, *location.steps]) if location is not None else text


def roles_alone(requirement: Formula, facts: Facts) -> Formula:
    """What is left of a requirement where roles and permissions are known, and no condition is."""
    by_roles = Facts(
        facts.certain,
        facts.possible,
        caller=UNKNOWN,
        scopes=facts.scopes,
        hidden=facts.hidden,
        allowed=facts.allowed,
        hidden_allowed=facts.hidden_allowed,
        granted=facts.granted,
        guarded=facts.guarded,
        there=facts.there,
    )
    return requirement.fold(by_roles)


def blame(formula: Formula, facts: Facts) -> Condition | None:
    """The first named condition without which a formula that cannot hold might hold; None where none has a name.

    A condition that holds is never to blame, nor one that is asked for only in another alternative which might hold.
    """
    if isinstance(formula, Condition):
        return formula
    if isinstance(formula, Conjunction | Disjunction):
        # All alternatives have failed; of what must hold together, some parts have.
        for part in formula.parts:
            if not can_be_true(part.fold(facts)):
                cause = blame(part, facts)
                if cause is not None:
                    return cause
    return None


def blamable(formula: Formula) -> set[str]:
    """Every reason that `blame` may lead to for a remainder, whatever the facts turn out to be."""
    if isinstance(formula, Condition):
        return {formula.name}
    found: set[str] = set()
    if isinstance(formula, Conjunction):
        for part in formula.parts:
            found |= blamable(part)
    elif isinstance(formula, Disjunction):
        # All of them have failed, so that the first one with a name is to blame.
        for part in formula.parts:
            found = (found - {UNNAMED}) | blamable(part)
            if UNNAMED not in found:
                break
    return found or {UNNAMED}


def _failed(condition: Condition, facts: Facts) -> str:
    value = condition.fold(facts)
    words = ", ".join(findings(condition, facts))
    if value is FAULTY and words:
        return f"{condition.name} is faulty: {words}; it requires {condition.test.words()}"
    verdict = value.name if isinstance(value, Constant) else "never true"
    return f"{condition.name} is {verdict}: {condition.test.words()}" + (f" ({words})" if words else "")


def _does_not_hold(left: Formula, facts: Facts) -> str:
    words = ", ".join(findings(left, facts))
    return f"this does not hold: {in_words(left)}" + (f"; {words}" if words else "")


def add_passed(
    trace: Trace, line: Line | CompiledGuard, requirement: Formula, formula: Formula, facts: Facts, *, is_rule: bool
) -> None:
    """Write down the step of a line that does not refuse: its requirement has come to a formula."""
    name = "standing" if is_rule else "roles"
    if formula is TRUE:
        held = f"{_by_grant(requirement, facts)}{_held_here(requirement, facts)}"
        text = f"requires {requirement.words()}, which holds{held}"
        trace.add(name, StepVerdict.PASSED, text, line)
    else:
        trace.add("standing" if is_rule else "conditions", StepVerdict.OPEN, f"depends on {in_words(formula)}", line)


def _held_here(formula: Formula, facts: Facts) -> str:
    """Where the caller holds a role of a thing that is required, by the chain that leads there."""
    there: There | None = facts.there
    location = there.location if there is not None else None
    if there is None or location is None or not any(isinstance(part, HoldingIn) for part in walk(formula)):
        return ""
    held = there.caller.roles_in if there.caller is not None else NOWHERE
    places = [
        f"{' and '.join(sorted(names))} in {thing} {value.words().strip(chr(34))}"
        for thing, value in location.records.items()
        if isinstance(held, RolesIn) and (names := held.at(thing, value.value, textual=value.textual))
    ]
    steps = [*location.steps, *([f"the caller is {', '.join(places)}"] if places else [])]
    return f"; {'; '.join(steps)}" if steps else ""


def _by_grant(formula: Formula, facts: Facts) -> str:
    """Which grant gives the caller each of the permissions: one of the policy, or one from outside of it."""
    granted = facts.granted or {}
    message = ""
    for permission in permissions_in(formula):
        grants = permission.grants.parts if isinstance(permission.grants, Disjunction) else (permission.grants,)
        given = next((grant for grant in grants if grant.fold(facts) is TRUE), None)
        name = permission.named_by(granted)
        if given is not None:
            message += f"; {permission.name} is given to {given.words()}"
        elif name is not None and permission.grants.fold(facts) is not TRUE:
            message += f"; {name} was granted by {granted[name]}"
    return message
