"""Formulas over four values: true, false, unknown, faulty; and what remains when something is unknown.

A formula is folded over facts. What is known disappears into `TRUE`, `FALSE` or `FAULTY`; what is not known stays
behind as a smaller formula, the remainder. A faulty part met a missing attribute or values that cannot be compared.
It is neither true nor false, and stays so under ``not``.
"""

from __future__ import annotations

import datetime
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from operator import is_
from types import MappingProxyType
from typing import Any, ClassVar, Generic, Protocol, TypedDict, TypeVar, Unpack

Meaning = TypeVar("Meaning")

# What a formula may still turn into, as bits.
CAN_BE_TRUE, CAN_BE_FALSE, CAN_BE_FAULTY = 1, 2, 4


class Supplied(TypedDict, total=False):
    """What may be known beside the caller and the records; see `Facts`."""

    path: Mapping[str, Any] | None
    query: Mapping[str, Any] | None
    args: Mapping[str, Any] | None
    now: datetime.datetime | None
    scopes: frozenset[str] | None
    granted: Mapping[str, str] | None
    guarded: bool
    hidden: frozenset[str] | None
    allowed: int
    hidden_allowed: int
    assumed: Mapping[str, bool]
    there: Any


class Facts:
    """What is known while a formula is folded. None, or `UNKNOWN` for the caller, means that it is not supplied.

    Attributes:
        certain: bits of the roles and audiences that the caller holds for sure.
        possible: bits that the caller may hold; the same as ``certain`` for a known caller.
        caller: the names that ``caller.`` leads to; None for a signed-out caller, `UNKNOWN` for one to be imagined.
        record: the thing that the endpoint acts on, an object or a mapping.
        records: the records that parameters of the path identify, by parameter.
        path: the parameters of the path, as text.
        query: the parameters of the query, as text.
        args: the arguments of a guarded call.
        now: the time of the decision.
        scopes: what a token names of its owner's permissions; None where nothing is held back.
        hidden: what takes the place of ``scopes`` under ``not``.
        allowed: bits of the roles that count where a line itself asks for them; all of them but for a token made for
            less.
        hidden_allowed: what takes the place of ``allowed`` under ``not``.
        granted: permissions that a directory gives the caller, each with who gave it; None for no such thing.
        guarded: whether a guard in the handler has let the caller pass.
        assumed: conditions whose value is taken as given, by name.
        there: what the caller holds in the records that the path leads to (`locating.There`); None where that is not
            known, and the bits say what may be held.
        folded: what parts that are shared have come to, by their id and what they rest on beside the facts. Each is
            kept with its part, so that the id is never that of another one.
    """

    # One is made for each decision, and most of it stays as it is: defaults on the class cost nothing to set.
    path: Mapping[str, Any] | None = None
    query: Mapping[str, Any] | None = None
    args: Mapping[str, Any] | None = None
    now: datetime.datetime | None = None
    scopes: frozenset[str] | None = None
    granted: Mapping[str, str] | None = None
    guarded: bool = False
    hidden: frozenset[str] | None = None
    allowed: int = -1
    hidden_allowed: int = -1
    assumed: Mapping[str, bool] = MappingProxyType({})
    there: Any = None

    def __init__(
        self,
        certain: int,
        possible: int,
        caller: Any = None,
        record: Any = None,
        records: Mapping[str, Any] | None = None,
        **supplied: Unpack[Supplied],
    ) -> None:
        self.certain = certain
        self.possible = possible
        self.caller = caller
        self.record = record
        self.records = records
        self.folded: dict[object, Any] = {}
        if supplied:
            self.__dict__.update(supplied)

    def about(self, record: Any, records: Mapping[str, Any] | None, *, guarded: bool) -> Facts:
        """The same where a record is known, and nothing folded yet: of a caller and the request alone."""
        other = Facts(self.certain, self.possible, self.caller, record, records)
        other.query, other.args, other.now, other.guarded = self.query, self.args, self.now, guarded
        return other

    def with_(self, **changes: Any) -> Facts:
        """The same with some of it changed, and nothing folded yet."""
        other = Facts(self.certain, self.possible)
        other.__dict__.update({**self.__dict__, "folded": {}, **changes})
        return other

    def __repr__(self) -> str:
        return f"Facts({', '.join(f'{name}={value!r}' for name, value in vars(self).items() if name != 'folded')})"


class Formula(Protocol):
    """Anything that can be folded."""

    def fold(self, facts: Facts) -> Formula:
        """The formula with all that is known folded in."""
        ...

    def values(self) -> int:
        """What a remainder may still turn into: any of `CAN_BE_TRUE`, `CAN_BE_FALSE`, `CAN_BE_FAULTY`."""
        ...

    def words(self) -> str:
        """The formula in the words of the policy."""
        ...

    @property
    def children(self) -> tuple[Formula, ...]:
        """The parts that it is made of, in the order of the text."""
        ...

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        """The same made of other parts, as small as it can be."""
        ...


