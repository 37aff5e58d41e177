"""Conditions by name, and the comparisons that they are made of."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from .formulas import (
    CAN_BE_FALSE,
    CAN_BE_FAULTY,
    CAN_BE_TRUE,
    FALSE,
    FAULTY,
    TRUE,
    Constant,
    Facts,
    Formula,
    Leaf,
    known,
    walk,
)
from .moments import WEEKDAYS
from .records import MISSING, UNKNOWN, attribute, is_keyed
from .values import Value, as_moment, compare


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
    def children(self) -> tuple[Formula, ...]:
        """The test."""
        return (self.test,)

    def with_children(self, children: tuple[Formula, ...]) -> Formula:
        """As `Formula.with_children`."""
        return Condition(self.name, children[0], self.message, self.where)

    def fold(self, facts: Facts) -> Formula:
        """As `Formula.fold`. However often it is asked for, it is folded once."""
        if facts.assumed:
            assumed = facts.assumed.get(self.name)
            if assumed is not None:
                return known(assumed)
        # Roles in it count or not by the token: under ``not`` and in permissions all of them do.
        key = id(self) if facts.allowed == -1 else (id(self), facts.allowed)
        kept: tuple[Condition, Formula] | None = facts.folded.get(key)
        if kept is not None:
            return kept[1]
        rest = self.test.fold(facts)
        if rest.__class__ is not Constant:
            rest = self if rest is self.test else Condition(self.name, rest, self.message, self.where)
        facts.folded[key] = self, rest
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
    """``record.owner.id``: a root and the names that lead from it.

    Attributes:
        root: where it begins.
        names: the names that lead from there.
        optional: whether it leads to none where there is no such attribute, as with ``caller.actor?``.
    """

    root: str
    names: tuple[str, ...]
    optional: bool = False

    def words(self) -> str:
        return ".".join((self.root, *self.names)) + ("?" if self.optional else "")

    @property
    def plain(self) -> Reference:
        """The same without the question mark: the attribute that it is about."""
        return Reference(self.root, self.names) if self.optional else self


@dataclass(frozen=True, slots=True)
class Now:
    """The word ``now``, in the zone of the policy."""

    zone: datetime.tzinfo = datetime.UTC

    def words(self) -> str:
        return "now"


@dataclass(frozen=True, slots=True)
class Clock:
    """``now.time`` and ``now.weekday``, in the zone of the policy."""

    part: str
    zone: datetime.tzinfo

    def words(self) -> str:
        return f"now.{self.part}"

    def value(self, now: datetime.datetime) -> Value:
        """What the clock shows."""
        shown = now.astimezone(self.zone)
        return Value(shown.time() if self.part == "time" else WEEKDAYS[shown.weekday()], literal=True)


@dataclass(frozen=True, slots=True)
class Shifted:
    """``record.due + 24h``: a moment, and how much later, or earlier, that is."""

    moment: Reference | Now | Value
    by: datetime.timedelta
    zone: datetime.tzinfo
    text: str

    def words(self) -> str:
        return f"{self.moment.words()} {self.text}"

    def value(self, value: Value) -> Value:
        """The moment moved; `MISSING` for what is none."""
        found = as_moment(value, self.zone)
        try:
            return Value(MISSING) if found is None else Value(found + self.by, literal=True)
        except OverflowError:
            return Value(MISSING)


@dataclass(frozen=True, slots=True)
class Listed:
    """Operands between square brackets."""

    items: tuple[Operand, ...]

    def words(self) -> str:
        return f"[{', '.join(item.words() for item in self.items)}]"


Operand = Value | Reference | Now | Clock | Shifted | Listed


@dataclass(frozen=True, slots=True)
class Holds(Leaf):
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
class Comparison(Leaf):
    """Two operands and one of the operators ``== != < <= > >= in``."""

    left: Operand
    operator: str
    right: Operand

    def fold(self, facts: Facts) -> Formula:
        left, right = resolve(self.left, facts), resolve(self.right, facts)
        known_left, known_right = left.__class__ is Value, right.__class__ is Value
        if (known_left and left.value is MISSING) or (known_right and right.value is MISSING):  # type: ignore[union-attr]
            return FAULTY
        if known_left and known_right:
            holds = compare(left, self.operator, right)  # type: ignore[arg-type]
            return FAULTY if holds is None else TRUE if holds else FALSE
        if left is self.left and right is self.right:
            return self
        return Comparison(left, self.operator, right)

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE | CAN_BE_FAULTY

    def words(self) -> str:
        return f"{self.left.words()} {self.operator} {self.right.words()}"


def findings(formula: Formula, facts: Facts, *, types: bool = False) -> list[str]:
    """What the references of a formula led to, in words: ``record.botanist_id is 4``.

    Args:
        formula: the formula.
        facts: what is known.
        types: whether to name the types of values and not the values, which may be secret.
    """
    texts: dict[str, None] = {}
    for part in walk(formula):
        if isinstance(part, Comparison):
            operands: tuple[Operand, ...] = (part.left, part.right)
        else:
            operands = (part.reference,) if isinstance(part, Holds) else ()
        for operand in _with_items(operands):
            value = resolve(operand, facts)
            if isinstance(operand, Reference) and isinstance(value, Value):
                missing = value.value is MISSING
                seen = f"of the type {type(value.value).__name__}" if types else value.words()
                texts[_without(operand, facts) if missing else f"{operand.words()} is {seen}"] = None
    return list(texts)


def _with_items(operands: Iterable[Operand]) -> Iterator[Operand]:
    """Operands, and those that lists among them have."""
    for operand in operands:
        yield operand
        if isinstance(operand, Listed):
            yield from _with_items(operand.items)
        elif isinstance(operand, Shifted):
            yield operand.moment


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
        value = follow(operand, facts)
        if value is UNKNOWN:
            return operand
        return Value(value, textual=is_textual(operand) and isinstance(value, str))
    if isinstance(operand, Now):
        return operand if facts.now is None else Value(facts.now.astimezone(operand.zone), literal=True)
    if isinstance(operand, Clock):
        return operand if facts.now is None else operand.value(facts.now)
    if isinstance(operand, Shifted):
        found = resolve(operand.moment, facts)
        return operand.value(found) if isinstance(found, Value) else operand
    if isinstance(operand, Listed):
        items = tuple(resolve(item, facts) for item in operand.items)
        if any(isinstance(item, Value) and item.value is MISSING for item in items):
            return Value(MISSING)
        if all(isinstance(item, Value) for item in items):
            return Value(items)
        return Listed(items)
    return operand


def is_textual(operand: Operand) -> bool:
    """Whether a string that an operand leads to may mean a number or a UUID.

    A path and a query have strings alone, and so has a token whose subject is a number in the records.
    """
    if not isinstance(operand, Reference):
        return False
    return operand.root in ("path", "query") or (operand.root == "caller" and operand.names == ("id",))


def follow(reference: Reference, facts: Facts) -> Any:
    """What a reference leads to, `UNKNOWN` or `MISSING`."""
    found = _followed(reference, facts)
    return None if found is MISSING and reference.optional else found


def _followed(reference: Reference, facts: Facts) -> Any:
    start = getattr(facts, reference.root)
    if start is UNKNOWN:
        return UNKNOWN
    if start is None:
        # A signed-out caller has no attributes; any other root that is not there may yet be supplied.
        return MISSING if reference.root == "caller" else UNKNOWN
    names = reference.names
    if reference.root == "records":
        # A record that is not loaded yet may still be loaded.
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
