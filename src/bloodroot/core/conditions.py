"""Expressions over four values: true, false, unknown, faulty; and what remains when something is unknown.

A formula is folded over facts. What is known disappears into `TRUE`, `FALSE` or `FAULTY`; what is not known stays
behind as a smaller formula, the remainder. A faulty part met a missing attribute or values that cannot be compared.
It is neither true nor false, and stays so under ``not``.
"""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from functools import lru_cache
from operator import is_
from typing import Any, ClassVar, Protocol

from .values import Value, compare


class _Sentinel(Enum):
    UNKNOWN = "unknown"
    MISSING = "missing"


UNKNOWN = _Sentinel.UNKNOWN  # nobody has supplied it yet
MISSING = _Sentinel.MISSING  # its owner is there, and has nothing by that name

# What a formula may still turn into, as bits.
CAN_BE_TRUE, CAN_BE_FALSE, CAN_BE_FAULTY = 1, 2, 4


@dataclass(slots=True)
class Facts:
    """What is known while a formula is folded. None, or `UNKNOWN` for the caller, is what nobody has supplied.

    Attributes:
        certain: bits of the roles and audiences that the caller holds for sure.
        possible: bits that the caller may hold; the same as ``certain`` for a known caller.
        caller: the names that ``caller.`` leads to; None for a signed-out caller, `UNKNOWN` for one to be imagined.
        record: the thing that the endpoint acts on, an object or a mapping.
        records: the records that parameters of the path stand for, by parameter.
        path: the parameters of the path, as text.
        query: the parameters of the query, as text.
        args: the arguments of a guarded call.
        now: the moment of the decision.
        scopes: what a token names of its owner's permissions; None where nothing is held back.
        hidden: what takes the place of ``scopes`` under ``not``.
        granted: permissions that a directory gives the caller, each with who gave it; None for no such thing.
        guarded: whether a guard in the handler has let the caller pass.
        assumed: conditions whose value is taken as given, by name.
        folded: what parts that are shared have come to, by their id and what they rest on beside the facts. Each is
            kept with its part, so that the id is never that of another one.
    """

    certain: int
    possible: int
    caller: Any = None
    record: Any = None
    records: Mapping[str, Any] | None = None
    path: Mapping[str, Any] | None = None
    query: Mapping[str, Any] | None = None
    args: Mapping[str, Any] | None = None
    now: datetime.datetime | None = None
    scopes: frozenset[str] | None = None
    granted: Mapping[str, str] | None = None
    guarded: bool = False
    hidden: frozenset[str] | None = None
    assumed: Mapping[str, bool] = field(default_factory=dict)
    folded: dict[object, tuple[object, Formula]] = field(init=False, default_factory=dict)


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
    def inner(self) -> tuple[Formula, ...]:
        """The parts that it is made of, in the order of the text."""
        ...


def walk(formula: Formula) -> Iterator[Formula]:
    """A formula and all that it is made of, in the order of the text; what is shared comes once."""
    seen: set[int] = set()
    waiting = [formula]
    while waiting:
        found = waiting.pop()
        if id(found) not in seen:
            seen.add(id(found))
            yield found
            waiting += reversed(found.inner)


@dataclass(frozen=True, slots=True)
class Known:
    """A formula about which nothing is left to ask."""

    name: str
    bits: int
    audience: str
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def values(self) -> int:
        return self.bits

    def words(self) -> str:
        return self.audience


TRUE = Known("true", CAN_BE_TRUE, "anyone")
FALSE = Known("false", CAN_BE_FALSE, "nobody")
FAULTY = Known("faulty", CAN_BE_FAULTY, "nobody, since something is missing or cannot be compared")


def known(value: bool) -> Known:
    """A Python truth as a formula."""
    return TRUE if value else FALSE


