"""The operators that compare two values: one table, for reading, deciding, translating to SQL and reasoning.

Membership (``in``, ``not in``) compares a value with a list, and is not one of them.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class OperatorKind(StrEnum):
    """What an operator asks of two values."""

    EQUALITY = "equality"
    ORDER = "order"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Operator:
    """An operator.

    Attributes:
        text: as a policy writes it.
        test: what it does with two values of one kind, with two columns, or with two terms of a solver.
        kind: what it asks of two values. What translates conditions, or reasons about them, knows equality and order,
            and leaves every other kind alone.
        mirrored: the operator that says the same with the sides exchanged.
        opposite: the operator that is true where this one is false.
    """

    text: str
    test: Callable[[Any, Any], Any]
    kind: OperatorKind
    mirrored: str
    opposite: str

    @property
    def is_equality(self) -> bool:
        """Whether it asks if two values are the same, which any two values of one kind can be asked."""
        return self.kind is OperatorKind.EQUALITY

    @property
    def is_order(self) -> bool:
        """Whether it asks for the order of two values."""
        return self.kind is OperatorKind.ORDER

    @property
    def is_negated(self) -> bool:
        """Whether it is true where two values are not the same."""
        return self.is_equality and bool(self.test(0, 1))

    @property
    def is_below(self) -> bool:
        """Whether it is true of a smaller value on the left."""
        return self.is_order and bool(self.test(0, 1))


OPERATORS = {
    each.text: each
    for each in (
        Operator("==", operator.eq, OperatorKind.EQUALITY, "==", "!="),
        Operator("!=", operator.ne, OperatorKind.EQUALITY, "!=", "=="),
        Operator("<", operator.lt, OperatorKind.ORDER, ">", ">="),
        Operator("<=", operator.le, OperatorKind.ORDER, ">=", ">"),
        Operator(">", operator.gt, OperatorKind.ORDER, "<", "<="),
        Operator(">=", operator.ge, OperatorKind.ORDER, "<=", "<"),
    )
}
# The longest first, as a tokenizer needs them.
PATTERN = "|".join(map(re.escape, sorted(OPERATORS, key=len, reverse=True)))
