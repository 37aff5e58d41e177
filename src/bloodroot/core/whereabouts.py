"""Where a caller may do something: the records of things in which a permission may be had."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .formulas import can_be_true, walk
from .locating import Location, there_of
from .request_facts import counted_as, facts_of
from .requirements import HoldingIn
from .values import Value

if TYPE_CHECKING:
    from .caller import Caller
    from .formulas import Formula
    from .roles import RoleTable


class Everywhere(frozenset[Any]):
    """Every record of a thing: anything is in it, and it cannot be listed."""

    __slots__ = ()

    def __contains__(self, identifier: object) -> bool:
        return True

    def __iter__(self) -> Any:
        raise TypeError("the caller may do this everywhere; ask `is EVERYWHERE` before listing where")

    def __len__(self) -> int:
        raise TypeError("the caller may do this everywhere, which has no length; ask `is EVERYWHERE`")

    def __bool__(self) -> bool:
        return True

    def __repr__(self) -> str:
        return "EVERYWHERE"

    def __reduce__(self) -> str:
        return "EVERYWHERE"


EVERYWHERE = Everywhere()


def where(roles: RoleTable, permission: Formula, caller: Caller | None) -> dict[str, frozenset[Any]]:
    """For each thing in which a role gives a permission, the records where the caller may have it."""
    # With what follows from a role in a thing in what belongs to that, too: all things of the chains.
    names = {part.thing for part in walk(permission) if isinstance(part, HoldingIn)}
    things = [
        thing.name
        for thing in roles.things.by_name.values()
        if any(thing in roles.things.chain(name) for name in names)
        and any(roles.closure_in[role] & _mask(permission) for role in roles.roles_of(thing.name))
    ]
    return {thing: _in_thing(roles, permission, caller, thing) for thing in things}


def _mask(permission: Formula) -> int:
    mask = 0
    for part in walk(permission):
        if isinstance(part, HoldingIn):
            mask |= part.mask
    return mask


def _in_thing(roles: RoleTable, permission: Formula, caller: Caller | None, thing: str) -> frozenset[Any]:
    nowhere = Location({each.name: Value(None) for each in roles.things.chain(thing)})
    if caller is None or all(_may(roles, permission, other, nowhere) for other in counted_as(roles, caller)):
        # What needs no role in a record of the thing needs none in any.
        return EVERYWHERE if caller is not None else frozenset()
    found = []
    for identifier in caller.roles_in.get(thing, ()):
        location = Location({thing: Value(identifier)})
        if all(_may(roles, permission, other, location) for other in counted_as(roles, caller)):
            found.append(identifier)
    return frozenset(found)


def _may(roles: RoleTable, permission: Formula, caller: Caller | None, location: Location) -> bool:
    facts = facts_of(roles, caller)
    facts.there = there_of(roles, caller, location) if caller is not None else None
    return can_be_true(permission.fold(facts))
