"""What a member of a directory was given: roles, groups and permissions, one by one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from .core.caller import Caller
from .core.policy import Policy
from .identity.members import Member


@dataclass(frozen=True, slots=True)
class Holding:
    """One thing that a member was given.

    Attributes:
        kind: ``role``, ``group`` or ``permission``.
        name: its name.
        gives: for a role the roles that it comes to, for a group these and the permissions that the directory gives to
            it, for a permission who gave it.
        known: whether the policy knows it; what it does not know gives nothing.
    """

    kind: str
    name: str
    gives: tuple[str, ...]
    known: bool


def holdings_of(policy: Policy, member: Member) -> Iterator[Holding]:
    """What a member was given: roles, groups and permissions."""
    roles = policy.roles
    for name in sorted(member.roles):
        yield Holding("role", name, roles.names(roles.closure.get(name, 0)), name in roles.bit)
    for name in sorted(member.groups):
        given = tuple(each for each, by in sorted(member.granted.items()) if by.endswith(f"to group {name}"))
        gives = (*roles.names(roles.groups.get(name, 0)), *given)
        yield Holding("group", name, gives, name in roles.groups or bool(given))
    for name, by in sorted(member.granted.items()):
        if any(by.endswith(f"to group {group}") for group in member.groups):
            continue  # the group is what the member holds
        known = policy.engine.resolver.permission(name) is not None or name.endswith("*")
        yield Holding("permission", name, (by,), known)


def without(caller: Caller, holding: Holding) -> Caller:
    """A member, as a caller, as it would be without one thing."""
    if holding.kind == "role":
        return replace(caller, roles=frozenset(caller.roles) - {holding.name})
    if holding.kind == "group":
        granted = {name: by for name, by in caller.granted.items() if not by.endswith(f"to group {holding.name}")}
        return replace(caller, groups=frozenset(caller.groups) - {holding.name}, granted=granted)
    return replace(caller, granted={name: by for name, by in caller.granted.items() if name != holding.name})


def alone(member: Member, holding: Holding | None) -> Caller:
    """A member with one thing alone, or with nothing."""
    caller = replace(member.caller(), roles=frozenset(), groups=frozenset(), granted={})
    if holding is None:
        return caller
    whole = member.caller()
    if holding.kind == "role":
        return replace(caller, roles={holding.name})
    if holding.kind == "group":
        granted = {name: by for name, by in whole.granted.items() if by.endswith(f"to group {holding.name}")}
        return replace(caller, groups={holding.name}, granted=granted)
    return replace(caller, granted={holding.name: whole.granted[holding.name]})
