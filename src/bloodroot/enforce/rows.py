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
from sqlalchemy.orm import InstrumentedAttribute, RelationshipDirection, aliased
from sqlalchemy.sql.visitors import InternalTraversal

from ..core.caller import Caller, imagined
from ..core.conditions import Reference
from ..core.endpoint_outcomes import left_of
from ..core.permissions import permission_named
from ..core.policy import Policy
from ..core.request_facts import facts_of
from ..core.things import Thing
from ..core.values import kind_of
from ..language.operators import OPERATORS
from .translation import Holder, RowsError, Translation

__all__ = ["RowsError", "check_rows", "rows"]

Test = sa.ColumnElement[bool]
Column = InstrumentedAttribute[Any]


def rows(policy: Policy, caller: Caller | None, permission: str, model: Any) -> sa.ColumnElement[bool]:
    """The condition for the records of a mapped class for which a caller has a permission.

    ``select(Trial).where(rows(policy, caller, "trial:read", Trial))``

    Args:
        policy: what decides.
        caller: who asks; None for a signed-out caller.
        permission: such as ``trial:read``.
        model: a class mapped by SQLAlchemy, and the one that is selected. ``record.botanist_id`` is its column of that
            name; ``record.trial.botanist_id`` follows a relationship that leads to one record. What a record belongs
            to is found by the foreign key of the column that says so.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table. `check_rows` finds out at start. Raised
            when the list is made: the condition is used in a query that does not select from the class.
    """
    formula = left_of(policy, permission_named(policy.resolver, permission), caller)
    holder = Holder(policy.roles, caller)
    return _Listed(_Translation(_mapped(model), permission, holder).of(formula), sa.inspect(model).local_table)


def check_rows(policy: Policy, permission: str, model: Any) -> None:
    """See that a permission can be asked of a table for every caller: call it once, when the application starts.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table.
    """
    facts = facts_of(policy.roles, imagined(*policy.roles.bit))
    # Any part of what is granted may remain for some caller: each is translated, whatever roles it goes with.
    facts.certain, facts.possible, facts.there = 0, ~0, None
    holder = Holder(policy.roles, None)
    _Translation(_mapped(model), permission, holder, check=True).of(
        permission_named(policy.resolver, permission).fold(facts)
    )


def _mapped(model: Any) -> Any:
    """A mapped class; an alias of one would be another table beside the one that is selected.

    Raises:
        RowsError: it is none.
    """
    if not isinstance(model, type) or sa.inspect(model, raiseerr=False) is None:
        raise RowsError(f"rows is for a mapped class, and {model!r} is none; use the class, and select from it")
    return model


