"""How two values compare: yes, no, or not at all."""

from __future__ import annotations

import datetime
import re
import uuid
from collections.abc import Collection
from dataclasses import dataclass
from decimal import Decimal
from numbers import Real
from typing import Any

from ..language.operators import OPERATORS
from .moments import moment

# A number in its plain decimal form, the one way in which people and databases write it alike: no sign but minus, no
# leading zeros, no blanks, and a fraction only where there is one.
_PLAIN_NUMBER = re.compile(r"(?!-0$)-?(?:0|[1-9][0-9]*)(?:\.[0-9]*[1-9])?").fullmatch
# The hexadecimal form of a UUID (RFC 9562, section 4).
_UUID = re.compile(r"[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}").fullmatch


_PLAIN = (str, int, float, bool, bytes, Decimal, uuid.UUID, datetime.date, datetime.datetime, datetime.time)


@dataclass(frozen=True, slots=True, eq=False)
class Value:
    """A value in a comparison.

    Attributes:
        value: the value.
        textual: whether it is text from a path, a query or a token, which may mean a number or a UUID.
        literal: whether it is written in the policy.
    """

    value: Any
    textual: bool = False
    literal: bool = False

    def __eq__(self, other: object) -> bool:
        """Whether two values would compare alike with every other one: Python takes true for 1, and 1 for 1.0."""
        if self is other:
            return True
        if not isinstance(other, Value) or type(self.value) is not type(other.value):
            return False
        same = self.value is other.value or (type(self.value) in _PLAIN and self.value == other.value)
        return same and self.textual == other.textual and self.literal == other.literal

    def __hash__(self) -> int:
        return hash(self.value) if type(self.value) in _PLAIN else id(self.value)

    def words(self) -> str:
        """The value as the language writes it, or as Python does where it has no word for it."""
        if self.value is None:
            return "none"
        if isinstance(self.value, bool):
            return "true" if self.value else "false"
        if isinstance(self.value, str):
            escaped = self.value.replace("\\", "\\\\").replace('"', '\\"')
            return f'"{escaped}"'
        if isinstance(self.value, datetime.datetime):
            return self.value.isoformat().removesuffix("+00:00").removesuffix("T00:00:00")
        if isinstance(self.value, tuple) and all(isinstance(item, Value) for item in self.value):
            text = f"[{', '.join(item.words() for item in self.value)}]"
        else:
            text = str(self.value)
        return text if len(text) <= 60 else f"{text[:57]}..."


class _List:
    """The kind of lists and tuples: they compare member by member."""


def compare(left: Value, operator: str, right: Value) -> bool | None:
    """Two values compared by ``== != < <= > >= in``; None where they cannot be."""
    try:
        if operator == "in":
            return _among(left, right)
        compared = OPERATORS[operator]
        if compared.is_equality:
            same = _same(left, right)
            return same if same is None or not compared.is_negated else not same
        pair = _pair(left, right)
        if pair is None or isinstance(pair[0], bool | list | tuple):
            return None
        return bool(compared.test(*pair))
    except Exception:
        # Comparing runs code of the application's own types. An error there is no reason to let anyone in.
        return None


def _same(left: Value, right: Value) -> bool | None:
    """Whether two values are the same; None where they cannot be compared."""
    one, other = left.value, right.value
    if one is None or other is None:
        # A value that is none is the same as the word, and compares with nothing else: a record without an owner and
        # a caller without an id are no match, and no two different ones either.
        if one is None and left.literal:
            return other is None
        return one is None if other is None and right.literal else None
    pair = _pair(left, right)
    if pair is None:
        return None
    if isinstance(pair[0], list | tuple):
        return _same_lists(*pair)
    return bool(pair[0] == pair[1])


def _same_lists(one: Collection[Any], other: Collection[Any]) -> bool | None:
    """Whether two lists are the same, member by member; None where one pair of members cannot be compared."""
    found: bool | None = len(one) == len(other)
    for left, right in zip(one, other, strict=False):
        same = _same(_member(left), _member(right))
        if same is None:
            return None
        found = found and same
    return found


def _member(item: Any) -> Value:
    return item if isinstance(item, Value) else Value(item)


def as_moment(value: Value, zone: datetime.tzinfo | None) -> datetime.datetime | None:
    """A value as a moment with an offset: a datetime, a date, or text in the form of RFC 3339; None for others.

    Args:
        value: the value.
        zone: what dates, and text without an offset, are in; None where that is not known.
    """
    found = value.value
    if isinstance(found, datetime.datetime):
        return found if found.utcoffset() is not None else None
    if isinstance(found, datetime.date):
        return None if zone is None else datetime.datetime(found.year, found.month, found.day, tzinfo=zone)
    return moment(found, zone) if isinstance(found, str) else None


