"""A permission on its way into a condition that a database understands, whichever library writes it.

Conditions of a policy are true, false or faulty. A library that makes lists gives the same three values to a few
questions about one column; everything else is the same for all of them and is here.
"""

from __future__ import annotations

import copy
import datetime
import decimal
import math
import uuid
from abc import abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Generic, TypeVar

from ..core.caller import Caller
from ..core.conditions import Comparison, Holds, Listed, Operand, Reference
from ..core.formulas import FALSE, TRUE, Constant, Formula, Interpretation
from ..core.locating import records_where
from ..core.requirements import HoldingIn
from ..core.roles import RoleTable
from ..core.roles_in import text_of
from ..core.things import Thing
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
        holder: the caller and the roles of the policy, for roles that are held in what records belong to.
        check: whether the caller is only imagined, so that what is asked of callers is passed over.
    """

    true: Test
    false: Test
    faulty: Test

    def __init__(self, model: Any, permission: str, holder: Holder | None = None, *, check: bool = False) -> None:
        super().__init__()
        self.model = model
        self.permission = permission
        self.holder = holder
        self.check = check

    # What a library has to answer --------------------------------------------------------------------------------

    @abstractmethod
    def follow(self, reference: Reference, test: Callable[[Column], Test]) -> Test:
        """A test of the column that a reference leads to; faulty where a record on the way is missing."""

    @abstractmethod
    def among(self, column: Column, values: list[Any]) -> Test:
        """Whether a column that has a value has one of these, which are of its type."""

    @abstractmethod
    def identified(self, thing: Thing, test: Callable[[Column], Test]) -> Test:
        """A test of the column that identifies a record of a thing."""

    @abstractmethod
    def belonging(
        self, thing: Thing, test: Callable[[Column], Test], above: Callable[[Translation[Test, Column]], Test] | None
    ) -> Test:
        """A test of the column that identifies what a record belongs to; false where it belongs to nothing.

        Args:
            thing: what the record is.
            test: what is asked of the column.
            above: what is asked of the record that it belongs to, or None. Either is enough. Where there is no such
                record, neither true nor false.
        """

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
        if isinstance(formula, HoldingIn):
            return self._held_in(formula)
        if self.check:
            return self.true  # a role that is only imagined here, and known of every real caller
        raise self.error(f"{formula.words()} is not about the record")

    def _held_in(self, formula: HoldingIn) -> Test:
        """A role that is held in what the record is, or belongs to."""
        if formula.of is None or self.holder is None:
            raise self.error(f"{formula.name} is held in a {formula.thing}, and it is not said what the record is")
        found = Found(self.holder, formula, check=self.check)
        test = self.held(found, 0)
        if found.is_everywhere:
            # What is held everywhere does not count where it is kept apart.
            return self.any_of([test, self.opposite(self.held(found.without_where(), 0))])
        return test

    def held(self, found: Found, level: int) -> Test:
        """Whether a role is held in a record of a thing of the chain, or in what that belongs to."""
        tests = []
        thing = found.chain[level]
        if level == 0 and found.concerns(level):
            tests.append(self.identified(thing, lambda column: self._is_held_at(column, found, level)))
        if found.concerns_above(level):
            more = found.concerns_above(level + 1)
            above = (lambda inner: inner.held(found, level + 1)) if more else None
            tests.append(self.belonging(thing, lambda column: self._is_held_at(column, found, level + 1), above))
        return self.any_of(tests)

    def _is_held_at(self, column: Column, found: Found, level: int) -> Test:
        where, blocked = found.records[level]
        tests = [self._among_identifiers(column, where)]
        if blocked:
            tests.append(self.all_of([self._among_identifiers(column, blocked), self.faulty]))
        return self.any_of(tests)

    def _among_identifiers(self, column: Column, identifiers: list[Any]) -> Test:
        like = self.type_of(column)
        if self.kind(column) is None or not issubclass(like, int | str | uuid.UUID) or like is bool:
            raise self.error(f"identifiers are integers, texts or UUIDs, not {self.describe(column)}")
        values = [value for identifier in identifiers if (value := _identifier(identifier, like)) is not None]
        return self.among(column, values) if values else self.false

    def error(self, message: str) -> RowsError:
        """What prevents it."""
        return RowsError(f"{self.permission} cannot be asked of {self.model.__name__}: {message}")

    def _at(self, reference: Reference, test: Callable[[Column], Test]) -> Test:
        if reference.root != "record":
            raise self.error(f"{reference.words()} is not about the record")
        if reference.optional and len(reference.names) > 1:
            raise self.error(f"{reference.words()} leads through another record, which may be missing")
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
        if isinstance(value.value, datetime.datetime) and kind in (str, datetime.date):
            raise self.error(f"{formula.words()} compares a moment with dates or text, which a database does not")
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


@dataclass(frozen=True, slots=True)
class Holder:
    """Who holds roles in things, and what these mean."""

    roles: RoleTable
    caller: Caller | None


class Found:
    """Where a caller holds a role, by the things that a record may belong to.

    Args:
        holder: the caller.
        formula: the role.
        check: whether the caller is only imagined, and may hold it in any of them.

    Attributes:
        chain: what the record is, what that belongs to, and so on.
        records: for each of the chain, the identifiers where the role is held, and those where it is kept apart.
        is_everywhere: whether it is held everywhere as well.
    """

    def __init__(self, holder: Holder, formula: HoldingIn, *, check: bool) -> None:
        roles, caller = holder.roles, holder.caller
        self.chain = roles.things.chain(formula.of or "")
        nothing: tuple[list[Any], list[Any]] = ([], [])
        self.records = [
            nothing if caller is None else records_where(roles, caller, thing.name, formula.mask)
            for thing in self.chain
        ]
        self.is_everywhere = caller is not None and bool(roles.held(caller).bits & formula.mask)
        self._check = [check and bool(roles.bits_of_thing[thing.name] & formula.mask) for thing in self.chain]

    def concerns(self, level: int) -> bool:
        """Whether it makes a difference which record of the chain that is."""
        return self._check[level] or any(self.records[level])

    def concerns_above(self, level: int) -> bool:
        """Whether it makes a difference what that belongs to."""
        return any(self.concerns(above) for above in range(level + 1, len(self.chain)))

    def without_where(self) -> Found:
        """The same with nothing but where the role is kept apart."""
        other = copy.copy(self)
        other.records = [([], blocked) for _, blocked in self.records]
        return other


def _identifier(identifier: Any, like: type[Any]) -> Any:
    """An identifier of a caller's as a value of a column; None where no value of that type is the same."""
    text = text_of(identifier)
    if text is None:
        return None
    if issubclass(like, uuid.UUID):
        return plain_uuid(text)
    if issubclass(like, str):
        return text
    number = plain_number(text)
    return number if isinstance(number, int) and -_LARGEST - 1 <= number <= _LARGEST else None


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