def _exists(model: Any, *tests: Test) -> Test:
    return sa.select(sa.literal(1)).select_from(model).where(*tests).correlate_except(model).exists()


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
        test: Test = _compared(column) == _bound(column, value)
        return test

    def ordered(self, column: Column, operator: str, value: Any) -> Test:
        test: Test = OPERATORS[operator].test(_compared(column), _bound(column, value))
        return test

    def same_columns(self, one: Column, other: Column) -> Test:
        return _compared(one) == _compared(other)

    def ordered_columns(self, one: Column, operator: str, other: Column) -> Test:
        test: Test = OPERATORS[operator].test(_compared(one), _compared(other))
        return test

    def among(self, column: Column, values: list[Any]) -> Test:
        if _kind(column) is str:
            return _Exact(column).in_([sa.literal(value, sa.Text()) for value in values])
        return column.in_(values)

    def identified(self, thing: Thing, test: Callable[[Column], Test]) -> Test:
        columns = sa.inspect(self.model).mapper.column_attrs
        name = next((name for name in thing.identified_by if name in columns), None)
        if name is None:
            raise self.error(f"no column identifies a {thing.name}: neither id nor {' nor '.join(thing.parameters)}")
        column = getattr(self.model, name)
        return self.if_none(column, self.false, test(column))

    def belonging(
        self, thing: Thing, test: Callable[[Column], Test], above: Callable[[Translation[Test, Column]], Test] | None
    ) -> Test:
        return self._belonging(self.model, thing, 0, test, above)

    def _belonging(
        self,
        model: Any,
        thing: Thing,
        place: int,
        test: Callable[[Column], Test],
        above: Callable[[Translation[Test, Column]], Test] | None,
    ) -> Test:
        name, mapper = thing.by[place], sa.inspect(model).mapper
        reference = Reference("record", thing.by)
        if place < len(thing.by) - 1:
            relation = mapper.relationships.get(name)
            if relation is None or relation.direction is not RelationshipDirection.MANYTOONE:
                raise self.error(f"{mapper.class_.__name__} has no relationship to one record for {reference.words()}")
            attribute = getattr(model, name)
            inner = self._belonging(relation.mapper.class_, thing, place + 1, test, above)
            # No such record: what belongs to nothing is in nothing.
            return sa.case(
                (attribute.has(inner), sa.true()),
                (attribute.has(sa.not_(inner)), sa.false()),
                (~attribute.has(), sa.false()),
                else_=_null(),
            )
        if name not in mapper.column_attrs:
            raise self.error(f"{mapper.class_.__name__} has no column for {reference.words()}")
        column = getattr(model, name)
        tests = [test(column)]
        if above is not None and thing.leads_by_record:
            tests.append(above(self._of_model(model)))
        elif above is not None:
            tests.append(self._above(model, column, reference, above))
        return self.if_none(column, self.false, self.any_of(tests))

    def _above(
        self, model: Any, column: Column, reference: Reference, above: Callable[[Translation[Test, Column]], Test]
    ) -> Test:
        """What is asked of the record that a foreign key leads to."""
        keys = list(column.property.columns[0].foreign_keys)
        mappers = {
            mapper.local_table: mapper for mapper in sa.inspect(model).mapper.registry.mappers if not mapper.inherits
        }
        if len(keys) != 1 or keys[0].column.table not in mappers:
            raise self.error(f"{reference.words()} has no foreign key that says which records it leads to")
        target = keys[0].column
        mapper = mappers[target.table]
        # An alias: the query may select from the table itself, and mean other rows of it.
        parent = aliased(mapper.class_)
        same = getattr(parent, mapper.get_property_by_column(target).key) == column
        inner = above(self._of_model(parent))
        return sa.case(
            (_exists(parent, same, inner), sa.true()),
            (_exists(parent, same, sa.not_(inner)), sa.false()),
            else_=_null(),
        )

    def _of_model(self, model: Any) -> _Translation:
        return _Translation(model, self.permission, self.holder, check=self.check)

    def kind(self, column: Column) -> Any:
        return _kind(column)

    def type_of(self, column: Column) -> Any:
        return column.type.python_type

    def tells_none(self, column: Column) -> bool:
        return all(type(kind) in _OR_NONE or _kind_of(kind) is not None for kind in _types(column))

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
        mapper = sa.inspect(model).mapper
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


# The types whose values come back as they are kept, and compare alike in Python and in every database. No subclass
# counts: what another type makes of a value on its way is not known. Beside each, a value like those that it brings.
_WHOLE = (sa.Integer, sa.SmallInteger, sa.BigInteger, sa.INTEGER, sa.SMALLINT, sa.BIGINT)
_TEXTS = (sa.String, sa.Text, sa.Unicode, sa.UnicodeText, sa.VARCHAR, sa.TEXT, sa.NVARCHAR)
_FLOATS = (sa.Float, sa.FLOAT, sa.Double, sa.DOUBLE, sa.DOUBLE_PRECISION)
_DECIMALS = (sa.Numeric, sa.NUMERIC, sa.DECIMAL)
_LIKE: dict[type[Any], Any] = {
    **dict.fromkeys(_WHOLE, 0),
    **dict.fromkeys(_TEXTS, ""),
    **dict.fromkeys(_FLOATS, 0.0),
    **dict.fromkeys(_DECIMALS, decimal.Decimal(0)),
    sa.Boolean: True,
    sa.BOOLEAN: True,
    sa.Uuid: uuid.UUID(int=0),
    sa.UUID: uuid.UUID(int=0),
    sa.Date: datetime.date.min,
    sa.DATE: datetime.date.min,
    sa.LargeBinary: b"",
}
# Others that have no value exactly where the database has NULL. JSON is none of them: it has a null of its own.
_OR_NONE = (sa.DateTime, sa.TIMESTAMP, sa.DATETIME, sa.Time, sa.TIME, sa.Interval, sa.Enum, sa.CHAR, sa.NCHAR)