class Leaf:
    """A formula that has no parts; true or false, once it is known."""

    __slots__ = ()
    children: ClassVar[tuple[Formula, ...]] = ()

    def with_children(self, children: tuple[Formula, ...]) -> Any:  # noqa: ARG002
        """Itself."""
        return self

    def values(self) -> int:
        """As `Formula.values`."""
        return CAN_BE_TRUE | CAN_BE_FALSE


def walk(formula: Formula) -> Iterator[Formula]:
    """A formula and all that it is made of, in the order of the text; what is shared comes once."""
    seen: set[int] = set()
    waiting = [formula]
    while waiting:
        part = waiting.pop()
        if id(part) not in seen:
            seen.add(id(part))
            yield part
            waiting += reversed(part.children)


def mapped(formula: Formula, change: Callable[[Formula], Formula | None]) -> Formula:
    """A formula with other parts in the place of some; parts that are shared are changed once, and stay shared.

    Args:
        formula: the formula.
        change: what takes the place of a part; None for one whose own parts are looked at.
    """
    negations: dict[int, Formula] = {}

    def of(part: Formula) -> Formula:
        negated = negations.get(id(part))
        if negated is None:
            negated = change(part)
            if negated is None:
                children = tuple(map(of, part.children))
                negated = part if all(map(is_, children, part.children)) else part.with_children(children)
            negations[id(part)] = negated
        return negated

    return of(formula)


class Interpretation(ABC, Generic[Meaning]):
    """What formulas mean to something else, such as a database: a meaning for each kind of node, made once for each.

    A name means what it stands for.
    """

    def __init__(self) -> None:
        # With each formula, so that its id is never that of another one.
        self._known: dict[int, tuple[Formula, Meaning]] = {}

    @abstractmethod
    def constant(self, constant: Constant) -> Meaning:
        """What a constant means."""

    @abstractmethod
    def all_of(self, parts: Sequence[Meaning]) -> Meaning:
        """True where all are, false where one is."""

    @abstractmethod
    def any_of(self, parts: Sequence[Meaning]) -> Meaning:
        """True where one is, false where all are."""

    @abstractmethod
    def opposite(self, part: Meaning) -> Meaning:
        """False where the part is true, and the other way round; faulty where it is faulty."""

    @abstractmethod
    def leaf(self, formula: Formula) -> Meaning:
        """What a formula without parts means."""

    def of(self, formula: Formula) -> Meaning:
        """What a formula means."""
        kept = self._known.get(id(formula))
        if kept is None:
            kept = self._known[id(formula)] = formula, self.node(formula)
        return kept[1]

    def node(self, formula: Formula) -> Meaning:
        """The same, worked out."""
        if isinstance(formula, Conjunction):
            return self.all_of([self.of(part) for part in formula.parts])
        if isinstance(formula, Disjunction):
            return self.any_of([self.of(part) for part in formula.parts])
        if isinstance(formula, Negated):
            return self.opposite(self.of(formula.part))
        if isinstance(formula, Constant):
            return self.constant(formula)
        return self.of(formula.children[0]) if formula.children else self.leaf(formula)


@dataclass(frozen=True, slots=True)
class Constant(Leaf):
    """A formula about which nothing is left to ask."""

    name: str
    bits: int
    audience: str

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def values(self) -> int:
        return self.bits

    def words(self) -> str:
        return self.audience


TRUE = Constant("true", CAN_BE_TRUE, "anyone")
FALSE = Constant("false", CAN_BE_FALSE, "nobody")
FAULTY = Constant("faulty", CAN_BE_FAULTY, "nobody, since something is missing or cannot be compared")


def known(value: bool) -> Constant:
    """A Python truth as a formula."""
    return TRUE if value else FALSE


class _Joined:
    """Parts that are asked together. Two of them are the same only where they are one object."""

    __slots__ = ("_bits", "parts")

    def __init__(self, parts: tuple[Formula, ...]) -> None:
        self.parts = parts
        self._bits = 0  # not worked out yet: no formula can turn into nothing at all

    def _possible(self, bits: list[int]) -> int:
        raise NotImplementedError

    def _is_all_of(self, folded: Formula) -> bool:
        """Whether nothing has changed: what is shared is to stay shared."""
        same = isinstance(folded, type(self)) and len(folded.parts) == len(self.parts)
        return same and all(map(is_, folded.children, self.parts))

    @property
    def children(self) -> tuple[Formula, ...]:
        """The parts."""
        return self.parts

    def values(self) -> int:
        """What it may still turn into."""
        if not self._bits:
            self._bits = self._possible([part.values() for part in self.parts])
        return self._bits

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self.parts!r})"


