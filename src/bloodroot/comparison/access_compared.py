"""What becomes of what is asked, for one kind of caller after another."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from ..core.caller import Caller
from ..core.decision import Outcome
from ..core.endpoint_outcomes import left_of, outcome_of
from ..core.formulas import FALSE, TRUE, Formula, can_be_true, walk
from ..core.locating import there_of
from ..core.policy import Policy
from ..core.reasoning import Proof, Reasoner
from ..core.requirements import HELD, in_words, permissions_in
from ..core.roles import ANYONE
from .caller_kinds import (
    CallerKind,
    asks_for_defaults,
    asks_together,
    given_by_roles,
    kind_apart,
    kinds_apart_once,
    kinds_by_permission,
    kinds_together,
    telling_roles,
)
from .changes import Change
from .situations import Terms

# What one policy asks; nothing where everything is closed.
Asked = tuple[Formula, ...]


@dataclass(frozen=True, slots=True)
class KindAccess:
    """What one kind of caller gets.

    Attributes:
        outcome: the outcome.
        when: when it is let in: always, never, or where this is true.
    """

    outcome: Outcome
    when: Formula

    @property
    def words(self) -> str:
        """``allow``, ``deny``, ``sign-in`` or ``if own-trial``."""
        return f"if {self.when.words()}" if self.outcome is Outcome.DEPENDS else self.outcome.value

    @property
    def full_words(self) -> str:
        """The same with what each condition asks."""
        return f"if {in_words(self.when)}" if self.outcome is Outcome.DEPENDS else self.outcome.value


@dataclass(frozen=True, slots=True)
class ComparedKind:
    """What changes for one kind of caller.

    Attributes:
        kind: the kind.
        old: what it got.
        new: what it gets.
        change: what becomes of it; None where nothing does.
        proved: whether that is certain.
        opening: values for which the new policy lets in and the old one does not, by the words of the references; None
            where none are known.
        closing: values for which it is the other way round.
    """

    kind: CallerKind
    old: KindAccess
    new: KindAccess
    change: Change | None
    proved: bool = True
    opening: Mapping[str, Any] | None = None
    closing: Mapping[str, Any] | None = None

    def words(self) -> tuple[str, str]:
        """What it was and what it is; with what conditions ask where they have kept their names."""
        old, new = self.old.words, self.new.words
        return (old, new) if old != new else (self.old.full_words, self.new.full_words)


def access_at_endpoint(policy: Policy, formulas: Asked, caller: Caller | None) -> KindAccess:
    """What a caller gets where standing rules and a line ask this."""
    if not formulas:
        return KindAccess(Outcome.DENY, FALSE)
    outcome, _, remainder = outcome_of(policy, formulas, caller)
    return KindAccess(outcome, remainder if remainder is not None else TRUE if outcome is Outcome.ALLOW else FALSE)


def access_by_formula(policy: Policy, formulas: Asked, caller: Caller | None) -> KindAccess:
    """What a caller gets of a field, or of a permission that code asks for."""
    left = left_of(policy, formulas[0], caller, at_any_time=True)
    if left is TRUE:
        return KindAccess(Outcome.ALLOW, TRUE)
    return KindAccess(Outcome.DEPENDS, left) if can_be_true(left) else KindAccess(Outcome.DENY, FALSE)


Weigh = Callable[[Policy, Asked, Caller | None], KindAccess]


@dataclass(slots=True)
class AccessComparison:
    """Compares what is asked by two policies, and remembers what it has compared.

    Attributes:
        reasoner: what says whether one condition implies another.
        singles: the kinds of callers that are compared everywhere.
        terms: the terms of both policies.
        apart_once: roles and groups that are kept apart in one policy only, because of what they give there.
        counting: whether there are tokens that count for some roles of their owner alone.
        left_open: whether something had more combinations of roles than are looked at.
        asks_for_defaults: whether something asks for what every signed-in caller holds. It does not count for tokens
            that count for some roles of their owner alone: these tell apart what is the same for all others.
        counting_open: whether such tokens may see a change of access.
    """

    old: Policy
    new: Policy
    reasoner: Reasoner
    singles: tuple[CallerKind, ...]
    terms: tuple[Terms, Terms]
    apart_once: tuple[tuple[str, ...], ...] = ()
    counting: bool = False
    left_open: bool = False
    asks_for_defaults: bool = False
    counting_open: bool = False
    _known: dict[tuple[object, object], tuple[ComparedKind, ...]] = field(default_factory=dict)

    def weigh(
        self, questions: tuple[Asked, Asked], keys: tuple[object, object], access: Weigh = access_at_endpoint
    ) -> tuple[ComparedKind, ...]:
        """Every kind of caller and what changes for it, the ones with one role or none first, in their order.

        Args:
            asked: what the old policy asks, and what the new one asks.
            keys: of what is asked, equal where the same is asked again.
            access: what a kind of caller gets.
        """
        weighed = self._known.get(keys)
        if weighed is None:
            weighed = self._known[keys] = tuple(self._weighed(questions, access))
        return weighed

    def _weighed(self, questions: tuple[Asked, Asked], access: Weigh) -> Iterator[ComparedKind]:
        weighed = list(self._each(self.singles, questions, access))
        yield from weighed
        for each in self.others(questions, access):
            # Callers who see no more change than those with fewer roles are not worth another line.
            if each.change is not None and not any(
                other.change is each.change and _goes_for(other.kind, each.kind) for other in weighed
            ):
                weighed.append(each)
                yield each

    def others(self, questions: tuple[Asked, Asked], access: Weigh) -> Iterator[ComparedKind]:
        """What changes for callers with several roles, for those with permissions of their own, and for tokens."""
        formulas = (*questions[0], *questions[1])
        if self.counting:
            self._look_at_counting(questions)
        together: list[CallerKind] = []
        if max(map(asks_together, questions)) > 1:
            together, complete = kinds_together(self.old, self.new, questions)
            self.left_open = self.left_open or not complete
        kinds = kind_apart(self.old, self.new) + together
        if self.apart_once:
            telling = telling_roles(self.old, self.new, formulas)
            apart, complete = kinds_apart_once(self.apart_once, telling, together)
            self.left_open = self.left_open or not complete
            kinds += apart
        if any(True for formula in formulas for _ in permissions_in(formula)):
            by_permission, complete = kinds_by_permission(self.old, self.new, questions, together)
            self.left_open = self.left_open or not complete
            kinds += by_permission
        yield from self._each(kinds, questions, access)

    def _look_at_counting(self, questions: tuple[Asked, Asked]) -> None:
        sides = [*zip((self.old, self.new), self.terms, questions, strict=True)]
        if not any(asks_for_defaults(policy, formulas) for policy, _, formulas in sides):
            return
        self.asks_for_defaults = True
        asked = [tuple(terms.key(formula) for formula in formulas) for _, terms, formulas in sides]
        given = [given_by_roles(policy, formulas) for policy, _, formulas in sides]
        self.counting_open = self.counting_open or asked[0] != asked[1] or given[0] != given[1]

    def _each(
        self, kinds: Iterable[CallerKind], questions: tuple[Asked, Asked], access: Weigh
    ) -> Iterator[ComparedKind]:
        by_key: dict[object, ComparedKind] = {}
        telling = self.telling(questions)
        for kind in kinds:
            # Most roles make no difference to most endpoints.
            key = telling(kind)
            if key not in by_key:
                by_key[key] = self._of(kind, questions, access)
            yield replace(by_key[key], kind=kind)

    def telling(self, questions: tuple[Asked, Asked]) -> Callable[[CallerKind], object]:
        """What of a kind of caller makes a difference to what is asked: equal for those that get the same."""
        sides = [(policy, _bits_in(formulas)) for policy, formulas in zip((self.old, self.new), questions, strict=True)]

        def key(kind: CallerKind) -> object:
            caller = kind.caller()
            held = [(policy.roles.held(caller), mask) for policy, mask in sides]
            in_things = (_held_in_things(policy, caller, mask) for policy, mask in sides)
            return (
                kind.granted,
                kind.scopes,
                kind.closed,
                *((each.bits & mask, bool(each.apart)) for each, mask in held),
                *in_things,
            )

        return key

    def _of(self, kind: CallerKind, formulas: tuple[Asked, Asked], access: Weigh) -> ComparedKind:
        caller = kind.caller()
        return self.compared(kind, access(self.old, formulas[0], caller), access(self.new, formulas[1], caller))

    def compared(self, kind: CallerKind, old: KindAccess, new: KindAccess) -> ComparedKind:
        """What becomes of access."""
        if old.when is FALSE and new.when is FALSE:
            return ComparedKind(kind, old, new, Change.ANSWER if old.outcome is not new.outcome else None)
        if self.terms[0].key(old.when) == self.terms[1].key(new.when):
            wider = narrower = Proof(True)
        else:
            wider, narrower = self.reasoner.implies(new.when, old.when), self.reasoner.implies(old.when, new.when)
        change, proved = self._change(old, new, wider, narrower)
        opening = wider.assignment if wider.holds is False else None
        closing = narrower.assignment if narrower.holds is False else None
        return ComparedKind(kind, old, new, change, proved, opening, closing)

    def _change(self, old: KindAccess, new: KindAccess, wider: Proof, narrower: Proof) -> tuple[Change | None, bool]:
        """What becomes of access, and whether that is certain."""
        if wider.holds and narrower.holds:
            # Refused alike, though one of them only after a condition that never holds.
            return (Change.ANSWER if self._refused(old) and old.outcome is not new.outcome else None), True
        if old.when is FALSE:
            return Change.GAINED, wider.holds is False
        if new.when is FALSE:
            return Change.LOST, narrower.holds is False
        if wider.holds is False and narrower.holds:
            return Change.WIDENED, True
        if narrower.holds is False and wider.holds:
            return Change.NARROWED, True
        return Change.DIFFERENT, wider.holds is False and narrower.holds is False

    @staticmethod
    def _refused(access: KindAccess) -> bool:
        return access.when is FALSE


def _held_in_things(policy: Policy, caller: Caller | None, mask: int) -> object:
    """What of a kind of caller's roles in things is asked for: where it is asked about, and somewhere."""
    if caller is None or not caller.roles_in:
        return None
    there = there_of(policy.roles, caller, None)
    return there.here & mask, there.blocked & mask, there.somewhere & mask


def _bits_in(formulas: Asked) -> int:
    """The roles that formulas ask for, and whether a caller is signed in."""
    bits = ANYONE
    for formula in formulas:
        for part in walk(formula):
            if isinstance(part, HELD):
                bits |= part.mask
    return bits


def _goes_for(one: CallerKind, other: CallerKind) -> bool:
    """Whether what is said of one kind goes for another, which has all that it has and perhaps more."""
    if one.roles is None or other.roles is None:
        return False
    has_all = set(one.roles) <= set(other.roles) and set(one.granted) <= set(other.granted)
    return has_all and (one.scopes is None or (one.scopes, one.closed) == (other.scopes, other.closed))
