"""How two values compare: yes, no, or not at all."""

from __future__ import annotations

import datetime
import operator
import re
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

# A number as people and databases write it, in the one way that all of them read alike: no sign but minus, no
# leading zeros, no blanks.
_PLAIN_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?").fullmatch


@dataclass(frozen=True, slots=True)
class Value:
    """A value in a comparison. ``textual`` marks text from a path or a query, which may stand for a number."""

    value: Any
    textual: bool = False
    literal: bool = False

    def words(self) -> str:
        """The value as the language writes it, or as Python does where it has no word for it."""
        if self.value is None:
            return "none"
        if isinstance(self.value, bool):
            return "true" if self.value else "false"
        if isinstance(self.value, str):
            escaped = self.value.replace("\\", "\\\\").replace('"', '\\"')
            return f'"{escaped}"'
        text = str(self.value)
        return text if len(text) <= 60 else f"{text[:57]}..."


_ORDER: dict[str, Callable[[Any, Any], Any]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def compare(left: Value, sign: str, right: Value) -> bool | None:
    """Two values compared by ``== != < <= > >= in``; None where they cannot be."""
    try:
        if sign == "in":
            return _among(left, right)
        if sign in ("==", "!="):
            same = _same(left, right)
            return same if same is None or sign == "==" else not same
        pair = _pair(left, right)
        if pair is None or isinstance(pair[0], bool):
            return None
        return bool(_ORDER[sign](*pair))
    except Exception:
        # Comparing runs code of the application's own types. An error there is no reason to let anyone in.
        return None


def _same(left: Value, right: Value) -> bool | None:
    """Whether two values are the same; None where they are of kinds that cannot be."""
    if left.value is None or right.value is None:
        if left.value is right.value and not (left.literal or right.literal):
            # Nobody's record and a caller without an id: neither has a value, which makes them no match.
            return None
        return left.value is right.value
    pair = _pair(left, right)
    return None if pair is None else bool(pair[0] == pair[1])


def _pair(left: Value, right: Value) -> tuple[Any, Any] | None:
    """The two values as one kind, or None where they are of two."""
    one, other = left.value, right.value
    if left.textual and right.textual and isinstance(one, str) and isinstance(other, str):
        # A path and the id in a token: "05" and "5" may lead to one record, so that neither answer would be right.
        return (one, other) if one == other or not _may_be_one(one, other) else None
    if left.textual and not isinstance(other, str):
        one = _from_text(one, other)
    elif right.textual and not isinstance(one, str):
        other = _from_text(other, one)
    return (one, other) if one is not None and other is not None and kind_of(one) == kind_of(other) else None


def kind_of(value: Any) -> object:
    """What a value can be compared with: its like."""
    if isinstance(value, bool):
        return bool
    if isinstance(value, int | float):
        return float
    for kind in (str, bytes, uuid.UUID, datetime.datetime, datetime.date):
        if isinstance(value, kind):
            return kind
    return "number" if hasattr(value, "as_integer_ratio") else type(value)


def _from_text(text: str, like: Any) -> Any:
    """Text of a path as a UUID or a number, or None where it is not one beyond doubt.

    ``05`` and ``5.0`` are not the plain form of 5, and yet many a database finds record 5 by them. To call them
    different would let somebody through who is kept from that record by ``not`` or ``!=``.
    """
    if isinstance(like, uuid.UUID):
        try:
            return uuid.UUID(text)
        except ValueError:
            return None
    number = plain_number(text) if isinstance(like, int | float) and not isinstance(like, bool) else None
    if number is None:
        return None
    return None if number == like and text != str(like) else number


def _may_be_one(one: str, other: str) -> bool:
    """Whether two texts that differ may stand for the same number or UUID."""
    for kind in (float, uuid.UUID):
        try:
            return bool(kind(one) == kind(other))
        except ValueError:
            continue
    return False


def plain_number(text: str) -> int | float | None:
    """The number that a text is the plain decimal form of, or None."""
    if not _PLAIN_NUMBER(text):
        return None
    return float(text) if "." in text else int(text)


def _among(left: Value, right: Value) -> bool | None:
    """Whether a value is a member of a collection. Part of a text is not a member of it."""
    if not isinstance(right.value, list | tuple | set | frozenset):
        return None
    found: bool | None = False
    for item in right.value:
        same = _same(left, item if isinstance(item, Value) else Value(item))
        if same:
            return True
        if same is None:
            found = None
    return found
