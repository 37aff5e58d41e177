"""Which fields of a record a caller may read and change."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..language.errors import BloodrootError
from .formulas import FALSE, TRUE, Facts, Formula

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..language.problems import Place


class FieldsRefused(BloodrootError):
    """A change to fields that the caller may not change.

    Attributes:
        kind: the kind of record.
        fields: each field that is refused, in the order it was given.
    """

    def __init__(self, kind: str, fields: Iterable[str]) -> None:
        self.kind = kind
        self.fields = tuple(fields)
        super().__init__(f"no change to {', '.join(self.fields)} of {kind} is allowed")


@dataclass(frozen=True, slots=True)
class FieldRule:
    """Who reads and who changes a field. What an entry does not say is closed."""

    read: Formula
    change: Formula
    place: Place


class FieldRules:
    """The entries of ``fields KIND``: one for each field, and ``*`` for every field without its own."""

    def __init__(self, kind: str) -> None:
        self.kind = kind
        self.rules: dict[str, FieldRule] = {}

    def readable(self, names: Iterable[str], facts: Facts) -> frozenset[str]:
        """Those of these fields that may be read."""
        return frozenset(name for name in names if self.required(name, "read").fold(facts) is TRUE)

    def refused(self, names: Iterable[str], facts: Facts) -> list[str]:
        """Those of these fields that may not be changed."""
        return [name for name in names if self.required(name, "change").fold(facts) is not TRUE]

    def required(self, name: str, verb: str) -> Formula:
        """What is required to read a field, or to change it; nothing meets what is required of one without a rule."""
        rule = self.rules.get(name) or self.rules.get("*")
        if rule is None:
            return FALSE
        return rule.read if verb == "read" else rule.change
