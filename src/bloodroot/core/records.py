"""Records: what an attribute of one is, and which attributes it has, whatever a record is made of."""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Mapping
from enum import Enum
from functools import cached_property, lru_cache
from typing import Any


class _Sentinel(Enum):
    UNKNOWN = "unknown"
    MISSING = "missing"


UNKNOWN = _Sentinel.UNKNOWN  # not supplied yet
MISSING = _Sentinel.MISSING  # its owner is there, and has nothing by that name


def attribute(record: Any, name: str) -> Any:
    """An attribute of an object, or what a mapping or a row has under a key; `MISSING` where there is none.

    Any other exception that reading it raises, as a lost connection does in a property that queries, is the caller's.
    """
    try:
        return record[name] if _has_keys(record.__class__) else getattr(record, name)
    except (KeyError, IndexError):  # a row of sqlite3 raises IndexError for a name that it does not have
        if _has_keys(record.__class__):
            return MISSING
        raise
    except AttributeError as error:
        # One that is about another name, or that a property raises, is a fault in the record.
        property_of_it = isinstance(inspect.getattr_static(type(record), name, None), property | cached_property)
        if error.name in (None, name) and not property_of_it:
            return MISSING
        raise


def is_keyed(record: Any) -> bool:
    """Whether a record's attributes are found by key: a mapping, or a row of a database."""
    kind: type = record.__class__
    return _has_keys(kind)


@lru_cache(maxsize=1024)
def _has_keys(kind: type) -> bool:
    return issubclass(kind, Mapping) or (hasattr(kind, "keys") and hasattr(kind, "__getitem__"))


def names_of(record: Any) -> tuple[str, ...]:
    """The names of a record's fields: keys of a mapping or a row, fields of a dataclass or a mapped class, or public
    attributes.
    """
    if is_keyed(record):
        # A mapping iterates over its keys, a row of a database over its values.
        return tuple(map(str, record.keys()))
    if dataclasses.is_dataclass(record):
        return tuple(field.name for field in dataclasses.fields(record))
    mapper = getattr(type(record), "__mapper__", None)
    if mapper is not None:
        # Of a record that was saved just now, no attribute has been loaded yet.
        return tuple(column_attr.key for column_attr in mapper.column_attrs)
    return tuple(name for name in getattr(record, "__dict__", {}) if not name.startswith("_"))
