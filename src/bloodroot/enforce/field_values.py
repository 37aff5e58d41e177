"""The fields of records and of changes: mappings, dataclasses, Pydantic models and other objects alike."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from typing import Any

from ..core.records import MISSING, attribute, names_of


def values_of(record: Any) -> dict[str, Any]:
    """A record's fields by name, with their values."""
    values = {name: attribute(record, name) for name in names_of(record)}
    return {name: value for name, value in values.items() if value is not MISSING}


def changes_in(changes: Any) -> dict[str, Any]:
    """New values by field; of a Pydantic model, those that were set.

    Raises:
        TypeError: these are no changes.
    """
    if isinstance(changes, Mapping):
        return dict(changes)
    were_set = getattr(changes, "model_fields_set", None)
    if isinstance(were_set, set | frozenset):
        # Not as it is written out: a serializer may leave a field out that was set, or give it another name.
        return {name: getattr(changes, name) for name in sorted(were_set)}
    if dataclasses.is_dataclass(changes) and not isinstance(changes, type):
        return {field.name: getattr(changes, field.name) for field in dataclasses.fields(changes)}
    raise TypeError(f"changes are a mapping, a dataclass or a Pydantic model, not {type(changes).__name__}")
