"""Which records a caller may have, as a condition that SQLAlchemy puts behind WHERE.

A list shows exactly the records that a single read would allow. Conditions of a policy are true, false or faulty, and
so are those of SQL: true, false or NULL. What is faulty for one record becomes NULL here, and NULL selects nothing, not
even under NOT. Where Python and a database could differ over a comparison, there is an error and no list.
"""

from __future__ import annotations

import datetime
import decimal
import uuid
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.orm import InstrumentedAttribute, RelationshipDirection

from ..core.caller import Caller, imagined
from ..core.conditions import (
    FALSE,
    FAULTY,
    TRUE,
    Comparison,
    Condition,
    Conjunction,
    Disjunction,
    Formula,
    Holds,
    Negated,
    Operand,
    Reference,
    Several,
)
from ..core.policy import Policy
from ..core.requirements import PermissionAsked
from ..core.values import Value, kind_of, plain_number

if TYPE_CHECKING:
    from collections.abc import Callable

_ORDER: dict[str, Callable[[Any, Any], Any]] = {
    "<": lambda one, other: one < other,
    "<=": lambda one, other: one <= other,
    ">": lambda one, other: one > other,
    ">=": lambda one, other: one >= other,
}
# For each type of a column, a value like those that it brings: what compares with one compares with the other.
_LIKE: tuple[tuple[type[Any], Any], ...] = (
    (bool, True),
    (int, 0),
    (float, 0.0),
    (decimal.Decimal, decimal.Decimal(0)),
    (str, ""),
    (bytes, b""),
    (uuid.UUID, uuid.UUID(int=0)),
    (datetime.date, datetime.date.min),
)


class RowsError(Exception):
    """A permission that cannot be asked of a table. The message says what stands in the way."""


def rows(policy: Policy, caller: Caller | None, permission: str, model: Any) -> sa.ColumnElement[bool]:
    """The condition for the records of a mapped class for which a caller has a permission.

    ``select(Trial).where(rows(policy, caller, "trial:read", Trial))``

    Args:
        policy: what decides.
        caller: who asks; None for a signed-out caller.
        permission: such as ``trial:read``.
        model: a class mapped by SQLAlchemy. ``record.botanist_id`` is its column of that name;
            ``record.trial.botanist_id`` follows a relationship that leads to one record.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table. `check_rows` tells at start.
    """
    formula = policy.permission(permission).fold(policy.facts_of(caller))
    return _Translation(model, permission).of(formula)


def check_rows(policy: Policy, permission: str, model: Any) -> None:
    """See that a permission can be asked of a table, whoever asks: call it once, when the application starts.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table.
    """
    facts = policy.facts_of(imagined(*policy.roles.bit))
    # Whoever asks, any part of what is granted may remain: each is translated, whatever roles it goes with.
    facts.certain, facts.possible = 0, ~0
    _Translation(model, permission, check=True).of(policy.permission(permission).fold(facts))


