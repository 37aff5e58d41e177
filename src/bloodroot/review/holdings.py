"""What a member of a directory was given: roles, groups and permissions, one by one."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from dataclasses import dataclass, replace

from ..core.policy import Policy
from ..core.roles import kind_of_role
from ..identity.members import Grant, Member


@dataclass(frozen=True, slots=True)
class Holding:
    """One thing that a member was given.

    Attributes:
        kind: ``role``, ``group`` or ``permission``.
        name: its name.
        gives: for a role the roles that it comes to, for a group these and the permissions that the directory gives to
            it, for a permission who gave it.
        known: whether the policy knows it; what it does not know gives nothing.
        until: from when on it is not held any more; None for no end.
    """

    kind: str
    name: str
    gives: tuple[str, ...]
    known: bool
    until: datetime.datetime | None = None


def holdings_of(policy: Policy, member: Member) -> Iterator[Holding]:
    """What a member was given: roles, groups and permissions."""
    roles = policy.roles
    for name in sorted(member.roles):
        yield Holding("role", name, roles.names(roles.closure.get(name, 0)), name in roles.bit)
    for held in sorted(member.roles_in, key=lambda held: (held.thing, str(held.record), held.role)):
        kind = kind_of_role(held.role, held.thing)
        gives = tuple(name for name in roles.kinds_of(roles.closure_of.get(kind, 0)) if name != kind)
        yield Holding("role", held.name, gives, kind in roles.closure_of, held.until)
    for name in sorted(member.groups):
        given = tuple(sorted(grant.permission for grant in member.grants if grant.group == name))
        gives = (*roles.names(roles.groups.get(name, 0)), *given)
        yield Holding("group", name, gives, name in roles.groups or bool(given))
    for grant in sorted(member.grants, key=lambda grant: grant.permission):
        if grant.group in member.groups:
            continue  # the group is what the member holds
        name = grant.permission
        is_known = policy.resolver.permission(name) is not None or name.endswith("*")
        yield Holding("permission", name, (grant.giver,), is_known)


def without(member: Member, *holdings: Holding) -> Member:
    """A member as it would be without some of what it holds."""
    return replace(
        member,
        roles=member.roles - {holding.name for holding in holdings if holding.kind == "role"},
        roles_in=tuple(held for held in member.roles_in if held.name not in _roles(holdings)),
        groups=member.groups - {holding.name for holding in holdings if holding.kind == "group"},
        grants=tuple(grant for grant in member.grants if not any(_is_of(grant, holding) for holding in holdings)),
    )


def only(member: Member, *holdings: Holding) -> Member:
    """A member with some of what it holds alone."""
    return replace(
        member,
        roles=member.roles & _roles(holdings),
        roles_in=tuple(held for held in member.roles_in if held.name in _roles(holdings)),
        groups=frozenset(holding.name for holding in holdings if holding.kind == "group"),
        grants=tuple(grant for grant in member.grants if any(_is_of(grant, holding) for holding in holdings)),
    )


def _roles(holdings: tuple[Holding, ...]) -> set[str]:
    return {holding.name for holding in holdings if holding.kind == "role"}


def _is_of(grant: Grant, holding: Holding) -> bool:
    """Whether a grant comes with something that the member holds."""
    if holding.kind == "group":
        return grant.group == holding.name
    return holding.kind == "permission" and (grant.permission, grant.giver) == (holding.name, *holding.gives)