def _moments(left: Value, right: Value) -> tuple[Any, Any] | None:
    """A moment and what can be read as one, both with an offset; None for other pairs.

    Dates, and text without an offset, are in the zone of the policy, which the moments that it names itself bring.
    """
    one, other = left.value, right.value
    for value, like in ((left, one), (right, other)):
        opposite = other if value is left else one
        if (
            isinstance(like, datetime.datetime)
            and like.utcoffset() is not None
            and isinstance(opposite, str | datetime.date)
        ):
            zone = like.tzinfo if value.literal else None
            found = as_moment(right if value is left else left, zone)
            return None if found is None else (like, found) if value is left else (found, like)
    return None


def _pair(left: Value, right: Value) -> tuple[Any, Any] | None:
    """The two values as one kind, or None where they cannot be compared."""
    one, other = left.value, right.value
    if one.__class__ is not other.__class__ and (moments := _moments(left, right)) is not None:
        return moments
    if left.textual and right.textual and isinstance(one, str) and isinstance(other, str):
        # A path and the id in a token: "05" and "5" may lead to one record, so that neither answer would be right.
        return (one, other) if one == other or not _may_be_one(one, other) else None
    if left.textual and not isinstance(other, str):
        one = _from_text(one, other)
    elif right.textual and not isinstance(one, str):
        other = _from_text(other, one)
    if one is None or other is None:
        return None
    kind = kind_of(one)
    if kind is None or kind is not kind_of(other):
        return None
    if kind is float:
        return as_numbers(one, other)
    if kind is datetime.datetime and (one.utcoffset() is None) != (other.utcoffset() is None):
        return None
    return one, other


def kind_of(value: Any) -> type | None:
    """The kind of a value. Two values can be compared where they are of one kind; None is comparable with nothing.

    All numbers are of the kind `float`.
    """
    if isinstance(value, bool):
        return bool
    if isinstance(value, int):
        return float
    if isinstance(value, float | Decimal):
        return None if _is_nan(value) else float
    for kind in (str, bytes, uuid.UUID, datetime.datetime, datetime.date, datetime.time):
        if isinstance(value, kind):
            return kind
    if isinstance(value, list | tuple):
        return _List
    if isinstance(value, Real):
        return None if _is_nan(value) else float
    # Python's own equality of other collections takes true for 1.
    return None if isinstance(value, Collection) else type(value)


def _is_nan(number: Any) -> bool:
    return number.is_nan() if isinstance(number, Decimal) else number != number


def as_numbers(one: Any, other: Any) -> tuple[Any, Any]:
    """Two numbers as they compare. A fraction in binary is taken as it is written, so that 0.1 is a tenth."""
    if isinstance(one, Decimal) and isinstance(other, float):
        return one, as_decimal(other)
    if isinstance(other, Decimal) and isinstance(one, float):
        return as_decimal(one), other
    return one, other


def as_decimal(number: float) -> Decimal:
    """A number in binary as the shortest decimal that is read as the same number."""
    return Decimal(repr(float(number)))


def _from_text(text: Any, like: Any) -> Any:
    """Text of a path as a UUID or a number, or None where it is not one beyond doubt.

    ``05`` and ``5.0`` are not the plain form of 5, and yet many a database finds record 5 by them. To call them
    different would allow a caller who is kept from that record by ``not`` or ``!=``.
    """
    if not isinstance(text, str):
        return text
    if isinstance(like, uuid.UUID):
        return plain_uuid(text)
    number = plain_number(text) if kind_of(like) is float else None
    if number is not None and isinstance(like, float) and leads_astray(number, like):
        return None
    return number


def leads_astray(number: int | Decimal, like: float) -> bool:
    """Whether a number has more digits than one in binary, which a database would find by it all the same."""
    one, other = as_numbers(number, like)
    return float(number) == like and one != other


def _may_be_one(one: str, other: str) -> bool:
    """Whether two strings that differ may mean the same number or UUID."""
    for kind in (float, uuid.UUID):
        try:
            return bool(kind(one) == kind(other))
        except ValueError:
            continue
    return False


def plain_number(text: str) -> int | Decimal | None:
    """The number that a string is the plain decimal form of, or None."""
    if not _PLAIN_NUMBER(text):
        return None
    return Decimal(text) if "." in text else int(text)


def plain_uuid(text: str) -> uuid.UUID | None:
    """The UUID that a string is the hexadecimal form of, or None."""
    return uuid.UUID(text) if _UUID(text) else None


def _among(left: Value, right: Value) -> bool | None:
    """Whether a value is a member of a collection. Part of a string is not a member of it."""
    if not isinstance(right.value, list | tuple | set | frozenset):
        return None
    among: bool | None = False
    for item in right.value:
        same = _same(left, _member(item))
        if same:
            return True
        if same is None:
            among = None
    return among
