"""A permission on its way into a condition that a database understands, whichever library writes it.

Conditions of a policy are true, false or faulty. A library that makes lists gives the same three values to a few
questions about one column; everything else is the same for all of them and is here.
"""

from __future__ import annotations

import decimal
import math
import uuid
from abc import abstractmethod
from collections.abc import Callable
from decimal import Decimal
from typing import Any, Generic, TypeVar

from ..core.conditions import Comparison, Holds, Listed, Operand, Reference
from ..core.formulas import FALSE, TRUE, Constant, Formula, Interpretation
from ..core.values import Value, as_decimal, as_numbers, kind_of, leads_astray, plain_number, plain_uuid
from ..language.errors import BloodrootError
from ..language.operators import OPERATORS

Test = TypeVar("Test")  # a condition of the library, with the values true, false and faulty
Column = TypeVar("Column")
_LARGEST = 2**63 - 1
_ENOUGH = 60


class RowsError(BloodrootError):
    """A permission that cannot be asked of a table. The message says what prevents it."""


class Translation(Interpretation[Test], Generic[Test, Column]):
    """One permission on its way into a condition on the rows of a table.

    Args:
        model: the class of the records.
        permission: its name, for messages.
        check: whether the caller is only imagined, so that what is asked of callers is passed over.
    """

    true: Test
    false: Test
    faulty: Test

    def __init__(self, model: Any, permission: str, *, check: bool = False) -> None:
        super().__init__()
        self.model = model
        self.permission = permission
        self.check = check

    # What a library has to answer --------------------------------------------------------------------------------

    @abstractmethod
    def follow(self, reference: Reference, test: Callable[[Column], Test]) -> Test:
        """A test of the column that a reference leads to; faulty where a record on the way is missing."""

    @abstractmethod
    def kind(self, column: Column) -> Any:
        """What the values of a column can be compared with; None where that is not sure."""

    @abstractmethod
    def type_of(self, column: Column) -> Any:
        """The Python type of the values of a column, such as int."""

    @abstractmethod
    def tells_none(self, column: Column) -> bool:
        """Whether a column has no value in Python exactly where it has none in the database."""

    @abstractmethod
    def if_none(self, column: Column, none: Test, other: Test) -> Test:
        """One test where a column has no value, another where it has one."""

    @abstractmethod
    def where_known(self, column: Column, test: Test) -> Test:
        """A test where a column has a value that can be compared; faulty elsewhere."""

    @abstractmethod
    def same(self, column: Column, value: Any) -> Test:
        """Whether a column has just this value, which is not none; faulty where it has none."""

    @abstractmethod
    def ordered(self, column: Column, operator: str, value: Any) -> Test:
        """Whether a column is less or more than a value; faulty where it has none."""

    @abstractmethod
    def same_columns(self, one: Column, other: Column) -> Test:
        """Whether two columns have the same value; faulty where one of them has none."""

    @abstractmethod
    def ordered_columns(self, one: Column, operator: str, other: Column) -> Test:
        """Whether a column is less or more than another; faulty where one of them has no value."""

    @abstractmethod
    def digits(self, column: Column) -> tuple[int | None, int | None]:
        """How many digits a column of decimal numbers has, and how many of them behind the point; None for any."""

    @abstractmethod
    def describe(self, column: Column) -> str:
        """The type of a column, for messages."""

    # The same for all --------------------------------------------------------------------------------

    def constant(self, constant: Constant) -> Test:
        """True, false or faulty."""
        return self.true if constant is TRUE else self.false if constant is FALSE else self.faulty

    def leaf(self, formula: Formula) -> Test:
        """A comparison of columns."""
        if isinstance(formula, Holds):
            return self._holds(formula)
        if isinstance(formula, Comparison):
            return self._comparison(formula)
        if self.check:
            return self.true  # a role that is only imagined here, and known of every real caller
        raise self.error(f"{formula.words()} is not about the record")

    def error(self, message: str) -> RowsError:
        """What prevents it."""
        return RowsError(f"{self.permission} cannot be asked of {self.model.__name__}: {message}")

    def _at(self, reference: Reference, test: Callable[[Column], Test]) -> Test:
        if reference.root != "record":
            raise self.error(f"{reference.words()} is not about the record")
        return self.follow(reference, test)

    def _holds(self, formula: Holds) -> Test:
        reference = formula.reference
        if not isinstance(reference, Reference):
            raise self.error(f"{formula.words()} is not about the record")
        if self._is_open(reference):
            return self.true

        def test(column: Column) -> Test:
            return self.same(column, True) if self.kind(column) is bool else self.faulty

        return self._at(reference, test)

    def _comparison(self, formula: Comparison) -> Test:
        left, operator, right = formula.left, formula.operator, formula.right
        if operator == "in" and not (isinstance(left, Reference) and left.root == "record"):
            raise self.error(f"{formula.words()} looks into a collection of the record")
        if operator in OPERATORS and not (OPERATORS[operator].is_equality or OPERATORS[operator].is_order):
            raise self.error(f"{formula.words()} cannot be translated")
        if self._is_open(left) or self._is_open(right):
            return self._open(formula)
        if operator == "in":
            assert isinstance(left, Reference)
            return self._at(left, lambda column: self._among(column, right, formula))
        if isinstance(left, Reference) and isinstance(right, Reference):
            return self._two_columns(left, operator, right, formula)
        if isinstance(left, Reference) and isinstance(right, Value):
            return self._at(left, lambda column: self._with_value(column, operator, right, formula))
        if isinstance(right, Reference) and isinstance(left, Value):
            mirrored = OPERATORS[operator].mirrored
            return self._at(right, lambda column: self._with_value(column, mirrored, left, formula))
        raise self.error(f"{formula.words()} cannot be translated")

    def _open(self, formula: Comparison) -> Test:
        """A comparison with what is not known of an imagined caller: only its columns are looked at."""
        for operand in (formula.left, formula.right):
            if isinstance(operand, Reference) and operand.root != "caller":
                self._at(operand, lambda column: self._looked_at(column, formula))
        return self.true

    def _looked_at(self, column: Column, formula: Comparison) -> Test:
        self._known_kind(column, formula)
        if formula.operator in OPERATORS and OPERATORS[formula.operator].is_order:
            self._check_order(column, formula)
        return self.true

    def _is_open(self, operand: Operand) -> bool:
        """Whether an operand is not known yet only because the caller is imagined."""
        if not self.check:
            return False
        if isinstance(operand, Listed):
            return any(self._is_open(item) for item in operand.items)
        return isinstance(operand, Reference) and operand.root == "caller"

    def _with_value(self, column: Column, operator: str, value: Value, formula: Comparison) -> Test:
        if value.value is None:
            return self._with_none(column, operator, value, formula)
        kind = self._known_kind(column, formula)
        if value.textual and kind is not str:
            return self._with_text(column, operator, value, formula)
        if kind is not kind_of(value.value):
            return self.faulty
        if kind is float:
            return self._with_number(column, operator, value.value)
        if OPERATORS[operator].is_equality:
            same = self.same(column, value.value)
            return self.opposite(same) if OPERATORS[operator].is_negated else same
        if kind is bool:
            return self.faulty
        self._check_order(column, formula)
        return self.ordered(column, operator, value.value)

    def _with_number(self, column: Column, operator: str, number: Any) -> Test:
        """A comparison with a number, by the numbers next to it that the column can hold."""
        below, above = self._next_to(column, number)
        exact = below is not None and below == above
        if OPERATORS[operator].is_equality:
            same = self.same(column, below) if exact else self.where_known(column, self.false)
            return self.opposite(same) if OPERATORS[operator].is_negated else same
        if exact:
            return self.ordered(column, operator, below)
        operator, bound = ("<=", below) if OPERATORS[operator].is_below else (">=", above)
        if bound is None:
            return self.where_known(column, self.false)
        return self.ordered(column, operator, bound)

    def _next_to(self, column: Column, number: Any) -> tuple[Any, Any]:
        """The largest number in a column that is no more than a number, and the least that is no less.

        They are one where the column can hold the number itself, and None where it can hold none such.
        """
        like = self.type_of(column)
        if like is float:
            return _next_floats(number)
        places: int | None
        most: Any
        least: Any
        if like is int:
            places, most, least = 0, _LARGEST, -_LARGEST - 1
        else:
            digits, places = self.digits(column)
            most = _most(digits, places)
            least = None if most is None else -most
            if isinstance(number, float):
                number = as_decimal(number)
        if most is not None and number > most:
            return most, None
        if least is not None and number < least:
            return None, least
        number = Decimal(number)
        if places is None or number.is_infinite():
            return number, number
        with decimal.localcontext(decimal.Context(prec=max(_ENOUGH, number.adjusted() + places + 2))):
            step = Decimal(1).scaleb(-places)
            below = number.quantize(step, decimal.ROUND_FLOOR)
            above = number.quantize(step, decimal.ROUND_CEILING)
        return (int(below), int(above)) if like is int else (below, above)

    def _with_text(self, column: Column, operator: str, value: Value, formula: Comparison) -> Test:
        """A comparison with text that may mean a number or a UUID, as the id in a token may."""
        like = self.type_of(column)
        if issubclass(like, uuid.UUID):
            found = plain_uuid(value.value)
            return self.faulty if found is None else self._with_value(column, operator, Value(found), formula)
        number = plain_number(value.value) if self.kind(column) is float else None
        if number is None:
            return self.faulty
        test = self._with_number(column, operator, number)
        if like is not float or not leads_astray(number, float(number)):
            return test
        # More digits than the number in binary has are not its plain form: neither true nor false where they lead to
        # it, so true there, and faulty as well.
        here = self.same(column, float(number))
        return self.any_of([self.all_of([here, self.faulty]), self.all_of([self.opposite(here), test])])

    def _with_none(self, column: Column, operator: str, value: Value, formula: Comparison) -> Test:
        if not self.tells_none(column):
            raise self.error(
                f"{formula.words()}: columns of the type {self.describe(column)} may have a value that is read as none"
            )
        # A caller without a value compares with nothing, and with no record without one either.
        if not OPERATORS[operator].is_equality or not value.literal:
            return self.faulty
        same = self.if_none(column, self.true, self.false)
        return self.opposite(same) if OPERATORS[operator].is_negated else same

    def _among(self, column: Column, operand: Operand, formula: Comparison) -> Test:
        items = _items(operand)
        if items is None:
            return self.faulty
        if len(items) < len(operand.items if isinstance(operand, Listed) else ()):
            raise self.error(f"{formula.words()} compares two columns of the record")
        return self.any_of([self._with_value(column, "==", item, formula) for item in items])

    def _two_columns(self, left: Reference, operator: str, right: Reference, formula: Comparison) -> Test:
        if len(left.names) > 1 or len(right.names) > 1:
            raise self.error(f"{formula.words()} compares two records")

        def compared(one: Column, other: Column) -> Test:
            kind = self._known_kind(one, formula)
            if kind is not self._known_kind(other, formula):
                return self.faulty
            if kind is float and float in (types := {self.type_of(one), self.type_of(other)}) and len(types) > 1:
                raise self.error(f"{formula.words()} compares numbers in binary with other numbers")
            if OPERATORS[operator].is_equality:
                same = self.same_columns(one, other)
                return self.opposite(same) if OPERATORS[operator].is_negated else same
            if kind is bool:
                return self.faulty
            self._check_order(one, formula)
            return self.ordered_columns(one, operator, other)

        return self._at(left, lambda one: self._at(right, lambda other: compared(one, other)))

    def _known_kind(self, column: Column, formula: Comparison) -> Any:
        kind = self.kind(column)
        if kind is None:
            kind_of_column = self.describe(column)
            raise self.error(
                f"{formula.words()}: columns of the type {kind_of_column} are not compared alike everywhere"
            )
        return kind

    def _check_order(self, column: Column, formula: Comparison) -> None:
        if self.kind(column) is str:
            raise self.error(f"{formula.words()}: databases put texts into another order than Python does")


def _next_floats(number: Any) -> tuple[Any, Any]:
    """The numbers in binary next to a number: the largest that is no more, and the least that is no less."""
    if isinstance(number, float):
        return number, number
    try:
        near = float(number)
    except OverflowError:
        near = math.inf if number > 0 else -math.inf
    value, wanted = as_numbers(near, number)
    if value == wanted:
        return near, near
    return (near, math.nextafter(near, math.inf)) if value < wanted else (math.nextafter(near, -math.inf), near)


def _most(digits: int | None, places: int | None) -> Decimal | None:
    """The largest number of so many digits; None where there is no largest one."""
    if digits is None:
        return None
    return Decimal("9" * digits).scaleb(-(places or 0))


def _items(operand: Operand) -> list[Value] | None:
    """The members of a list or another collection; None for what is none."""
    if isinstance(operand, Listed):
        return [item for item in operand.items if isinstance(item, Value)]
    if isinstance(operand, Value) and isinstance(operand.value, list | tuple | set | frozenset):
        return [item if isinstance(item, Value) else Value(item) for item in operand.value]
    return None
