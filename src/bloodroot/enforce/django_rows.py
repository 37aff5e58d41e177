"""Which records a caller may have, as a ``Q`` of Django.

``Trial.objects.filter(rows(policy, caller, "trial:read", Trial))`` shows exactly the records that a single read would
allow. A condition is kept as two ``Q``: the rows where it is true, and those where it is false; where it is faulty
neither holds. So nothing is ever asked under NOT where a value may be missing.
"""

from __future__ import annotations

import datetime
import math
import uuid
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, NamedTuple

from django.core.exceptions import FieldDoesNotExist
from django.db import connections, models
from django.db.models import F, Q, Value
from django.db.models.functions import Collate
from django.db.models.lookups import Exact, In, LessThanOrEqual

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

# Collations by which a database compares texts character by character.
_EXACT = {"sqlite": "BINARY", "postgresql": "C"}
_WHOLE: tuple[type[Any], ...] = (
    models.IntegerField,
    models.BigIntegerField,
    models.SmallIntegerField,
    models.PositiveIntegerField,
    models.PositiveBigIntegerField,
    models.PositiveSmallIntegerField,
    models.AutoField,
    models.BigAutoField,
    models.SmallAutoField,
)
_TEXT: tuple[type[Any], ...] = (
    models.CharField,
    models.TextField,
    models.SlugField,
    models.EmailField,
    models.URLField,
)
# For each kind of field, a value like those that it brings. Fields of other types, subclasses too, may bring anything.
_LIKE: dict[type[Any], Any] = {
    **dict.fromkeys(_WHOLE, 0),
    **dict.fromkeys(_TEXT, ""),
    models.BooleanField: True,
    models.FloatField: 0.0,
    models.DecimalField: Decimal(0),
    models.UUIDField: uuid.UUID(int=0),
    models.DateField: datetime.date.min,
}


# Others that have no value exactly where the database has NULL. JSON is none of them: it has a null of its own.
_OR_NONE: tuple[type[Any], ...] = (
    models.DateTimeField,
    models.TimeField,
    models.DurationField,
    models.BinaryField,
    models.GenericIPAddressField,
)
_EXACT_DIGITS = 15  # decimal digits that a double holds exactly


def rows(policy: Policy, caller: Caller | None, permission: str, model: Any, *, using: str = "default") -> Q:
    """The condition for the records of a model for which a caller has a permission.

    Args:
        policy: what decides.
        caller: who asks; None for a signed-out caller.
        permission: such as ``trial:read``.
        model: a model of Django's. ``record.botanist_id`` is its column of that name; ``record.trial.site`` follows a
            foreign key.
        using: the database that is asked.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table. `check_rows` finds out at start. Raised
            when a list is made: the condition is used for another model.
    """
    formula = left_of(policy, permission_named(policy.resolver, permission), caller)
    holder = Holder(policy.roles, caller)
    return Q(_Of(model)) & _Translation(model, permission, using, holder).of(formula).true


def check_rows(policy: Policy, permission: str, model: Any, *, using: str = "default") -> None:
    """See that a permission can be asked of a table for every caller: call it once, when the application starts.

    Raises:
        LookupError: the policy has no such permission.
        RowsError: what it asks of the record cannot be asked of the table.
    """
    facts = facts_of(policy.roles, imagined(*policy.roles.bit))
    # Any part of what is granted may remain for some caller: each is translated, whatever roles it goes with.
    facts.certain, facts.possible, facts.there = 0, ~0, None
    _Translation(model, permission, using, Holder(policy.roles, None), check=True).of(
        permission_named(policy.resolver, permission).fold(facts)
    )


class _Of(Value):  # type: ignore[misc]
    """True for a query of a model; for another model's, whose fields may have the same names, an error."""

    def __init__(self, model: Any) -> None:
        super().__init__(True, output_field=models.BooleanField())
        self.model = model

    def resolve_expression(self, query: Any = None, *rest: Any, **named: Any) -> Any:
        """As Django's own expressions."""
        if query is not None and not issubclass(query.model._meta.concrete_model, self.model._meta.concrete_model):
            raise RowsError(f"rows was made for {self.model.__name__}, and this is a query of {query.model.__name__}")
        return super().resolve_expression(query, *rest, **named)


class _Test(NamedTuple):
    """A condition: the rows where it is true, and those where it is false."""

    true: Q
    false: Q


