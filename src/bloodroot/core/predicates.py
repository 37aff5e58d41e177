"""Formulas compiled to plain Python predicates, for requests and for one record after another.

A predicate says what folding the formula over the same facts may still turn into, as `Formula.values` does: one bit
where that is known, several where it is not. It makes no remainder, so that it costs a fraction of folding. Formulas
that ask for roles are folded with the caller's roles before they are compiled.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Sequence
from typing import Any

from ..language.operators import OPERATORS
from .caller import CallerView
from .conditions import Clock, Comparison, Holds, Listed, Now, Operand, Reference, Shifted, follow, is_textual, resolve
from .formulas import CAN_BE_FALSE, CAN_BE_FAULTY, CAN_BE_TRUE, Constant, Facts, Formula, Interpretation, walk
from .records import MISSING, UNKNOWN, attribute
from .requirements import Guarded, HoldingIn, HoldingSomewhere, PermissionAsked
from .values import Value, compare

Predicate = Callable[[Facts], int]
_Getter = Callable[[Facts], Any]

# Values of one of these types, exactly, compare as Python does; every other pair is left to `compare`.
_PLAIN = frozenset((int, str, bool, bytes, uuid.UUID))
_ORDERED = frozenset((int, str, bytes))
# A formula whose parts are asked for many times over is folded, as folding remembers what it has folded.
_MOST_REPEATED = 4
_FEW = 64


def compiled(formula: Formula) -> Predicate:
    """The predicate of a formula in which no roles or permissions are left. Assumed conditions do not count in it."""
    if _size(formula) > _FEW + _MOST_REPEATED * sum(1 for _ in walk(formula)):
        return _folding(formula)
    return _Compiling().of(formula)


def _size(formula: Formula) -> int:
    """How many parts a formula has where each is counted as often as it is asked for."""
    sizes: dict[int, int] = {}
    waiting = [formula]
    while waiting:
        part = waiting[-1]
        unknown = [child for child in part.children if id(child) not in sizes]
        if unknown:
            waiting += unknown
        else:
            waiting.pop()
            sizes[id(part)] = 1 + sum(sizes[id(child)] for child in part.children)
    return sizes[id(formula)]


_TRUE_OR_FALSE = CAN_BE_TRUE | CAN_BE_FALSE
_ANYTHING = _TRUE_OR_FALSE | CAN_BE_FAULTY
# What `compare` gives, as bits, and the opposite of each set of bits.
_BITS = {True: CAN_BE_TRUE, False: CAN_BE_FALSE, None: CAN_BE_FAULTY}
_OPPOSITE = tuple(
    bits & CAN_BE_FAULTY | CAN_BE_FALSE * bool(bits & CAN_BE_TRUE) | CAN_BE_TRUE * bool(bits & CAN_BE_FALSE)
    for bits in range(8)
)


class _Compiling(Interpretation[Predicate]):
    """Nodes as predicates, each after what `Formula.fold` does with it."""

    def constant(self, constant: Constant) -> Predicate:
        bits = constant.bits
        return lambda _: bits

    def all_of(self, parts: Sequence[Predicate]) -> Predicate:
        def test(facts: Facts) -> int:
            true, others = CAN_BE_TRUE, 0
            for part in parts:
                bits = part(facts)
                if bits == CAN_BE_FALSE:
                    return CAN_BE_FALSE
                true &= bits
                others |= bits
            return true | others & (CAN_BE_FALSE | CAN_BE_FAULTY)

        return test

    def any_of(self, parts: Sequence[Predicate]) -> Predicate:
        def test(facts: Facts) -> int:
            false, others = CAN_BE_FALSE, 0
            for part in parts:
                bits = part(facts)
                if bits == CAN_BE_TRUE:
                    return CAN_BE_TRUE
                false &= bits
                others |= bits
            return false | others & (CAN_BE_TRUE | CAN_BE_FAULTY)

        return test

    def opposite(self, part: Predicate) -> Predicate:
        return lambda facts: _OPPOSITE[part(facts)]

    def leaf(self, formula: Formula) -> Predicate:
        if isinstance(formula, Comparison):
            return _comparison(formula)
        if isinstance(formula, Holds):
            return _holds(formula)
        if isinstance(formula, Guarded):
            return lambda facts: CAN_BE_TRUE if facts.guarded else _TRUE_OR_FALSE
        if isinstance(formula, HoldingIn | HoldingSomewhere):
            return lambda facts: formula.fold(facts).values()
        return _folding(formula)

    def node(self, formula: Formula) -> Predicate:
        # A permission rests on scopes and grants beside what it stands for.
        return _folding(formula) if isinstance(formula, PermissionAsked) else super().node(formula)


def _folding(formula: Formula) -> Predicate:
    # What was folded with another record does not count for this one.
    return lambda facts: formula.fold(facts.with_()).values()


def _holds(formula: Holds) -> Predicate:
    value = _getter(formula.reference)

    def test(facts: Facts) -> int:
        found = value(facts)
        if found is True:
            return CAN_BE_TRUE
        return CAN_BE_FALSE if found is False else _ANYTHING if found is UNKNOWN else CAN_BE_FAULTY

    return test


def _comparison(formula: Comparison) -> Predicate:
    if formula.operator == "in":
        return _membership(formula)
    left, right, operator = _getter(formula.left), _getter(formula.right), formula.operator
    as_left, as_right = _as_value(formula.left), _as_value(formula.right)
    plain = _PLAIN if OPERATORS[operator].is_equality else _ORDERED
    if is_textual(formula.left) and is_textual(formula.right):
        # Two strings that differ may mean the same number.
        plain = plain - {str}
    work_out: Callable[[Any, Any], bool] = OPERATORS[operator].test

    def test(facts: Facts) -> int:
        one, other = left(facts), right(facts)
        kind = one.__class__
        if kind is other.__class__ and kind in plain:
            return CAN_BE_TRUE if work_out(one, other) else CAN_BE_FALSE
        if one is MISSING or other is MISSING:
            return CAN_BE_FAULTY
        if one is UNKNOWN or other is UNKNOWN:
            return _ANYTHING
        return _BITS[compare(as_left(one), operator, as_right(other))]

    return test


def _membership(formula: Comparison) -> Predicate:
    left, right = _getter(formula.left), _getter(formula.right)
    as_left, as_right = _as_value(formula.left), _as_value(formula.right)
    strings = _strings(formula.right)

    def test(facts: Facts) -> int:
        one = left(facts)
        if strings is not None and one.__class__ is str:
            return CAN_BE_TRUE if one in strings else CAN_BE_FALSE
        other = right(facts)
        if one is MISSING or other is MISSING:
            return CAN_BE_FAULTY
        if one is UNKNOWN or other is UNKNOWN:
            return _ANYTHING
        return _BITS[compare(as_left(one), "in", as_right(other))]

    return test


def _strings(operand: Operand) -> frozenset[str] | None:
    """The strings that a list in the policy has, where it has nothing else."""
    items = operand.items if isinstance(operand, Listed) else ()
    strings = [item.value for item in items if isinstance(item, Value) and item.value.__class__ is str]
    return frozenset(strings) if strings and len(strings) == len(items) else None


def _as_value(operand: Operand) -> Callable[[Any], Value]:
    """How what an operand leads to becomes a value to compare."""
    if isinstance(operand, Value):
        return lambda _: operand
    if isinstance(operand, Now | Clock | Shifted):
        return lambda found: Value(found, literal=True)
    if is_textual(operand):
        return lambda found: Value(found, textual=isinstance(found, str))
    return Value


def _getter(operand: Operand) -> _Getter:
    """What leads to the value of an operand: the plain value, `UNKNOWN` or `MISSING`."""
    if isinstance(operand, Value):
        value = operand.value
        return lambda _: value
    if isinstance(operand, Now):
        zone = operand.zone
        return lambda facts: UNKNOWN if facts.now is None else facts.now.astimezone(zone)
    if isinstance(operand, Clock | Shifted):
        return lambda facts: _resolved(operand, facts)
    if isinstance(operand, Listed):
        return lambda facts: _listed(operand, facts)
    return _reference(operand)


def _resolved(operand: Clock | Shifted, facts: Facts) -> Any:
    value = resolve(operand, facts)
    return value.value if isinstance(value, Value) else UNKNOWN


def _listed(operand: Listed, facts: Facts) -> Any:
    value = resolve(operand, facts)
    return value.value if isinstance(value, Value) else UNKNOWN


_NOT_FOLLOWED = object()


def _reference(reference: Reference) -> _Getter:
    if reference.root == "caller":
        key = reference.words()

        def of_caller(facts: Facts) -> Any:
            caller = facts.caller
            if caller.__class__ is not CallerView:
                return follow(reference, facts)
            value = caller.followed.get(key, _NOT_FOLLOWED)
            if value is _NOT_FOLLOWED:
                value = caller.followed[key] = follow(reference, facts)
            return value

        return of_caller
    if reference.root != "record" or len(reference.names) != 1 or reference.optional:
        return lambda facts: follow(reference, facts)
    (name,) = reference.names

    def value(facts: Facts) -> Any:
        return UNKNOWN if facts.record is None else attribute(facts.record, name)

    return value
