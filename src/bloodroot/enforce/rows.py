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
        RowsError: what it asks of the record cannot be asked of the table. `check_rows` tells at start.
    """
    formula = policy.permission(permission).fold(policy.facts_of(caller))
    return _Translation(model, permission).of(formula)


def check_rows(policy: Policy, permission: str, model: Any) -> None:
    """See that a permission can be asked of a table for every caller: call it once, when the application starts.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table.
    """
    facts = policy.facts_of(imagined(*policy.roles.bit))
    # Whoever asks, any part of what is granted may remain: each is translated, whatever roles it goes with.
    facts.certain, facts.possible = 0, ~0
    _Translation(model, permission, check=True).of(policy.permission(permission).fold(facts))


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

    def same(self, column: Column, value: Any) -> Test:
        return _compared(column).is_not_distinct_from(_bound(column, value))

    def ordered(self, column: Column, operator: str, value: Any) -> Test:
        found: Test = _ORDER[operator](column, _bound(column, value))
        return found

    def same_columns(self, one: Column, other: Column) -> Test:
        return _compared(one).is_not_distinct_from(_compared(other))

    def ordered_columns(self, one: Column, operator: str, other: Column) -> Test:
        found: Test = _ORDER[operator](one, other)
        return found

    def kind(self, column: Column) -> Any:
        return _kind(column)

    def type_of(self, column: Column) -> Any:
        return column.type.python_type

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
    try:
        python_type = column.type.python_type
    except NotImplementedError:
        return None
    if python_type is datetime.datetime:
        return None
    like = next((each for kind, each in _LIKE if issubclass(python_type, kind)), None)
    return kind_of(like) if like is not None else None


def _bound(column: Column, value: Any) -> Any:
    """A value as a database gets it: numbers in the width of the largest column, texts for exact comparison."""
    if isinstance(value, int) and not isinstance(value, bool):
        return sa.literal(value, sa.BigInteger())
    if isinstance(value, float) and math.isinf(value):
        return sa.literal(value, _Infinite())
    return _Exact(sa.literal(value, sa.Text())) if isinstance(value, str) and _kind(column) is str else value


def _compared(column: Column) -> sa.ColumnElement[Any]:
    """A column as it is compared: texts character by character, whatever its collation ignores."""
    return _Exact(column) if _kind(column) is str else column  # type: ignore[return-value]


class _Infinite(sa.TypeDecorator[float]):
    """An infinite number. MySQL has none, and no number in its columns is larger than the largest one."""

    impl = sa.Double
    cache_ok = True

    def process_bind_param(self, value: float | None, dialect: sa.Dialect) -> float | None:
        if value is None or dialect.name not in ("mysql", "mariadb"):
            return value
        return math.copysign(sys.float_info.max, value)


class _Exact(sa.ColumnElement[str]):
    """A text that is compared character by character: with its case, its accents and its trailing blanks.

    The collation of a column, a table or a database may ignore any of them, and nothing in a model tells of it.
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
