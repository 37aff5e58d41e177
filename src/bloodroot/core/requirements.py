"""What a line or a guard asks of the caller, over role bits; and what can be said of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType
from typing import TYPE_CHECKING

from .conditions import Clock, Comparison, Condition, Holds, Listed, Now, Operand, Reference, Shifted, resolve
from .formulas import (
    CAN_BE_FALSE,
    CAN_BE_FAULTY,
    CAN_BE_TRUE,
    FALSE,
    FAULTY,
    TRUE,
    Constant,
    Disjunction,
    Facts,
    Formula,
    Leaf,
    either,
    mapped,
    walk,
)
from .locating import Together
from .records import MISSING
from .roles import ANYONE, SIGNED_IN, SIGNED_OUT, kind_of_role
from .values import Value

if TYPE_CHECKING:
    from collections.abc import Collection, Iterator

    from .locating import There


@dataclass(frozen=True, slots=True)
class Holding(Leaf):
    """The caller holds at least one of these bits: a role, or being signed in or out.

    Attributes:
        mask: the bits.
        name: the role.
        implied: whether no one has written it: that ``not`` speaks of signed-in callers.
    """

    mask: int
    name: str
    implied: bool = False

    def fold(self, facts: Facts) -> Formula:
        mask = self.mask
        if facts.allowed != -1 and mask & ANYONE != ANYONE and not self.implied:
            mask &= facts.allowed
        if facts.certain & mask:
            return TRUE
        return self if facts.possible & mask else FALSE

    def words(self) -> str:
        return self.name


@dataclass(frozen=True, slots=True)
class HoldingIn(Leaf):
    """The caller holds a role in the record of a thing that is asked about, or holds it everywhere.

    Attributes:
        mask: the bit of the role; it has another one in another policy.
        name: the role.
        thing: what it is held in.
        of: the thing of the record at hand where no parameter of the path says what it is: that of the permission, or
            of the fields; None for none.
    """

    mask: int = field(compare=False)
    name: str
    thing: str
    of: str | None = None

    def fold(self, facts: Facts) -> Formula:
        there: There | None = facts.there
        mask = self.mask & facts.allowed
        if there is None:
            if facts.certain & mask:
                return TRUE
            return self if facts.possible & mask else FALSE
        if self.of is not None and there.record is not None:
            there = there.of_record(self.of)
        if there.here & mask:
            return TRUE
        if there.blocked & mask:
            return FAULTY
        if facts.certain & mask:
            return self if there.may_be_blocked else TRUE
        if there.unclear & mask:
            return FAULTY
        return self if (there.perhaps | facts.possible) & mask else FALSE

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE | CAN_BE_FAULTY

    def words(self) -> str:
        return self.kind

    @property
    def kind(self) -> str:
        """The role as a kind of caller."""
        return kind_of_role(self.name, self.thing)


@dataclass(frozen=True, slots=True)
class HoldingSomewhere(Leaf):
    """The caller holds a role in some record of its thing: ``editor in any studio``."""

    mask: int = field(compare=False)
    name: str
    thing: str

    def fold(self, facts: Facts) -> Formula:
        there: There | None = facts.there
        mask = self.mask & facts.allowed
        if facts.certain & mask or (there is not None and there.somewhere & mask):
            return TRUE
        possible = facts.possible | (there.perhaps if there is not None else 0)
        return self if possible & mask else FALSE

    def words(self) -> str:
        return f"{self.name} in any {self.thing}"

    @property
    def kind(self) -> str:
        """The role as a kind of caller."""
        return kind_of_role(self.name, self.thing)


@dataclass(frozen=True, slots=True)
class HoldingAt(Leaf):
    """The caller holds a role in the record that something names: ``editor in args.studio_id``."""

    mask: int = field(compare=False)
    name: str
    thing: str
    where: Operand

    def fold(self, facts: Facts) -> Formula:
        mask = self.mask & facts.allowed
        there: There | None = facts.there
        is_certain = bool(facts.certain & mask)
        if is_certain and (there is None or not there.is_blocking):
            return TRUE
        possible = facts.possible | (there.perhaps | there.somewhere if there is not None else 0)
        if not possible & mask:
            return FALSE
        value = resolve(self.where, facts)
        if not isinstance(value, Value) or there is None or there.roles is None:
            return self
        if value.value is MISSING or value.value is None:
            return TRUE if is_certain else FAULTY
        found = HoldingIn(mask, self.name, self.thing).fold(facts.with_(there=there.at(self.thing, value)))
        return found if isinstance(found, Constant) else self

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE | CAN_BE_FAULTY

    def words(self) -> str:
        return f"{self.name} in {self.where.words()}"

    @property
    def kind(self) -> str:
        """The role as a kind of caller."""
        return kind_of_role(self.name, self.thing)


# Roles, wherever they are held.
HELD = (Holding, HoldingIn, HoldingSomewhere, HoldingAt)


@dataclass(frozen=True, slots=True)
class PermissionAsked:
    """A permission by its name, and the grants that give it; `bits_that_open` of them is kept, as many lines ask."""

    name: str
    grants: Formula
    opens: int
    plain: bool

    @property
    def children(self) -> tuple[Formula, ...]:
        """The grants."""
        return (self.grants,)

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        return replace(self, grants=children[0])

    def fold(self, facts: Facts) -> Formula:
        key = id(self), id(facts.scopes)
        kept = facts.folded.get(key)
        if kept is None:
            kept = facts.folded[key] = self, self._fold(facts)
        return kept[1]

    def _fold(self, facts: Facts) -> Formula:
        if facts.scopes is not None and not self.named_by(facts.scopes):
            return FALSE
        if facts.granted is ANY_GRANT:
            return either((self.grants.fold(facts), GrantedPerhaps(self.name)))
        if facts.granted and self.named_by(facts.granted):
            return TRUE
        if facts.allowed != -1 or facts.hidden_allowed != -1:
            # The scope names the permission; whom it is given to is asked of the owner of the token.
            facts = facts.with_(allowed=-1, hidden_allowed=-1)
        return self.grants.fold(facts)

    def named_by(self, names: Collection[str]) -> str | None:
        """The one of these names that the permission goes by: its own, or its family's as in ``trial:*``."""
        if self.name in names:
            return self.name
        parts = self.name.split(":")
        families = (":".join((*parts[:count], "*")) for count in range(1, len(parts)))
        return next((family for family in families if family in names), None)

    def values(self) -> int:
        return self.grants.values()

    def words(self) -> str:
        return self.name


