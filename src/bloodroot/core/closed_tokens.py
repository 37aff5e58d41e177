"""What a line asks of a token that was made for less than its owner may do, where the owner's roles do not count.

Such a token opens a line by a permission that its scopes name, or by a role that counts with it. A line that would hold
without any of these, by a condition alone or by what the caller is not, asks for ``signed-in``, which has to count too.
"""

from __future__ import annotations

from collections.abc import Hashable
from functools import lru_cache
from typing import Any, cast

from .conditions import Condition
from .formulas import Conjunction, Constant, Disjunction, Formula, both, either
from .requirements import HELD, Guarded, Holding, PermissionAsked
from .roles import SIGNED_IN

_SIGNED_IN = Holding(SIGNED_IN, "signed-in")


def opened_by_scopes(formula: Formula) -> Formula:
    """A requirement that holds where it holds because of a permission or a role, or where being signed in counts."""
    return _opened(cast("Hashable", formula))


@lru_cache(maxsize=4096)
def _opened(formula: Any) -> Formula:
    if isinstance(formula, Holding) and formula.implied:
        return both((_SIGNED_IN, formula))
    if isinstance(formula, (PermissionAsked, Guarded, Constant, *HELD)):
        return cast("Formula", formula)
    if isinstance(formula, Disjunction):
        return either(map(opened_by_scopes, formula.parts))
    if isinstance(formula, Conjunction):
        parts = formula.parts
        return either(
            both((*parts[:place], opened_by_scopes(part), *parts[place + 1 :])) for place, part in enumerate(parts)
        )
    if isinstance(formula, Condition):
        return both((opened_by_scopes(formula.test), formula))
    return both((_SIGNED_IN, formula))