class _Joined:
    """Parts that are asked together. Two of them are the same only where they are one object."""

    __slots__ = ("_bits", "parts")

    def __init__(self, parts: tuple[Formula, ...]) -> None:
        self.parts = parts
        self._bits = 0  # not worked out yet: no formula can turn into nothing at all

    def _possible(self, each: list[int]) -> int:
        raise NotImplementedError

    def _is_all_of(self, folded: Formula) -> bool:
        """Whether nothing has changed: what is shared is to stay shared."""
        same = isinstance(folded, type(self)) and len(folded.parts) == len(self.parts)
        return same and all(map(is_, folded.inner, self.parts))

    @property
    def inner(self) -> tuple[Formula, ...]:
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

    def _possible(self, each: list[int]) -> int:
        found = CAN_BE_TRUE if all(bits & CAN_BE_TRUE for bits in each) else 0
        if any(bits & CAN_BE_FALSE for bits in each):
            found |= CAN_BE_FALSE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_FALSE for bits in each):
            found |= CAN_BE_FAULTY
        return found

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

    def _possible(self, each: list[int]) -> int:
        found = CAN_BE_FALSE if all(bits & CAN_BE_FALSE for bits in each) else 0
        if any(bits & CAN_BE_TRUE for bits in each):
            found |= CAN_BE_TRUE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_TRUE for bits in each):
            found |= CAN_BE_FAULTY
        return found

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
    def inner(self) -> tuple[Formula, ...]:
        """The part."""
        return (self.part,)

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`."""
        if facts.scopes is not facts.hidden:
            # A token made for less may not get further than its owner by not having what a line excludes. What is
            # excluded from that counts again.
            folded = facts.folded
            facts = replace(facts, scopes=facts.hidden, hidden=facts.scopes)
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
    idle: Known,
    strong: Known,
) -> Formula:
    """Parts joined, without those that change nothing; ``strong`` where one part alone says it all."""
    found: dict[Formula, None] = {}
    joined = False
    for part in parts:
        if part is strong:
            return strong
        if part is not idle:
            if part.__class__ is kind:
                found.update(dict.fromkeys(part.inner))
            else:
                found[part] = None
                joined = joined or part.__class__ is other
    if joined:
        # ``a or (a and b)`` is ``a``, in all four values.
        left = [part for part in found if part.__class__ is not other or found.keys().isdisjoint(part.inner)]
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


# Named conditions ------------------------------------------------------------------------------------------


class Condition:
    """A condition by its name; what remains of it keeps the name.

    Attributes:
        name: the name in the policy.
        test: what has to hold.
        message: what a refused caller is shown, if the policy says.
        where: file and line of its declaration.
    """

    __slots__ = ("message", "name", "test", "where")

    def __init__(self, name: str, test: Formula, message: str | None = None, where: str = "") -> None:
        self.name = name
        self.test = test
        self.message = message
        self.where = where

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Condition) and self.name == other.name and self.test == other.test

    def __hash__(self) -> int:
        return hash(self.name)

    def __repr__(self) -> str:
        return f"Condition({self.name!r}, {self.test!r})"

    @property
    def inner(self) -> tuple[Formula, ...]:
        """The test."""
        return (self.test,)

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`. However often it is asked for, it is folded once."""
        if facts.assumed:
            assumed = facts.assumed.get(self.name)
            if assumed is not None:
                return known(assumed)
        kept = facts.folded.get(id(self))
        if kept is not None:
            return kept[1]
        rest = self.test.fold(facts)
        if rest.__class__ is not Known:
            rest = self if rest is self.test else Condition(self.name, rest, self.message, self.where)
        facts.folded[id(self)] = self, rest
        return rest

    def values(self) -> int:
        """What it may still turn into."""
        return self.test.values()

    def words(self) -> str:
        """As `Formula.words`."""
        return self.name


# Comparisons ------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Reference:
    """``record.owner.id``: a root and the names that lead from it."""

    root: str
    names: tuple[str, ...]

    def words(self) -> str:
        return ".".join((self.root, *self.names))


@dataclass(frozen=True, slots=True)
class Moment:
    """The word ``now``."""

    def words(self) -> str:
        return "now"


@dataclass(frozen=True, slots=True)
class Several:
    """Operands between square brackets."""

    items: tuple[Operand, ...]

    def words(self) -> str:
        return f"[{', '.join(item.words() for item in self.items)}]"


Operand = Value | Reference | Moment | Several


@dataclass(frozen=True, slots=True)
class Holds:
    """A reference without a comparison: true or false as its value is, faulty where it is neither."""

    reference: Operand
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:
        operand = resolve(self.reference, facts)
        if not isinstance(operand, Value):
            return self
        return known(operand.value) if isinstance(operand.value, bool) else FAULTY

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE | CAN_BE_FAULTY

    def words(self) -> str:
        return self.reference.words()


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two operands and one of ``== != < <= > >= in``."""

    left: Operand
    sign: str
    right: Operand
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:
        left, right = resolve(self.left, facts), resolve(self.right, facts)
        known_left, known_right = left.__class__ is Value, right.__class__ is Value
        if (known_left and left.value is MISSING) or (known_right and right.value is MISSING):  # type: ignore[union-attr]
            return FAULTY
        if known_left and known_right:
            found = compare(left, self.sign, right)  # type: ignore[arg-type]
            return FAULTY if found is None else TRUE if found else FALSE
        if left is self.left and right is self.right:
            return self
        return Comparison(left, self.sign, right)

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE | CAN_BE_FAULTY

    def words(self) -> str:
        return f"{self.left.words()} {self.sign} {self.right.words()}"