@dataclass(frozen=True, slots=True)
class _Column:
    """A column of a model, or of one that foreign keys lead to."""

    path: str
    field: Any

    @property
    def there(self) -> Q:
        """The rows where it has a value."""
        return Q(**{f"{self.path}__isnull": False})


_EVERY, _NONE = Q(), Q(pk__in=[])


class _Translation(Translation[_Test, _Column]):
    """One permission on its way into a ``Q``."""

    true, false, faulty = _Test(_EVERY, _NONE), _Test(_NONE, _EVERY), _Test(_NONE, _NONE)

    def __init__(
        self,
        model: Any,
        permission: str,
        using: str,
        holder: Holder | None = None,
        *,
        check: bool = False,
        prefix: tuple[str, ...] = (),
    ) -> None:
        super().__init__(model, permission, holder, check=check)
        self._using = using
        self._vendor = connections[using].vendor
        self._prefix = prefix

    def all_of(self, tests: Iterable[_Test]) -> _Test:
        every = list(tests)
        return _Test(_and(test.true for test in every), _or(each.false for each in every))

    def any_of(self, tests: Iterable[_Test]) -> _Test:
        every = list(tests)
        return _Test(_or(test.true for test in every), _and(each.false for each in every))

    def opposite(self, test: _Test) -> _Test:
        return _Test(test.false, test.true)

    def if_none(self, column: _Column, none: _Test, other: _Test) -> _Test:
        missing = Q(**{f"{column.path}__isnull": True})
        return _Test(
            _or([_and([missing, none.true]), _and([column.there, other.true])]),
            _or([_and([missing, none.false]), _and([column.there, other.false])]),
        )

    def where_known(self, column: _Column, test: _Test) -> _Test:
        there = self._there(column)
        return _Test(_and([there, test.true]), _and([there, test.false]))

    def _there(self, column: _Column) -> Q:
        """The rows where a column has a value that can be compared."""
        if self._vendor != "postgresql" or not issubclass(self.type_of(column), float | Decimal):
            return column.there
        # PostgreSQL has NaN, larger than every number and the same as itself.
        largest = Value(math.inf, output_field=models.FloatField())
        return _and([column.there, Q(LessThanOrEqual(F(column.path), largest))])

    def same(self, column: _Column, value: Any) -> _Test:
        if isinstance(value, str):
            test = Q(Exact(self._exactly(F(column.path)), self._exactly(Value(value))))
        else:
            test = Q(**{column.path: value})
        return self.where_known(column, _Test(test, ~test))

    def ordered(self, column: _Column, operator: str, value: Any) -> _Test:
        return _Test(self._order(column, operator, value), self._order(column, OPERATORS[operator].opposite, value))

    def _order(self, column: _Column, operator: str, value: Any) -> Q:
        return _and([self._there(column), Q(**{f"{column.path}__{_LOOKUPS[operator]}": value})])

    def same_columns(self, one: _Column, other: _Column) -> _Test:
        if self.kind(one) is str:
            test = Q(Exact(self._exactly(F(one.path)), self._exactly(F(other.path))))
        else:
            test = Q(**{one.path: F(other.path)})
        return self.where_known(one, self.where_known(other, _Test(test, ~test)))

    def ordered_columns(self, one: _Column, operator: str, other: _Column) -> _Test:
        test, against = (
            Q(**{f"{one.path}__{_LOOKUPS[sign]}": F(other.path)}) for sign in (operator, OPERATORS[operator].opposite)
        )
        return self.where_known(one, self.where_known(other, _Test(test, against)))

    def _exactly(self, text: Any) -> Collate:
        """A string compared character by character, whatever the collation of its column or database ignores."""
        collation = _EXACT.get(self._vendor)
        if collation is None:
            raise self.error(
                f"how {self._vendor} compares texts is not known here; lists are made for SQLite and PostgreSQL"
            )
        return Collate(text, collation)

    def among(self, column: _Column, values: list[Any]) -> _Test:
        if self.kind(column) is str:
            test = Q(In(self._exactly(F(column.path)), [self._exactly(Value(value)) for value in values]))
        else:
            test = Q(**{f"{column.path}__in": values})
        return _Test(test, ~test)

    def identified(self, thing: Thing, test: Callable[[_Column], _Test]) -> _Test:
        names = {field.attname for field in self.model._meta.concrete_fields}
        name = next((name for name in thing.identified_by if name in names), None)
        if name is None:
            raise self.error(f"no column identifies a {thing.name}: neither id nor {' nor '.join(thing.parameters)}")
        column = self._column(self.model, name, self._prefix, Reference("record", (name,)))
        return self.if_none(column, self.false, test(column))

    def belonging(
        self,
        thing: Thing,
        test: Callable[[_Column], _Test],
        above: Callable[[Translation[_Test, _Column]], _Test] | None,
    ) -> _Test:
        reference = Reference("record", thing.by)
        model, way = self._way(reference)
        column = self._column(model, thing.by[-1], (*self._prefix, *way), reference)
        tests = [test(column)]
        if above is not None and thing.leads_by_record:
            tests.append(above(self._of_model(model, (*self._prefix, *way))))
        elif above is not None:
            field = self._field(model, thing.by[-1], reference)
            if not field.is_relation:
                raise self.error(f"{reference.words()} is no foreign key, so that it is not known where it leads")
            prefix = (*self._prefix, *way, field.name)
            inner = above(self._of_model(field.related_model, prefix))
            there = Q(**{f"{'__'.join(prefix)}__isnull": False})
            tests.append(_Test(_and([there, inner.true]), _and([there, inner.false])))
        return self.if_none(column, self.false, self.any_of(tests))

    def _of_model(self, model: Any, prefix: tuple[str, ...]) -> _Translation:
        return _Translation(model, self.permission, self._using, self.holder, check=self.check, prefix=prefix)

    def kind(self, column: _Column) -> Any:
        like = _LIKE.get(type(column.field))
        if isinstance(like, Decimal) and self._vendor == "sqlite" and column.field.max_digits > _EXACT_DIGITS:
            raise self.error(
                f"SQLite keeps numbers of more than {_EXACT_DIGITS} digits as others, and {column.path} may have more"
            )
        return kind_of(like) if like is not None else None

    def tells_none(self, column: _Column) -> bool:
        return type(column.field) in _LIKE or type(column.field) in _OR_NONE

    def type_of(self, column: _Column) -> Any:
        return type(_LIKE.get(type(column.field)))

    def digits(self, column: _Column) -> tuple[int | None, int | None]:
        return column.field.max_digits, column.field.decimal_places

    def describe(self, column: _Column) -> str:
        return type(column.field).__name__

    def follow(self, reference: Reference, test: Callable[[_Column], _Test]) -> _Test:
        """A test of the column that a reference leads to, through foreign keys."""
        model, way = self._way(reference)
        found = test(self._column(model, reference.names[-1], way, reference))
        there = [Q(**{f"{'__'.join(way[: place + 1])}__isnull": False}) for place in range(len(way))]
        # Where a record on the way is missing, nothing is true or false of it.
        return _Test(_and([*there, found.true]), _and([*there, found.false]))

    def _way(self, reference: Reference) -> tuple[Any, tuple[str, ...]]:
        """The model that all but the last name of a reference lead to, and the foreign keys on the way."""
        model, way = self.model, []
        for name in reference.names[:-1]:
            field = self._field(model, name, reference)
            if not field.is_relation or field.auto_created or not (field.many_to_one or field.one_to_one):
                raise self.error(f"{reference.words()} leads to more than one record")
            way.append(name)
            model = field.related_model
        return model, tuple(way)

    def _column(self, model: Any, name: str, way: tuple[str, ...], reference: Reference) -> _Column:
        field = self._field(model, name, reference)
        if field.is_relation:
            if not getattr(field, "concrete", False) or name != field.attname:
                raise self.error(f"{model.__name__} has no column for {reference.words()}")
            while field.is_relation:
                field = field.target_field
        return _Column("__".join((*way, name)), field)

    def _field(self, model: Any, name: str, reference: Reference) -> Any:
        try:
            return model._meta.get_field(name)
        except FieldDoesNotExist as error:
            raise self.error(f"{model.__name__} has no column for {reference.words()}") from error


_LOOKUPS = {"<": "lt", "<=": "lte", ">": "gt", ">=": "gte"}


def _and(parts: Iterable[Q]) -> Q:
    """All of them. What holds for every row, or for none, is left out or is left alone."""
    test = Q()
    for part in parts:
        if part == _NONE:
            return _NONE
        test &= part
    return test


def _or(parts: Iterable[Q]) -> Q:
    """Any of them. Of Django's own, an empty ``Q`` among others would be no part at all."""
    test = _NONE
    for part in parts:
        if part == _EVERY:
            return _EVERY
        test = part if test == _NONE else test if part == _NONE else test | part
    return test