class _Translation:
    """One formula on its way into SQL."""

    def __init__(self, model: Any, permission: str, *, check: bool = False) -> None:
        self.model = model
        self.permission = permission
        self.check = check

    def of(self, formula: Formula) -> sa.ColumnElement[bool]:
        """The formula as SQL: true, false or NULL where it is true, false or faulty."""
        if formula is TRUE:
            return sa.true()
        if formula is FALSE:
            return sa.false()
        if formula is FAULTY:
            return _null()
        if isinstance(formula, Condition):
            return self.of(formula.test)
        if isinstance(formula, PermissionAsked):
            return self.of(formula.grants)
        if isinstance(formula, Conjunction):
            return sa.and_(*(self.of(part) for part in formula.parts))
        if isinstance(formula, Disjunction):
            return sa.or_(*(self.of(part) for part in formula.parts))
        if isinstance(formula, Negated):
            return sa.not_(self.of(formula.part))
        if isinstance(formula, Holds):
            return self._holds(formula)
        if isinstance(formula, Comparison):
            return self._comparison(formula)
        if self.check:
            return sa.true()  # a role that is only imagined here, and known of every real caller
        raise self.error(f"{formula.words()} is not about the record")

    def error(self, message: str) -> RowsError:
        """What stands in the way."""
        return RowsError(f"{self.permission} cannot be asked of {self.model.__name__}: {message}")

    def _holds(self, formula: Holds) -> sa.ColumnElement[bool]:
        reference = formula.reference
        if not isinstance(reference, Reference):
            raise self.error(f"{formula.words()} is not about the record")
        if self._is_open(reference):
            return sa.true()

        def test(column: InstrumentedAttribute[Any]) -> sa.ColumnElement[bool]:
            return column.is_(True) if _kind(column) is bool else _null()

        def whole(column: InstrumentedAttribute[Any]) -> sa.ColumnElement[bool]:
            # NULL for a value that is missing, true or false for the others.
            return sa.case((column.is_(None), _null()), else_=test(column))

        return self._at(reference, whole)

    def _comparison(self, formula: Comparison) -> sa.ColumnElement[bool]:
        left, sign, right = formula.left, formula.sign, formula.right
        if sign == "in" and not (isinstance(left, Reference) and left.root == "record"):
            raise self.error(f"{formula.words()} looks into a collection of the record")
        if self._is_open(left) or self._is_open(right):
            return self._open(formula)
        if sign == "in":
            assert isinstance(left, Reference)
            return self._at(left, lambda column: self._among(column, right, formula))
        if isinstance(left, Reference) and isinstance(right, Reference):
            return self._two_columns(left, sign, right, formula)
        if isinstance(left, Reference) and isinstance(right, Value):
            return self._at(left, lambda column: self._with_value(column, sign, right, formula))
        if isinstance(right, Reference) and isinstance(left, Value):
            turned = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}.get(sign, sign)
            return self._at(right, lambda column: self._with_value(column, turned, left, formula))
        raise self.error(f"{formula.words()} cannot be translated")

    def _open(self, formula: Comparison) -> sa.ColumnElement[bool]:
        """A comparison with what is not known of an imagined caller: only its columns are looked at."""
        for operand in (formula.left, formula.right):
            if isinstance(operand, Reference) and operand.root != "caller":
                self._at(operand, lambda column: self._looked_at(column, formula))
        return sa.true()

    def _looked_at(self, column: InstrumentedAttribute[Any], formula: Comparison) -> sa.ColumnElement[bool]:
        self._known_kind(column, formula)
        if formula.sign in _ORDER:
            self._check_order(column, formula)
        return sa.true()

    def _is_open(self, operand: Operand) -> bool:
        """Whether an operand is not known yet only because the caller is imagined."""
        if not self.check:
            return False
        if isinstance(operand, Several):
            return any(self._is_open(item) for item in operand.items)
        return isinstance(operand, Reference) and operand.root == "caller"

    # Columns --------------------------------------------------------------------------------

    def _at(
        self, reference: Reference, test: Callable[[InstrumentedAttribute[Any]], sa.ColumnElement[bool]]
    ) -> sa.ColumnElement[bool]:
        """A test of the column that a reference leads to, through relationships to one record each."""
        if reference.root != "record":
            raise self.error(f"{reference.words()} is not about the record")
        return self._follow(self.model, reference, 0, test)

    def _follow(
        self,
        model: Any,
        reference: Reference,
        place: int,
        test: Callable[[InstrumentedAttribute[Any]], sa.ColumnElement[bool]],
    ) -> sa.ColumnElement[bool]:
        name = reference.names[place]
        mapper = sa.inspect(model)
        last = place == len(reference.names) - 1
        if name in mapper.column_attrs and last:
            return test(getattr(model, name))
        relation = mapper.relationships.get(name)
        if relation is None or last:
            raise self.error(f"{model.__name__} has no column for {reference.words()}")
        if relation.direction is not RelationshipDirection.MANYTOONE:
            raise self.error(f"{reference.words()} leads to more than one record")
        attribute = getattr(model, name)
        inner = self._follow(relation.mapper.class_, reference, place + 1, test)
        # No such record: something is missing, which is neither true nor false.
        return sa.case((attribute.has(inner), sa.true()), (attribute.has(sa.not_(inner)), sa.false()), else_=_null())

    def _with_value(
        self, column: InstrumentedAttribute[Any], sign: str, value: Value, formula: Comparison
    ) -> sa.ColumnElement[bool]:
        if value.value is None:
            return self._with_none(column, sign, value)
        kind = self._known_kind(column, formula)
        if value.textual and kind is not str:
            return self._with_text(column, sign, value, formula)
        if sign in ("==", "!="):
            # A value that is missing is not the same as one that is there, which Python says too.
            if not _comparable(column, value):
                return sa.case((column.is_(None), sa.literal(sign == "!=")), else_=_null())
            same = column.is_not_distinct_from(value.value)
            return same if sign == "==" else sa.not_(same)
        if kind is bool or not _comparable(column, value):
            return _null()
        self._check_order(column, formula)
        found: sa.ColumnElement[bool] = _ORDER[sign](column, value.value)
        return found

    def _with_text(
        self, column: InstrumentedAttribute[Any], sign: str, value: Value, formula: Comparison
    ) -> sa.ColumnElement[bool]:
        """A comparison with text that may stand for a number or a UUID, as the id in a token may."""
        like = column.type.python_type
        if issubclass(like, uuid.UUID):
            try:
                return self._with_value(column, sign, Value(uuid.UUID(value.value)), formula)
            except ValueError:
                return self._with_value(column, sign, Value(value.value), formula)
        number = plain_number(value.value) if like in (int, float) else None
        if number is None:
            return self._with_value(column, sign, Value(value.value), formula)
        found = self._with_value(column, sign, Value(number), formula)
        # Text that is not the plain form of the very number in the record is neither that number nor another.
        plain = str(like(number)) == value.value
        return found if plain else sa.case((column == number, _null()), else_=found)

    def _with_none(self, column: InstrumentedAttribute[Any], sign: str, value: Value) -> sa.ColumnElement[bool]:
        if sign not in ("==", "!="):
            return _null()
        if value.literal:
            return column.is_(None) if sign == "==" else column.is_not(None)
        # Nobody's record and a caller who has no such attribute: neither has a value, which makes them no match.
        return sa.case((column.is_(None), _null()), else_=sa.literal(sign == "!="))

    def _among(
        self, column: InstrumentedAttribute[Any], operand: Operand, formula: Comparison
    ) -> sa.ColumnElement[bool]:
        items = _items(operand)
        if items is None:
            return _null()
        if len(items) < len(operand.items if isinstance(operand, Several) else ()):
            raise self.error(f"{formula.words()} compares two columns of the record")
        tests = [self._with_value(column, "==", item, formula) for item in items]
        return sa.or_(*tests) if tests else sa.false()

    def _two_columns(self, left: Reference, sign: str, right: Reference, formula: Comparison) -> sa.ColumnElement[bool]:
        if len(left.names) > 1 or len(right.names) > 1:
            raise self.error(f"{formula.words()} compares two records")

        def compared(one: InstrumentedAttribute[Any], other: InstrumentedAttribute[Any]) -> sa.ColumnElement[bool]:
            same_kind = self._known_kind(one, formula) == self._known_kind(other, formula)
            if sign in ("==", "!="):
                same = one.is_not_distinct_from(other) if same_kind else _null()
                found = same if sign == "==" else sa.not_(same)
                # One of them missing: not the same. Both missing: neither true nor false.
                return sa.case(
                    (sa.and_(one.is_(None), other.is_(None)), _null()),
                    (sa.or_(one.is_(None), other.is_(None)), sa.literal(sign == "!=")),
                    else_=found,
                )
            if not same_kind or self._known_kind(one, formula) is bool:
                return _null()
            self._check_order(one, formula)
            ordered: sa.ColumnElement[bool] = _ORDER[sign](one, other)
            return ordered

        return self._at(left, lambda one: self._at(right, lambda other: compared(one, other)))

    def _known_kind(self, column: InstrumentedAttribute[Any], formula: Comparison) -> Any:
        kind = _kind(column)
        if kind is None:
            raise self.error(f"{formula.words()}: columns of the type {column.type} are not compared alike everywhere")
        return kind

    def _check_order(self, column: InstrumentedAttribute[Any], formula: Comparison) -> None:
        if _kind(column) is str:
            raise self.error(f"{formula.words()}: databases put texts into another order than Python does")


