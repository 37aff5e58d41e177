"""The operators that compare two values: one table, for reading, deciding, translating to SQL and reasoning.

Membership (``in``, ``not in``) compares a value with a list, and is not one of them.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Operator:
    """An operator.

    Attributes:
        text: as a policy writes it.
        test: what it does with two values of one kind, with two columns, or with two terms of a solver.
        is_equality: whether it asks if two values are the same, which any two values of one kind can be asked.
        mirrored: the operator that says the same with the sides exchanged.
        opposite: the operator that is true where this one is false.
    """

    text: str
    test: Callable[[Any, Any], Any]
    is_equality: bool
    mirrored: str
    opposite: str

    @property
    def is_negated(self) -> bool:
        """Whether it is true where two values are not the same."""
        return self.is_equality and bool(self.test(0, 1))

    @property
    def is_below(self) -> bool:
        """Whether it is true of a smaller value on the left."""
        return not self.is_equality and bool(self.test(0, 1))


OPERATORS = {
    each.text: each
    for each in (
        Operator("==", operator.eq, True, "==", "!="),
        Operator("!=", operator.ne, True, "!=", "=="),
        Operator("<", operator.lt, False, ">", ">="),
        Operator("<=", operator.le, False, ">=", ">"),
        Operator(">", operator.gt, False, "<", "<="),
        Operator(">=", operator.ge, False, "<=", "<"),
    )
}
# The longest first, as a tokenizer needs them.
PATTERN = "|".join(map(re.escape, sorted(OPERATORS, key=len, reverse=True)))
