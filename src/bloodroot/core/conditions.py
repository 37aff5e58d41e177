"""Expressions over four values: true, false, unknown, faulty; and what remains when something is unknown.

A formula is folded over facts. What is known disappears into `TRUE`, `FALSE` or `FAULTY`; what is not known stays
behind as a smaller formula, the remainder. A faulty part met a missing attribute or values that cannot be compared.
It is neither true nor false, and stays so under ``not``.
"""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from functools import lru_cache
from typing import Any, Protocol

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


@dataclass(frozen=True, slots=True)
class Known:
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


TRUE = Known("true", CAN_BE_TRUE, "anyone")
FALSE = Known("false", CAN_BE_FALSE, "nobody")
FAULTY = Known("faulty", CAN_BE_FAULTY, "nobody, since something is missing or cannot be compared")


def known(value: bool) -> Known:
    """A Python truth as a formula."""
    return TRUE if value else FALSE


@dataclass(frozen=True, slots=True)
class Conjunction:
    """Every part must be true."""

    parts: tuple[Formula, ...]

    def fold(self, facts: Facts) -> Formula:
        return both(part.fold(facts) for part in self.parts)

    def values(self) -> int:
        each = [part.values() for part in self.parts]
        found = CAN_BE_TRUE if all(bits & CAN_BE_TRUE for bits in each) else 0
        if any(bits & CAN_BE_FALSE for bits in each):
            found |= CAN_BE_FALSE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_FALSE for bits in each):
            found |= CAN_BE_FAULTY
        return found

    def words(self) -> str:
        return " and ".join(_bracketed(part, Disjunction) for part in self.parts)


@dataclass(frozen=True, slots=True)
class Disjunction:
    """One true part is enough."""

    parts: tuple[Formula, ...]

    def fold(self, facts: Facts) -> Formula:
        return either(part.fold(facts) for part in self.parts)

    def values(self) -> int:
        each = [part.values() for part in self.parts]
        found = CAN_BE_FALSE if all(bits & CAN_BE_FALSE for bits in each) else 0
        if any(bits & CAN_BE_TRUE for bits in each):
            found |= CAN_BE_TRUE
        if any(bits & CAN_BE_FAULTY for bits in each) and all(bits != CAN_BE_TRUE for bits in each):
            found |= CAN_BE_FAULTY
        return found

    def words(self) -> str:
        return " or ".join(_bracketed(part, Conjunction) for part in self.parts)


@dataclass(frozen=True, slots=True)
class Negated:
    """True where its part is false. A faulty part stays faulty."""

    part: Formula

    def fold(self, facts: Facts) -> Formula:
        if facts.scopes is not facts.hidden:
            # A token made for less may not get further than its owner by not having what a line excludes. What is
            # excluded from that counts again.
            facts = replace(facts, scopes=facts.hidden, hidden=facts.scopes)
        return opposite(self.part.fold(facts))

    def values(self) -> int:
        bits = self.part.values()
        found = bits & CAN_BE_FAULTY
        if bits & CAN_BE_FALSE:
            found |= CAN_BE_TRUE
        if bits & CAN_BE_TRUE:
            found |= CAN_BE_FALSE
        return found

    def words(self) -> str:
        return f"not {_bracketed(self.part, Conjunction, Disjunction)}"


def both(parts: Iterable[Formula]) -> Formula:
    """The conjunction of folded parts, as small as it can be."""
    left: list[Formula] = []
    for part in parts:
        if part is FALSE:
            return FALSE
        if part is not TRUE:
            inner = part.parts if isinstance(part, Conjunction) else (part,)
            left += [each for each in inner if each not in left]
    if not left:
        return TRUE
    left = _absorbed(left, Disjunction)
    return left[0] if len(left) == 1 else Conjunction(tuple(left))


def either(parts: Iterable[Formula]) -> Formula:
    """The disjunction of folded parts, as small as it can be."""
    left: list[Formula] = []
    for part in parts:
        if part is TRUE:
            return TRUE
        if part is not FALSE:
            inner = part.parts if isinstance(part, Disjunction) else (part,)
            left += [each for each in inner if each not in left]
    if not left:
        return FALSE
    left = _absorbed(left, Conjunction)
    return left[0] if len(left) == 1 else Disjunction(tuple(left))


def _absorbed(parts: list[Formula], kind: type[Conjunction] | type[Disjunction]) -> list[Formula]:
    """Without parts that another one makes idle: ``a or (a and b)`` is ``a``, in all four values."""
    if not any(isinstance(part, kind) for part in parts):
        return parts
    return [
        part
        for part in parts
        if not (isinstance(part, Conjunction | Disjunction) and isinstance(part, kind))
        or not any(inner in parts for inner in part.parts)
    ]


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


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition by its name; what remains of it keeps the name.

    Attributes:
        name: the name in the policy.
        test: what has to hold.
        message: what a refused caller is shown, if the policy says.
        where: file and line of its declaration.
    """

    name: str
    test: Formula
    message: str | None = None
    where: str = ""

    def fold(self, facts: Facts) -> Formula:
        if facts.assumed:
            assumed = facts.assumed.get(self.name)
            if assumed is not None:
                return known(assumed)
        rest = self.test.fold(facts)
        if rest.__class__ is Known:
            return rest
        return self if rest is self.test or rest == self.test else Condition(self.name, rest, self.message, self.where)

    def values(self) -> int:
        return self.test.values()

    def words(self) -> str:
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
    """What the references of a condition led to, in words: ``record.botanist_id is 4``."""
    if isinstance(formula, Condition):
        return findings(formula.test, facts)
    if isinstance(formula, Negated):
        return findings(formula.part, facts)
    if isinstance(formula, Conjunction | Disjunction):
        return list(dict.fromkeys(said for part in formula.parts for said in findings(part, facts)))
    operands: tuple[Operand, ...] = ()
    if isinstance(formula, Comparison):
        operands = (formula.left, formula.right)
    elif isinstance(formula, Holds):
        operands = (formula.reference,)
    said = []
    for operand in operands:
        found = resolve(operand, facts)
        if isinstance(operand, Reference) and isinstance(found, Value):
            missing = found.value is MISSING
            said.append(_without(operand, facts) if missing else f"{operand.words()} is {found.words()}")
    return said


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