class Conjunction(_Joined):
    """Every part must be true."""

    __slots__ = ()

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`."""
        folded = both([part.fold(facts) for part in self.parts])
        return self if self._is_all_of(folded) else folded

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        """As `Formula.with_children`."""
        return both(children)

    def _possible(self, each: list[int]) -> int:
        possible = CAN_BE_TRUE if all(bits & CAN_BE_TRUE for bits in each) else 0
        if any(bits & CAN_BE_FALSE for bits in each):
            possible |= CAN_BE_FALSE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_FALSE for bits in each):
            possible |= CAN_BE_FAULTY
        return possible

    def words(self) -> str:
        """As `Formula.words`."""
        return " and ".join(_bracketed(part, Disjunction) for part in self.parts)


class Disjunction(_Joined):
    """One true part is enough."""

    __slots__ = ()

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`."""
        folded = either([part.fold(facts) for part in self.parts])
        return self if self._is_all_of(folded) else folded

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        """As `Formula.with_children`."""
        return either(children)

    def _possible(self, each: list[int]) -> int:
        possible = CAN_BE_FALSE if all(bits & CAN_BE_FALSE for bits in each) else 0
        if any(bits & CAN_BE_TRUE for bits in each):
            possible |= CAN_BE_TRUE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_TRUE for bits in each):
            possible |= CAN_BE_FAULTY
        return possible

    def words(self) -> str:
        """As `Formula.words`."""
        return " or ".join(_bracketed(part, Conjunction) for part in self.parts)


class Negated:
    """True where its part is false. A faulty part stays faulty."""

    __slots__ = ("part",)

    def __init__(self, part: Formula) -> None:
        self.part = part

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Negated) and self.part == other.part

    def __hash__(self) -> int:
        return hash((Negated, self.part))

    def __repr__(self) -> str:
        return f"Negated({self.part!r})"

    @property
    def children(self) -> tuple[Formula, ...]:
        """The part."""
        return (self.part,)

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        """As `Formula.with_children`."""
        return opposite(children[0])

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`."""
        if facts.scopes is not facts.hidden:
            # A token made for less may not get further than its owner by not having what a line excludes. What is
            # excluded from that counts again.
            folded = facts.folded
            facts = facts.with_(
                scopes=facts.hidden,
                hidden=facts.scopes,
                allowed=facts.hidden_allowed,
                hidden_allowed=facts.allowed,
            )
            facts.folded = folded
        part = self.part.fold(facts)
        return self if part is self.part else opposite(part)

    def values(self) -> int:
        """What it may still turn into."""
        bits = self.part.values()
        found = bits & CAN_BE_FAULTY
        if bits & CAN_BE_FALSE:
            found |= CAN_BE_TRUE
        if bits & CAN_BE_TRUE:
            found |= CAN_BE_FALSE
        return found

    def words(self) -> str:
        """As `Formula.words`."""
        return f"not {_bracketed(self.part, Conjunction, Disjunction)}"


def both(parts: Iterable[Formula]) -> Formula:
    """The conjunction of folded parts, as small as it can be."""
    return _small(parts, Conjunction, Disjunction, TRUE, FALSE)


def either(parts: Iterable[Formula]) -> Formula:
    """The disjunction of folded parts, as small as it can be."""
    return _small(parts, Disjunction, Conjunction, FALSE, TRUE)


def _small(
    parts: Iterable[Formula],
    kind: type[Conjunction | Disjunction],
    other: type[Conjunction | Disjunction],
    idle: Constant,
    strong: Constant,
) -> Formula:
    """Parts joined, without those that change nothing; ``strong`` where one part alone says it all."""
    found: dict[Formula, None] = {}
    joined = False
    for part in parts:
        if part is strong:
            return strong
        if part is not idle:
            if part.__class__ is kind:
                found.update(dict.fromkeys(part.children))
                joined = joined or any(child.__class__ is other for child in part.children)
            else:
                found[part] = None
                joined = joined or part.__class__ is other
    if joined:
        # ``a or (a and b)`` is ``a``, in all four values.
        left = [part for part in found if part.__class__ is not other or found.keys().isdisjoint(part.children)]
    else:
        left = list(found)
    if not left:
        return idle
    return left[0] if len(left) == 1 else kind(tuple(left))


def opposite(part: Formula) -> Formula:
    """The negation of a folded part."""
    if part is TRUE:
        return FALSE
    if part is FALSE:
        return TRUE
    return part if part is FAULTY else Negated(part)


def can_be_true(formula: Formula) -> bool:
    """Whether a remainder may still turn out true."""
    return bool(formula.values() & CAN_BE_TRUE)


def _bracketed(part: Formula, *kinds: type) -> str:
    return f"({part.words()})" if isinstance(part, kinds) else part.words()