# What a directory grants to a caller of whom nothing is known.
ANY_GRANT: Mapping[str, str] = MappingProxyType({"*": "a directory"})


@dataclass(frozen=True, slots=True)
class GrantedPerhaps(Leaf):
    """A directory may have granted the caller a permission."""

    name: str

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def words(self) -> str:
        return f"a grant of {self.name}"


@dataclass(frozen=True, slots=True)
class OtherPath(Leaf):
    """The request is for another path than these; not known before there is a request."""

    pattern: str

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def words(self) -> str:
        return f"outside {self.pattern}"


@dataclass(frozen=True, slots=True)
class Guarded(Leaf):
    """A guard in the handler has let the caller pass; not known before it has."""

    def fold(self, facts: Facts) -> Formula:
        return TRUE if facts.guarded else self

    def words(self) -> str:
        return "guarded"


@dataclass(slots=True, eq=False)
class Requirement:
    """What a line or a guard asks. Never changed once made; freezing would double what it costs.

    Attributes:
        formula: what has to hold.
        opens: the bits of which any one alone makes it hold.
        plain: whether nothing but those bits can make it hold.
    """

    formula: Formula
    opens: int
    plain: bool

    @property
    def open_to_anyone(self) -> bool:
        """Whether it holds for every caller, whatever else is known of them."""
        return self.opens & ANYONE == ANYONE

    def words(self) -> str:
        """The requirement in the words of the policy."""
        return self.formula.words()


