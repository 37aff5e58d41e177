"""From the rows of a directory's tables to what is known of one member."""

from __future__ import annotations

import datetime
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..core.caller import Caller
from ..core.roles_in import NOWHERE, RolesIn
from ..core.values import Value, compare
from ..settings import SettingsError
from .held_in_records import RoleIn, end_of, joined, of_rows, roles_in
from .names import NO_NAMES, names_in_cell, permissions_in, shown

Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Grant:
    """A permission that a directory gives to a member, beside those of the roles.

    Attributes:
        permission: its name.
        giver: who gave it, in words.
        group: the group that it was given to; None where it was given to the member.
        until: from when on it is not held any more; None for no end.
    """

    permission: str
    giver: str
    group: str | None
    until: datetime.datetime | None = None


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
        unreadable: what could not be read; such a member may not act.
        roles_in: roles that are held in particular records, those included that have ended.
        ends: for roles and groups that end, by ``role`` or ``group`` and the name, when.
    """

    id: Any
    status: str
    active: bool
    roles: frozenset[str]
    groups: frozenset[str]
    grants: tuple[Grant, ...] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    unreadable: tuple[str, ...] = ()
    roles_in: tuple[RoleIn, ...] = ()
    ends: Mapping[tuple[str, str], datetime.datetime] = field(default_factory=dict)
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
        """The permissions of the grants that have not ended, each with who gave it first."""
        now = datetime.datetime.now(datetime.UTC)
        grants = (grant for grant in reversed(self.grants) if grant.until is None or now < grant.until)
        return {grant.permission: grant.giver for grant in grants}

    def _at(self, kind: str, names: frozenset[str], now: datetime.datetime) -> frozenset[str]:
        """The names of those that have not ended at a moment."""
        if not self.ends:
            return names
        return frozenset(name for name in names if (kind, name) not in self.ends or now < self.ends[kind, name])

    def caller(self, claimed: Caller | None = None, *, both: bool = False) -> Caller:
        """The member as a caller, with the present roles.

        Args:
            claimed: what a token or a session says of the same member. Its scopes apply, and its attributes count where
                the directory has none.
            both: whether its roles and groups count as well; else they count for nothing any more.
        """
        now = datetime.datetime.now(datetime.UTC)
        notes, attributes, scopes, scoped_roles, actor = [], dict(self.attributes), None, None, None
        roles, groups = self._at("role", self.roles, now), self._at("group", self.groups, now)
        held = self.held_in(now)
        if claimed is not None:
            scopes, scoped_roles, actor = claimed.scopes, claimed.scoped_roles, claimed.actor
            attributes = {**claimed.attributes, **attributes}
            if both:
                roles, groups = roles | frozenset(claimed.roles), groups | frozenset(claimed.groups)
                held = joined(held, claimed.roles_in)
            elif old := sorted(frozenset(claimed.roles) - roles):
                notes.append(f"the directory does not say {', '.join(old)} of this member, whatever the sign-in says")
        return Caller(self.id, roles, groups, attributes, scopes, self.granted, tuple(notes), held, actor, scoped_roles)


def columns_of(keys: Iterable[str], needed: Iterable[str] = ()) -> list[str]:
    """The columns of a query by name, those with a meaning in lower case: databases differ over the case of names.

    Args:
        keys: the names as the database gives them.
        needed: those without which the query says nothing.

    Raises:
        SettingsError: one that is needed is not there, or one with a meaning is there twice.
    """
    meant = {*_MEANT, *needed, *(("until",) if "status" not in needed else ())}
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
NEEDED = {
    "roles_in": ("thing", "record", "role"),
    "member": ("id", "status"),
    "members": ("id",),
    "login": ("id",),
    "key": ("id",),
}


def member_of(
    rows: Mapping[str, Sequence[Row]],
    identifier: object,
    *,
    separator: str | None = ",",
    active: Iterable[str] = ("active",),
    json_columns: Iterable[str] = (),
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
        json_columns: columns of the member's row that hold JSON as text.

    Returns:
        The member, or None where there is no such member, or another one was found.
    """
    member_rows = list(rows.get("member", ()))
    if len(member_rows) != 1 or not _is(identifier, member_rows[0].get("id")):
        # A lenient database finds member 5 by "05", which is no member's id.
        return None
    notes: list[str] = []
    attributes = _attributes(member_rows[0], json_columns, notes)
    status = str(attributes.setdefault("status", "of no known status"))
    grants = _grants(rows.get("permissions", ()), separator, notes)
    held, wrong = of_rows(rows.get("roles_in", ()))
    notes += wrong
    ends: dict[tuple[str, str], datetime.datetime] = {}
    return Member(
        member_rows[0]["id"],
        status,
        status in tuple(active),
        frozenset(_names("role", rows.get("roles", ()), separator, notes, ends)),
        frozenset(_names("group", rows.get("groups", ()), separator, notes, ends)),
        tuple(grants),
        attributes,
        tuple(notes),
        held,
        ends,
    )


def _attributes(row: Row, json_columns: Iterable[str], notes: list[str]) -> dict[str, Any]:
    """The attributes in a member's row; `notes` gets what cannot be read."""
    attributes = {name: value for name, value in row.items() if name != "id"}
    for name in json_columns:
        try:
            if isinstance(attributes.get(name), str):
                attributes[name] = json.loads(attributes[name])
        except (ValueError, RecursionError):
            notes.append(f"{name} in the directory is {shown(attributes[name])}, which is not JSON")
    return attributes


def _grants(rows: Iterable[Row], separator: str | None, notes: list[str]) -> list[Grant]:
    """The permissions in rows; `notes` gets what cannot be read."""
    grants: list[Grant] = []
    for row in rows:
        names, wrong = permissions_in(_first(row), separator)
        group = str(row["group_name"]) if row.get("group_name") else None
        source = row.get("source") or (f"group {group}" if group is not None else None)
        giver = f"the directory, to {source}" if source else "the directory"
        try:
            until = end_of(row.get("until"))
        except ValueError:
            notes.append(f"a permission in the directory ends at {shown(row.get('until'))}, which is no date")
            continue
        grants += [Grant(name, giver, group, until) for name in names]
        notes += [f"a permission in the directory {name}" for name in wrong if name not in NO_NAMES]
    return grants


def _is(identifier: object, value: object) -> bool:
    """Whether an id from a token or a session is that of the row."""
    if isinstance(value, bool) or value is None:
        return False
    return bool(compare(Value(identifier, textual=isinstance(identifier, str)), "==", Value(value)))


def _names(
    what: str,
    rows: Iterable[Row],
    separator: str | None,
    notes: list[str],
    ends: dict[tuple[str, str], datetime.datetime],
) -> list[str]:
    """The names in rows; `notes` gets what cannot be read, and `ends` when some are not held any more."""
    names: list[str] = []
    lasting: set[str] = set()
    for row in rows:
        value = _first(row)
        if value is None or value == "":
            continue  # a member without a role, as a column says it
        found, wrong = names_in_cell(value, separator)
        notes += [f"a {what} in the directory {name}" for name in wrong if name not in NO_NAMES]
        try:
            until = end_of(row.get("until"))
        except ValueError:
            notes.append(f"a {what} in the directory ends at {shown(row.get('until'))}, which is no date")
            continue
        names += found
        if until is None:
            lasting.update(found)
        for name in found if until is not None else ():
            assert until is not None
            # Held twice, it is held until the later end.
            ends[what, name] = max(until, ends.get((what, name), until))
    for name in lasting:
        ends.pop((what, name), None)
    return names


def _first(row: Row) -> Any:
    return next(iter(row.values()), None)
