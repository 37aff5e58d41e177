"""Which records a caller may have, as a condition that SQLAlchemy puts behind WHERE.

A list shows exactly the records that a single read would allow. What is faulty for one record becomes NULL here, and
NULL selects nothing, not even under NOT. Where Python and a database could differ over a comparison, there is an error
and no list.
"""

from __future__ import annotations

import datetime
import decimal
import math
import sys
import uuid
from collections.abc import Callable, Iterable
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.orm import InstrumentedAttribute, RelationshipDirection
from sqlalchemy.sql.visitors import InternalTraversal

from ..core.caller import Caller, imagined
from ..core.conditions import Reference
from ..core.permissions import permission_named
from ..core.policy import Policy
from ..core.values import kind_of
from .translation import RowsError, Translation

__all__ = ["RowsError", "check_rows", "rows"]

Test = sa.ColumnElement[bool]
Column = InstrumentedAttribute[Any]
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
        RowsError: what it asks of the record cannot be asked of the table. `check_rows` finds out at start.
    """
    formula = policy.engine.left_of(permission_named(policy.engine, permission), caller)
    return _Translation(model, permission).of(formula)


def check_rows(policy: Policy, permission: str, model: Any) -> None:
    """See that a permission can be asked of a table for every caller: call it once, when the application starts.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table.
    """
    facts = policy.engine.facts_of(imagined(*policy.roles.bit))
    # Any part of what is granted may remain for some caller: each is translated, whatever roles it goes with.
    facts.certain, facts.possible = 0, ~0
    _Translation(model, permission, check=True).of(permission_named(policy.engine, permission).fold(facts))


def _null() -> Test:
    return sa.cast(sa.null(), sa.Boolean)


class _Translation(Translation[Test, Column]):
    """One permission on its way into SQL: NULL where it is faulty."""

    true, false, faulty = sa.true(), sa.false(), _null()

    def all_of(self, tests: Iterable[Test]) -> Test:
        return sa.and_(sa.true(), *tests)

    def any_of(self, tests: Iterable[Test]) -> Test:
        return sa.or_(sa.false(), *tests)

    def opposite(self, test: Test) -> Test:
        return sa.not_(test)

    def if_none(self, column: Column, none: Test, other: Test) -> Test:
        return sa.case((column.is_(None), none), else_=other)

    def where_known(self, column: Column, test: Test) -> Test:
        return sa.case((_compared(column).is_(None), _null()), else_=test)

    def same(self, column: Column, value: Any) -> Test:
        found: Test = _compared(column) == _bound(column, value)
        return found

    def ordered(self, column: Column, operator: str, value: Any) -> Test:
        found: Test = _ORDER[operator](_compared(column), _bound(column, value))
        return found

    def same_columns(self, one: Column, other: Column) -> Test:
        return _compared(one) == _compared(other)

    def ordered_columns(self, one: Column, operator: str, other: Column) -> Test:
        found: Test = _ORDER[operator](_compared(one), _compared(other))
        return found

    def kind(self, column: Column) -> Any:
        return _kind(column)

    def type_of(self, column: Column) -> Any:
        return column.type.python_type

    def digits(self, column: Column) -> tuple[int | None, int | None]:
        kind: Any = column.type
        return kind.precision, kind.scale

    def describe(self, column: Column) -> str:
        return str(column.type)

    def follow(self, reference: Reference, test: Callable[[Column], Test]) -> Test:
        """A test of the column that a reference leads to, through relationships to one record each."""
        return self._follow(self.model, reference, 0, test)

    def _follow(self, model: Any, reference: Reference, place: int, test: Callable[[Column], Test]) -> Test:
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


def _kind(column: InstrumentedAttribute[Any]) -> Any:
    """What the values of a column can be compared with; None where that is not sure."""
    if isinstance(column.type, sa.TypeDecorator):
        return None  # what it makes of a value on the way to the database is not known
    if isinstance(column.type, sa.DateTime | sa.CHAR) or getattr(column.type, "enum_class", None) is not None:
        # Moments come back with or without a zone, as the database has it; texts of a fixed length are filled up; and
        # members of an enumeration are texts or none.
        return None
    if isinstance(column.type, sa.Numeric | sa.Float) and not _is_plain_number(column.type):
        return None
    try:
        python_type = column.type.python_type
    except NotImplementedError:
        return None
    if python_type is datetime.datetime:
        return None
    like = next((each for kind, each in _LIKE if issubclass(python_type, kind)), None)
    return kind_of(like) if like is not None else None


def _is_plain_number(kind: sa.Numeric[Any] | sa.Float[Any]) -> bool:
    """Whether what is read from a column is the very number in it: a double as a float, a decimal as a decimal."""
    if isinstance(kind, sa.Float):
        # A number of single precision is read as another one.
        single = isinstance(kind, sa.REAL) or (kind.precision is not None and kind.precision <= 24)
        return not kind.asdecimal and not single
    return bool(kind.asdecimal) and kind.scale is not None


def _bound(column: Column, value: Any) -> Any:
    """A value as a database gets it: numbers in the width of the column, texts for exact comparison."""
    if isinstance(value, bool):
        return value
    if isinstance(value, int):
        return sa.literal(value, sa.BigInteger())
    if isinstance(value, float | decimal.Decimal):
        return sa.literal(value, _Infinite()) if math.isinf(value) else sa.literal(value, column.type)
    return _Exact(sa.literal(value, sa.Text())) if isinstance(value, str) and _kind(column) is str else value


def _compared(column: Column) -> sa.ColumnElement[Any]:
    """A column as it is compared: texts character by character, numbers as they are read."""
    if _kind(column) is str:
        return _Exact(column)
    return _Number(column) if isinstance(column.type, sa.Numeric | sa.Float) else column  # type: ignore[return-value]


class _Number(sa.ColumnElement[Any]):
    """A number as it is read, and NULL where it is no number at all."""

    inherit_cache = True
    __visit_name__ = "bloodroot_number"
    _traverse_internals = [("column", InternalTraversal.dp_clauseelement)]  # noqa: RUF012 - as SQLAlchemy wants it

    def __init__(self, column: Any) -> None:
        self.column = column
        self.type: Any = column.type


@compiles(_Number)
def _number(element: _Number, compiler: Any, **how: Any) -> str:
    return str(compiler.process(element.column, **how))


@compiles(_Number, "postgresql")
def _number_on_postgresql(element: _Number, compiler: Any, **how: Any) -> str:
    # PostgreSQL has NaN, larger than every number and the same as itself.
    return f"NULLIF({compiler.process(element.column, **how)}, 'NaN')"


@compiles(_Number, "sqlite")
def _number_on_sqlite(element: _Number, compiler: Any, **how: Any) -> str:
    column, kind = compiler.process(element.column, **how), element.type
    if isinstance(kind, sa.Float):
        return str(column)
    # SQLite has no decimal numbers: it keeps more places than the type has, which are not read.
    return f"CASE WHEN {column} IS NOT NULL THEN CAST(printf('%.{kind.scale}f', {column}) AS REAL) END"


@compiles(_Number, "mysql", "mariadb")
def _number_on_mysql(element: _Number, compiler: Any, **how: Any) -> str:
    kind = element.type
    if isinstance(kind, sa.Float) and not isinstance(kind, sa.Double) and kind.precision is None:
        raise RowsError("a Float is a number of single precision in MySQL and is read as another one; make it a Double")
    return str(compiler.process(element.column, **how))


class _Infinite(sa.TypeDecorator[float]):
    """An infinite number. MySQL has none, and no number in its columns is larger than the largest one."""

    impl = sa.Double
    cache_ok = True

    def process_bind_param(self, value: float | None, dialect: sa.Dialect) -> float | None:
        if value is None or dialect.name not in ("mysql", "mariadb"):
            return value
        return math.copysign(sys.float_info.max, value)


class _Exact(sa.ColumnElement[str]):
    """A string that is compared character by character: with its case, its accents and its trailing blanks.

    The collation of a column, a table or a database may ignore any of them, and nothing in a model shows it.
    """

    inherit_cache = True
    __visit_name__ = "bloodroot_exact_text"
    type = sa.Text()

    def __init__(self, text: Any) -> None:
        self.text = text

    _traverse_internals = [("text", InternalTraversal.dp_clauseelement)]  # noqa: RUF012 - as SQLAlchemy wants it


@compiles(_Exact)
def _on_others(element: _Exact, compiler: Any, **_: Any) -> str:  # noqa: ARG001
    raise RowsError(
        f"how {compiler.dialect.name} compares texts is not known here; lists are made for SQLite, PostgreSQL, MySQL "
        "and MariaDB"
    )


@compiles(_Exact, "sqlite")
def _on_sqlite(element: _Exact, compiler: Any, **how: Any) -> str:
    return f"({compiler.process(element.text, **how)} COLLATE BINARY)"


@compiles(_Exact, "postgresql")
def _on_postgresql(element: _Exact, compiler: Any, **how: Any) -> str:
    # The cast is for types such as citext, which compare in a way of their own.
    return f'(CAST({compiler.process(element.text, **how)} AS TEXT) COLLATE "C")'


@compiles(_Exact, "mysql", "mariadb")
def _on_mysql(element: _Exact, compiler: Any, **how: Any) -> str:
    # As bytes of one character set: those of a column and of a literal may differ.
    return f"CAST(CONVERT({compiler.process(element.text, **how)} USING utf8mb4) AS BINARY)"
