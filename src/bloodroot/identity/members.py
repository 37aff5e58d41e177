"""From the rows of a directory's tables to what is known of one member."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..core.caller import Caller
from ..core.roles_in import NOWHERE, RolesIn
from ..core.values import Value, compare
from ..settings import SettingsError
from .held_in_records import RoleIn, of_rows, roles_in
from .names import names_in_cell, permissions_in

Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Grant:
    """A permission that a directory gives to a member, beside those of the roles.

    Attributes:
        permission: its name.
        giver: who gave it, in words.
        group: the group that it was given to; None where it was given to the member.
    """

    permission: str
    giver: str
    group: str | None


@dataclass(frozen=True, slots=True)
class Member:
    """What a directory knows of a member.

    Attributes:
        id: as the directory keeps it; it becomes the caller's id.
        status: in words, such as ``active`` or ``suspended``.
        active: whether the status is one of those who may act.
        roles: roles held directly.
        groups: groups it belongs to.
        grants: permissions beside those of the roles.
        attributes: every other column of the member's row, and the status.
        notes: what could not be read.
        roles_in: roles that are held in particular records, those included that have ended.
    """

    id: Any
    status: str
    active: bool
    roles: frozenset[str]
    groups: frozenset[str]
    grants: tuple[Grant, ...] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    roles_in: tuple[RoleIn, ...] = ()
    # What of these is held, and from when until when that is so.
    _held: list[tuple[RolesIn, datetime.datetime, datetime.datetime | None]] = field(
        default_factory=list, init=False, repr=False, compare=False
    )

    def held_in(self, now: datetime.datetime) -> Mapping[str, Mapping[Any, frozenset[str]]]:
        """The roles that are held in records at a moment: one that has ended gives nothing from then on."""
        if not self.roles_in:
            return NOWHERE
        for held, since, ends in self._held:
            if since <= now and (ends is None or now < ends):
                return held
        held, ends = roles_in(self.roles_in, now)
        self._held[:] = [(held, now, ends)]
        return held

    @property
    def name(self) -> str:
        """What people call the member: the login, the address or the name, whichever the directory has."""
        return next((str(self.attributes[key]) for key in ("login", "email", "name") if self.attributes.get(key)), "")

    @property
    def granted(self) -> dict[str, str]:
        """The permissions of the grants, each with who gave it first."""
        return {grant.permission: grant.giver for grant in reversed(self.grants)}

    def caller(self, claimed: Caller | None = None) -> Caller:
        """The member as a caller, with the present roles.

        Args:
            claimed: what a token or a session says of the same member. Its roles and groups count for nothing any
                more; its scopes still apply, and its attributes count where the directory has none.
        """
        notes = list(self.notes)
        attributes = dict(self.attributes)
        scopes = None
        if claimed is not None:
            scopes = claimed.scopes
            attributes = {**claimed.attributes, **attributes}
            old = sorted(frozenset(claimed.roles) - self.roles)
            if old:
                notes.append(f"the directory does not say {', '.join(old)} of this member, whatever the sign-in says")
        held = self.held_in(datetime.datetime.now(datetime.UTC))
        return Caller(self.id, self.roles, self.groups, attributes, scopes, self.granted, tuple(notes), held)


def columns_of(keys: Iterable[str], needed: Iterable[str] = ()) -> list[str]:
    """The columns of a query by name, those with a meaning in lower case: databases differ over the case of names.

    Args:
        keys: the names as the database gives them.
        needed: those without which the query says nothing.

    Raises:
        SettingsError: one that is needed is not there, or one with a meaning is there twice.
    """
    meant = {*_MEANT, *needed, *(("until",) if "role" in needed else ())}
    columns = [key.lower() if key.lower() in meant else key for key in keys]
    for name in needed:
        if name not in columns:
            raise SettingsError(f'the row needs a column "{name}"{_REMEDIES.get(name, "")}')
    for name in sorted(meant):
        if columns.count(name) > 1:
            raise SettingsError(f'the row has the column "{name}" {columns.count(name)} times')
    return columns


_MEANT = ("id", "status", "source", "group_name", "member_id")
_REMEDIES = {"status": ": name it so, or write 'active' as status where no member is ever suspended"}
NEEDED = {"roles_in": ("thing", "record", "role"), "member": ("id", "status"), "members": ("id",), "login": ("id",)}


def member_of(
    rows: Mapping[str, Sequence[Row]],
    identifier: object,
    *,
    separator: str | None = ",",
    active: Iterable[str] = ("active",),
) -> Member | None:
    """What rows say of the member who was asked for.

    Args:
        rows: what each query brought: ``member`` a row with ``id`` and ``status``; ``roles`` and ``groups``
            a name, names in one string, a JSON list or a JSON map in the first column; ``permissions`` the same, with
            who gave them in a column ``source``, and the group that has them in ``group_name``; ``roles_in`` rows with
            ``thing``, ``record``, ``role`` and perhaps ``until``.
        asked: the id that was asked for.
        separator: what is between names in one string; None where a string is one name.
        active: the statuses of members who may act.

    Returns:
        The member, or None where there is no such member, or another one was found.
    """
    member_rows = list(rows.get("member", ()))
    if len(member_rows) != 1 or not _is(identifier, member_rows[0].get("id")):
        # A lenient database finds member 5 by "05", which is no member's id.
        return None
    attributes = {name: value for name, value in member_rows[0].items() if name != "id"}
    status = attributes.setdefault("status", "of no known status")
    notes: list[str] = []
    grants: list[Grant] = []
    for row in rows.get("permissions", ()):
        names, wrong = permissions_in(_first(row), separator)
        group = str(row["group_name"]) if row.get("group_name") else None
        source = row.get("source") or (f"group {group}" if group is not None else None)
        giver = f"the directory, to {source}" if source else "the directory"
        grants += [Grant(name, giver, group) for name in names]
        notes += [f"a permission in the directory {name}" for name in wrong]
    held, wrong = of_rows(rows.get("roles_in", ()))
    notes += wrong
    return Member(
        member_rows[0]["id"],
        str(status),
        str(status) in tuple(active),
        frozenset(_names("role", rows.get("roles", ()), separator, notes)),
        frozenset(_names("group", rows.get("groups", ()), separator, notes)),
        tuple(grants),
        attributes,
        tuple(notes),
        held,
    )


def _is(identifier: object, value: object) -> bool:
    """Whether an id from a token or a session is that of the row."""
    if isinstance(value, bool) or value is None:
        return False
    return bool(compare(Value(identifier, textual=isinstance(identifier, str)), "==", Value(value)))


def _names(what: str, rows: Iterable[Row], separator: str | None, notes: list[str]) -> list[str]:
    names = []
    for row in rows:
        value = _first(row)
        if value is None or value == "":
            continue  # a member without a role, as a column says it
        found, wrong = names_in_cell(value, separator)
        names += found
        notes += [f"a {what} in the directory {name}" for name in wrong]
    return names


def _first(row: Row) -> Any:
    return next(iter(row.values()), None)