def _types(column: Column) -> list[Any]:
    """The type of a column, and those that it has in some databases instead."""
    return [column.type, *getattr(column.type, "_variant_mapping", {}).values()]


def _kind(column: Column) -> Any:
    """What the values of a column can be compared with; None where that is not sure."""
    # Databases that keep a number in other types or widths would answer differently for one value.
    shapes = {_shape(kind) for kind in _types(column)}
    return shapes.pop()[0] if len(shapes) == 1 else None


def _shape(kind: Any) -> tuple[Any, ...]:
    like = type(_LIKE.get(type(kind)))
    return _kind_of(kind), like, getattr(kind, "precision", None), getattr(kind, "scale", None)


def _kind_of(kind: Any) -> Any:
    like = _LIKE.get(type(kind))
    if like is None or getattr(kind, "enum_class", None) is not None:
        return None
    if isinstance(kind, sa.Numeric | sa.Float) and not _is_plain_number(kind):
        return None
    if isinstance(kind, sa.Uuid) and not kind.as_uuid:
        return None  # it comes back in another spelling than some databases keep
    return kind_of(like)


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


class _Listed(sa.ColumnElement[bool]):
    """The condition, as long as it is asked of the very table that the query selects from.

    A query that selects from an alias would have the table itself beside it, and the condition would hold of that.
    """

    inherit_cache = True
    __visit_name__ = "bloodroot_listed"
    type = sa.Boolean()
    _traverse_internals = [  # noqa: RUF012 - as SQLAlchemy wants it
        ("condition", InternalTraversal.dp_clauseelement),
        ("table", InternalTraversal.dp_clauseelement),
    ]

    def __init__(self, condition: Any, table: Any) -> None:
        self.condition = condition
        self.table = table

    @property
    def _from_objects(self) -> list[Any]:
        return [*self.condition._from_objects, self.table]

    def self_group(self, against: Any = None) -> Any:  # noqa: ARG002
        return self


@compiles(_Listed)
def _listed(element: _Listed, compiler: Any, **how: Any) -> str:
    chosen = _chosen(compiler.stack[-1]) if compiler.stack else []
    around = compiler.stack[-2].get("correlate_froms", ()) if len(compiler.stack) > 1 else ()
    # A table that a query has annotated is another object, with the same hash.
    tables = {hash(from_object) for one in (*chosen, *around) for from_object in one._from_objects}
    if chosen and any(hash(from_object) not in tables for from_object in element._from_objects):
        raise RowsError(
            f"rows is for the table {element.table}, from which this query does not take its rows: an alias of a class "
            "is another table; use the class itself"
        )
    return f"({compiler.process(element.condition, **how)})"


def _chosen(entry: Any) -> list[Any]:
    """What a statement takes its rows from by itself, and not because of a condition; empty where it does not say."""
    statement, state = entry.get("selectable"), entry.get("compile_state")
    if isinstance(statement, sa.Update | sa.Delete):
        return [statement.table]
    if not isinstance(statement, sa.Select) or state is None:
        return []
    return [
        *state.from_clauses,
        *(from_object for column in statement._raw_columns for from_object in column._from_objects),
    ]


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
    if kind.precision is None or kind.precision > _EXACT_DIGITS:
        raise RowsError(
            f"SQLite keeps numbers of more than {_EXACT_DIGITS} digits as others, and {kind} may have more; give the "
            "column a precision, or keep such numbers elsewhere"
        )
    # SQLite has no decimal numbers: it keeps more places than the type has, which are not read.
    return f"CASE WHEN {column} IS NOT NULL THEN CAST(printf('%.{kind.scale}f', {column}) AS REAL) END"


@compiles(_Number, "mysql", "mariadb")
def _number_on_mysql(element: _Number, compiler: Any, **how: Any) -> str:
    kind = element.type
    if isinstance(kind, sa.Float) and not isinstance(kind, sa.Double) and kind.precision is None:
        raise RowsError("a Float is a number of single precision in MySQL and is read as another one; make it a Double")
    return str(compiler.process(element.column, **how))


_EXACT_DIGITS = 15  # decimal digits that a double holds exactly


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
