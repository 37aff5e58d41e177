"""What of a policy recorded requests never used: lines, methods of lines, roles and what permissions are given to."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.caller import group_of_kind
from ..core.methods import ANY, covers
from ..core.requirements import permissions_in
from ..language import tree
from .deciding_again import PERMISSION

if TYPE_CHECKING:
    from ..core.formulas import Formula
    from ..core.lines import Line
    from ..core.policy import Policy
    from .counted import Counted, RecordedCaller

_SELF = ("signed-in", "signed-out", "anyone", "nobody")


@dataclass(frozen=True, slots=True)
class UnusedLine:
    """An endpoint line, or methods of it, by which no one was let in.

    Attributes:
        line: the line.
        methods: those that were not used; all of them where the line as a whole was not.
        whole: whether the line as a whole was not.
    """

    line: Line
    methods: tuple[str, ...]
    whole: bool


@dataclass(frozen=True, slots=True)
class UnusedGrant:
    """A permission that is given to a role, and that no caller with that role was seen to use.

    Attributes:
        permission: the permission.
        to: the role, or the audience.
        entry: where the policy gives it.
    """

    permission: str
    to: str
    entry: tree.Permission


@dataclass(frozen=True, slots=True)
class Unused:
    """What was never used.

    Attributes:
        lines: endpoint lines and methods.
        permissions: permissions that lines ask for, and no one was let in by.
        grants: what the other permissions are given to.
        roles: roles that no caller who was let in is known to hold.
    """

    lines: tuple[UnusedLine, ...] = ()
    permissions: tuple[str, ...] = ()
    grants: tuple[UnusedGrant, ...] = ()
    roles: tuple[str, ...] = ()


def unused(policy: Policy, document: tree.Document, counted: Counted) -> Unused | None:
    """What was never used; None where no request was let in for sure, so that nothing can be said.

    Whatever may have been used counts as used: all that a line asks, for a caller of whom no roles are known.

    Args:
        policy: the policy.
        document: its tree.
        counted: what the logs come to.
    """
    if not counted.let_in:
        return None
    users = _Users(policy, counted)
    lines = tuple(_lines(policy, users))
    asked = dict.fromkeys(name for line in policy.endpoints for name in _permissions(line.requirement.formula))
    entries = [entry for entry in document.entries(tree.Permission) if _is_asked(entry.name.text, asked)]
    idle = tuple(entry.name.text for entry in entries if not users.of_permission(entry.name.text))
    grants = [
        UnusedGrant(entry.name.text, grant.to.text, entry)
        for entry in entries
        if entry.name.text not in idle and len(entry.grants) > 1
        for grant in entry.grants
        if not users.used(entry.name.text, grant.to.text)
    ]
    roles = tuple(kind for kind in policy.roles.kinds if not users.holds(kind))
    return Unused(lines, idle, tuple(grants), roles)


class _Users:
    """Who was let in, or may have been, by line and by permission."""

    def __init__(self, policy: Policy, counted: Counted) -> None:
        self._policy = policy
        self._by_line: dict[tuple[str, str], dict[str, set[RecordedCaller]]] = {}
        self._by_permission: dict[str, set[RecordedCaller]] = {}
        self._bits: dict[RecordedCaller, int] = {}
        for (asked, who), _ in counted.used.items():
            if asked.method == PERMISSION:
                self._by_permission.setdefault(asked.path, set()).add(who)
            elif asked.at:
                self._by_line.setdefault((asked.at, asked.path), {}).setdefault(asked.method, set()).add(who)
        for line in policy.endpoints:
            whos = self.at(line)
            for name in _permissions(line.requirement.formula) if whos else ():
                self._by_permission.setdefault(name, set()).update(whos)

    def methods(self, line: Line) -> set[str]:
        """The methods that were used of a line."""
        return set(self._by_line.get((line.place.at, line.template.text), {}))

    def at(self, line: Line) -> set[RecordedCaller]:
        """Who used a line."""
        by_method = self._by_line.get((line.place.at, line.template.text), {})
        return {who for whos in by_method.values() for who in whos}

    def of_permission(self, name: str) -> set[RecordedCaller]:
        """Who used a permission, or one of its family."""
        recorded_callers = set(self._by_permission.get(name, ()))
        for other, whos in self._by_permission.items() if name.endswith(":*") else ():
            recorded_callers |= whos if other.startswith(name[:-1]) else set()
        return recorded_callers

    def used(self, permission: str, to: str) -> bool:
        """Whether a caller who holds a role, or is of an audience, used a permission."""
        return any(self._is(who, to) for who in self.of_permission(permission))

    def holds(self, kind: str) -> bool:
        """Whether a caller who was let in may hold a role."""
        return any(
            self._is(who, kind) for by_method in self._by_line.values() for whos in by_method.values() for who in whos
        ) or any(self._is(who, kind) for whos in self._by_permission.values() for who in whos)

    def _is(self, who: RecordedCaller, kind: str) -> bool:
        if who.word not in ("signed-in", "signed-out") or kind in _SELF:
            return True
        if who.word == "signed-out":
            return False
        roles = self._policy.roles
        bits = self._bits.get(who)
        if bits is None:
            bits = roles.base
            for held in who.kinds:
                group = group_of_kind(held)
                bits |= roles.closure_of.get(held, 0) if group is None else roles.groups.get(group, 0)
            plain = [held for held in who.kinds if group_of_kind(held) is None]
            if plain and not any(held in roles.closure_of for held in plain):
                # Roles that the policy has no more may be its present ones, under other names.
                bits = -1
            self._bits[who] = bits
        # A name that is no role here is a condition, or a role of a thing as it is given in a permission.
        wanted = roles.bit_of.get(kind, 0)
        for name, bit in roles.bit_of.items() if not wanted else ():
            wanted |= bit if name.partition(" in ")[0] == kind else 0
        return not wanted or bool(bits & wanted)


def _lines(policy: Policy, users: _Users) -> Iterator[UnusedLine]:
    for line in policy.endpoints:
        if line.closes:
            continue
        used = users.methods(line)
        if not used:
            yield UnusedLine(line, line.methods or (ANY,), True)
            continue
        idle = tuple(method for method in line.methods if not any(covers((method,), each) for each in used))
        if idle:
            yield UnusedLine(line, idle, False)


def _permissions(formula: Formula) -> Iterator[str]:
    return (permission.name for permission in permissions_in(formula))


def _is_asked(name: str, asked: Iterable[str]) -> bool:
    if not name.endswith(":*"):
        return name in asked
    return any(other.startswith(name[:-1]) for other in asked)
