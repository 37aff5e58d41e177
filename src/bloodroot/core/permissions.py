"""What a caller may do by permission, for any layer to ask: beside requests and their lines."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ..language.errors import UnknownNameError
from ..language.problems import suggestion
from .formulas import both
from .predicates import Predicate, compiled
from .requirements import permissions_in
from .role_cache import is_plain

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .caller import Caller
    from .engine import Engine
    from .formulas import Facts, Formula


def permission_named(engine: Engine, name: str) -> Formula:
    """What a permission asks.

    Raises:
        UnknownNameError: the policy has no such permission.
    """
    asked = engine.resolver.permission(name)
    if asked is None:
        raise UnknownNameError(f'unknown permission "{name}"{suggestion(name, engine.resolver.permissions)}')
    return asked


def knows(engine: Engine, permission: str) -> bool:
    """Whether the policy has a permission; for ``thing:*``, whether it has any of that thing."""
    if engine.resolver.permission(permission) is not None:
        return True
    family = permission[:-1]
    return permission.endswith(":*") and any(name.startswith(family) for name in engine.resolver.permissions)


def holds(
    engine: Engine, formula: Formula, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None
) -> bool:
    """Whether what a permission asks holds for a caller and a record."""
    return all(predicate(facts) for predicate, facts in predicates_of(engine, formula, caller, record, args))


def predicates_of(
    engine: Engine, formula: Formula, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None
) -> list[tuple[Predicate, Facts]]:
    """The predicates that all must be true of a caller, each with what is known of them.

    The facts may be given one record after another.
    """
    found = []
    for each in engine.counted_as(caller):
        facts = engine.facts_of(each, record, args)
        if is_plain(each):
            found.append((engine.kept.get(formula, facts.certain).predicate, facts))
        else:
            known = replace(facts, record=None, args=None)
            found.append((compiled(formula.fold(known)), facts))
    return found


def remainders(engine: Engine, caller: Caller | None) -> dict[str, Formula]:
    """What remains of each permission for a caller of whom alone something is known.

    Returns:
        By name, in the order of the file and then of the lines: every permission declared or asked for somewhere.
    """
    requirements = [line.requirement for line in engine.endpoints] + [line.requirement for line in engine.unbound]
    asked = dict.fromkeys(each.name for asks in requirements for each in permissions_in(asks.formula))
    every = [engine.facts_of(each) for each in engine.counted_as(caller)]
    for facts in every:
        facts.now = None
    found = {}
    for name in (*engine.resolver.permissions, *asked):
        permission = engine.resolver.permission(name)
        if permission is not None and not name.endswith("*"):
            found[name] = both(permission.fold(facts) for facts in every)
    return found