def bits_that_open(formula: Formula) -> tuple[int, bool]:
    """The bits of which any one alone makes a formula true, and whether nothing but those can."""
    if isinstance(formula, Holding | HoldingIn):
        return formula.mask, True
    if isinstance(formula, PermissionAsked):
        return formula.opens, formula.plain
    if isinstance(formula, Disjunction):
        bits, plain = 0, True
        for part in formula.parts:
            # Nearly all parts are roles: their bits are looked up here, without another call.
            if part.__class__ is Holding:
                bits |= part.mask
            else:
                more, also = bits_that_open(part)
                bits |= more
                plain = plain and also
        return bits, plain
    if formula is TRUE:
        return SIGNED_IN | SIGNED_OUT, True
    return 0, formula is FALSE


def conditions_in(formula: Formula) -> Iterator[Condition]:
    """The named conditions that a formula mentions, in the order of the text."""
    return (part for part in walk(formula) if isinstance(part, Condition))


def rests_on_records(formula: Formula) -> bool:
    """Whether a remainder rests on where the records of the path are."""
    return any(isinstance(part, Together | HoldingIn) for part in walk(formula))


def asks_for_guard(formula: Formula) -> bool:
    """Whether a formula leaves something to a guard in the handler."""
    return any(isinstance(part, Guarded) for part in walk(formula))


def without_guarded(formula: Formula) -> Formula:
    """What a line requires beside the guard in the handler."""
    return mapped(formula, lambda part: TRUE if isinstance(part, Guarded) else None)


def in_words(formula: Formula) -> str:
    """A remainder in words: conditions by name, with what each of them still asks."""
    named: dict[str, Condition] = {condition.name: condition for condition in conditions_in(formula)}
    sentence = ", ".join(f"{name} is {condition.test.words()}" for name, condition in named.items())
    return f"{formula.words()} ({sentence})" if sentence else formula.words()


def requirement_in_words(formula: Formula) -> str:
    """What a line asks, with who has the permissions it names."""
    given = ", ".join(
        f"{permission.name} is given to {permission.grants.words()}" for permission in permissions_in(formula)
    )
    return f"{formula.words()} ({given})" if given else formula.words()


def permissions_in(formula: Formula) -> Iterator[PermissionAsked]:
    """The permissions that a formula requires, in the order of the text."""
    return (part for part in walk(formula) if isinstance(part, PermissionAsked))


def roles_in(formula: Formula) -> Iterator[str]:
    """The roles that a formula requires, through permissions; those of things as ``editor in studio``."""
    for part in walk(formula):
        if isinstance(part, Holding):
            if part.mask & ~(SIGNED_IN | SIGNED_OUT):
                yield part.name
        elif isinstance(part, HoldingIn | HoldingSomewhere | HoldingAt):
            yield part.kind


def references_in(formula: Formula) -> Iterator[Reference]:
    """The references that a formula requires, through conditions and permissions."""
    for operand in _operands(formula):
        yield from _references(operand)


def _operands(formula: Formula) -> Iterator[Operand]:
    for part in walk(formula):
        yield from _operands_of(part)


def _operands_of(part: Formula) -> tuple[Operand, ...]:
    if isinstance(part, Comparison):
        return part.left, part.right
    if isinstance(part, Holds):
        return (part.reference,)
    return (part.where,) if isinstance(part, HoldingAt) else ()


PATH, NOW, THERE = 1, 2, 4


def asks_of(formula: Formula) -> int:
    """Whether a formula rests on the parameters of the path, on the time, and on roles held in something, as bits."""
    bits = 0
    for part in walk(formula):
        for operand in _operands_of(part):
            bits |= _asks_of(operand)
        if isinstance(part, HELD) and part.__class__ is not Holding:
            bits |= THERE
    return bits


def _asks_of(operand: Operand) -> int:
    if isinstance(operand, Reference):
        return PATH if operand.root in ("path", "records") else 0
    if isinstance(operand, Listed):
        bits = 0
        for item in operand.items:
            bits |= _asks_of(item)
        return bits
    if isinstance(operand, Shifted):
        return _asks_of(operand.moment)
    return NOW if isinstance(operand, Now | Clock) else 0


def _references(operand: Operand) -> Iterator[Reference]:
    if isinstance(operand, Reference):
        yield operand
    elif isinstance(operand, Listed):
        for item in operand.items:
            yield from _references(item)
    elif isinstance(operand, Shifted):
        yield from _references(operand.moment)
