"""What a caller may do by permission, for any layer to ask: beside requests and their lines."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..language.errors import UnknownNameError
from ..language.problems import suggestion
from .formulas import CAN_BE_TRUE
from .request_facts import counted_as, facts_of
from .role_cache import Remaining, is_plain

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .caller import Caller
    from .evaluate import Evaluator
    from .formulas import Facts, Formula
    from .resolver import Resolver


def permission_named(resolver: Resolver, name: str) -> Formula:
    """What a permission asks.

    Raises:
        UnknownNameError: the policy has no such permission.
    """
    formula = resolver.permission(name)
    if formula is None:
        raise UnknownNameError(f'unknown permission "{name}"{suggestion(name, resolver.permissions)}')
    return formula


def knows(resolver: Resolver, permission: str) -> bool:
    """Whether the policy has a permission; for ``thing:*``, whether it has any of that thing."""
    if resolver.permission(permission) is not None:
        return True
    family = permission[:-1]
    return permission.endswith(":*") and any(name.startswith(family) for name in resolver.permissions)


def holds(
    evaluator: Evaluator,
    formula: Formula,
    caller: Caller | None,
    record: Any = None,
    args: Mapping[str, Any] | None = None,
) -> bool:
    """Whether what a permission asks holds for a caller and a record."""
    for counted in counted_as(evaluator.roles, caller):
        facts = facts_of(evaluator.roles, counted, record, args)
        if remaining(evaluator, formula, counted, facts).predicate(facts) != CAN_BE_TRUE:
            return False
    return True


def remaining(evaluator: Evaluator, formula: Formula, caller: Caller | None, facts: Facts) -> Remaining:
    """What is left of a requirement for one of the callers of `counted_as`, of whom this is known.

    Its predicate may be asked with the same facts for one record after another.
    """
    if is_plain(caller):
        return evaluator.cache.get(formula, facts.certain)
    return Remaining(formula, facts.with_(record=None, args=None))