def _kind(column: InstrumentedAttribute[Any]) -> Any:
    """What the values of a column can be compared with; None where that is not sure."""
    if isinstance(column.type, sa.DateTime | sa.CHAR) or getattr(column.type, "enum_class", None) is not None:
        # Moments come back with or without a zone, as the database has it; texts of a fixed length are filled up; and
        # members of an enumeration are texts or none.
        return None
    try:
        python_type = column.type.python_type
    except NotImplementedError:
        return None
    if python_type is datetime.datetime:
        return None
    like = next((each for kind, each in _LIKE if issubclass(python_type, kind)), None)
    return kind_of(like) if like is not None else None


def _comparable(column: InstrumentedAttribute[Any], value: Value) -> bool:
    """Whether the values of a column and a value are of kinds that can be compared at all."""
    return _kind(column) is not None and _kind(column) == kind_of(value.value)


def _items(operand: Operand) -> list[Value] | None:
    """The members of a list or another collection; None for what is none."""
    if isinstance(operand, Several):
        return [item for item in operand.items if isinstance(item, Value)]
    if isinstance(operand, Value) and isinstance(operand.value, list | tuple | set | frozenset):
        return [item if isinstance(item, Value) else Value(item) for item in operand.value]
    return None


def _null() -> sa.ColumnElement[bool]:
    return sa.cast(sa.null(), sa.Boolean)