def findings(formula: Formula, facts: Facts) -> list[str]:
    """What the references of a formula led to, in words: ``record.botanist_id is 4``."""
    found: dict[str, None] = {}
    for part in walk(formula):
        if isinstance(part, Comparison):
            operands: tuple[Operand, ...] = (part.left, part.right)
        else:
            operands = (part.reference,) if isinstance(part, Holds) else ()
        for operand in operands:
            value = resolve(operand, facts)
            if isinstance(operand, Reference) and isinstance(value, Value):
                missing = value.value is MISSING
                found[_without(operand, facts) if missing else f"{operand.words()} is {value.words()}"] = None
    return list(found)


def _without(reference: Reference, facts: Facts) -> str:
    """Which value on the way of a reference has no such attribute: ``Note has no tenant_id``."""
    start = getattr(facts, reference.root)
    names = reference.names
    if reference.root == "records" and start is not None:
        start, names = start.get(names[0]), names[1:]
    if start is None or reference.root not in ("record", "records"):
        return f"{reference.words()} is missing"
    for name in names:
        inner = attribute(start, name)
        if inner is MISSING:
            kind = "the record" if is_keyed(start) else type(start).__name__
            return f"{kind} has no {name}"
        start = inner
    return f"{reference.words()} is missing"


def resolve(operand: Operand, facts: Facts) -> Operand:
    """An operand with what is known put in its place. A missing attribute becomes the value `MISSING`."""
    if isinstance(operand, Reference):
        found = _follow(operand, facts)
        if found is UNKNOWN:
            return operand
        # A path and a query have text alone, and so has a token whose subject is a number in the records.
        from_text = operand.root in ("path", "query") or (operand.root == "caller" and operand.names == ("id",))
        return Value(found, textual=from_text and isinstance(found, str))
    if isinstance(operand, Moment):
        return operand if facts.now is None else Value(facts.now)
    if isinstance(operand, Several):
        items = tuple(resolve(item, facts) for item in operand.items)
        if any(isinstance(item, Value) and item.value is MISSING for item in items):
            return Value(MISSING)
        if all(isinstance(item, Value) for item in items):
            return Value(items)
        return Several(items)
    return operand


def _follow(reference: Reference, facts: Facts) -> Any:
    """What a reference leads to, `UNKNOWN` or `MISSING`."""
    start = getattr(facts, reference.root)
    if start is UNKNOWN:
        return UNKNOWN
    if start is None:
        # A signed-out caller has no attributes; any other root that is not there may yet be supplied.
        return MISSING if reference.root == "caller" else UNKNOWN
    names = reference.names
    if reference.root == "records":
        # A parameter whose record nobody has loaded may yet be loaded.
        start = start.get(names[0], UNKNOWN)
        if start is UNKNOWN:
            return UNKNOWN
        names = names[1:]
    for name in names:
        start = attribute(start, name)
        if start is MISSING or start is UNKNOWN:
            # A parameter of the query that was not sent can be asked for.
            return None if start is MISSING and reference.root == "query" and len(names) == 1 else start
    return start


def attribute(record: Any, name: str) -> Any:
    """An attribute of an object, or what a mapping or a row has under a key; `MISSING` where there is none."""
    try:
        return record[name] if is_keyed(record) else getattr(record, name, MISSING)
    except Exception:
        # No such key, or a property of somebody's record failed: nothing to build access on.
        return MISSING


def is_keyed(record: Any) -> bool:
    """Whether a record's attributes are found by key: a mapping, or a row of a database."""
    kind: type = type(record)
    return _has_keys(kind)


@lru_cache(maxsize=1024)
def _has_keys(kind: type) -> bool:
    return issubclass(kind, Mapping) or (hasattr(kind, "keys") and hasattr(kind, "__getitem__"))
