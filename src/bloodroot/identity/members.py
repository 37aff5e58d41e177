"""From the rows of a directory's tables to what is known of one member."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..core.caller import Caller
from ..core.values import Value, compare
from ..settings import SettingsError
from .names import names_in, permissions_in

Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Member:
    """What a directory knows of a member.

    Attributes:
        id: as the directory keeps it; it becomes the caller's id.
        status: in words, such as ``active`` or ``suspended``.
        active: whether the status is one of those who may act.
        roles: roles held directly.
        groups: groups it belongs to.
        granted: permissions beside those of the roles, each with who gave it.
        attributes: every other column of the member's row, and the status.
        notes: what could not be read.
    """

    id: Any
    status: str
    active: bool
    roles: frozenset[str]
    groups: frozenset[str]
    granted: Mapping[str, str] = field(default_factory=dict)
    attributes: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """What people call the member: the login, the address or the name, whichever the directory has."""
        return next((str(self.attributes[key]) for key in ("login", "email", "name") if self.attributes.get(key)), "")

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
        return Caller(self.id, self.roles, self.groups, attributes, scopes, self.granted, tuple(notes))


def columns_of(keys: Iterable[str], needed: Iterable[str] = ()) -> list[str]:
    """The columns of a query by name, those with a meaning in lower case: databases differ over the case of names.

    Args:
        keys: the names as the database gives them.
        needed: those without which the query says nothing.

    Raises:
        SettingsError: one that is needed is not there, or one with a meaning is there twice.
    """
    found = [key.lower() if key.lower() in _MEANT else key for key in keys]
    for name in needed:
        if name not in found:
            raise SettingsError(f'the row needs a column "{name}"{_REMEDIES.get(name, "")}')
    for name in _MEANT:
        if found.count(name) > 1:
            raise SettingsError(f'the row has the column "{name}" {found.count(name)} times')
    return found


_MEANT = ("id", "status", "source", "member_id")
_REMEDIES = {"status": ": name it so, or write 'active' as status where no member is ever suspended"}
NEEDED = {"member": ("id", "status"), "members": ("id",), "login": ("id",)}


def member_of(
    rows: Mapping[str, Sequence[Row]],
    asked: object,
    *,
    separator: str | None = ",",
    active: Iterable[str] = ("active",),
) -> Member | None:
    """What rows say of the member who was asked for.

    Args:
        rows: what each query brought: ``member`` a row with ``id`` and ``status``; ``roles`` and ``groups``
            a name, names in one string or a JSON list in the first column; ``permissions`` the same or a JSON map, with
            who gave them in a column ``source``.
        asked: the id that was asked for.
        separator: what is between names in one string; None where a string is one name.
        active: the statuses of members who may act.

    Returns:
        The member, or None where there is no such member, or another one was found.
    """
    found = list(rows.get("member", ()))
    if len(found) != 1 or not _is(asked, found[0].get("id")):
        # A lenient database finds member 5 by "05", which is no member's id.
        return None
    attributes = {name: value for name, value in found[0].items() if name != "id"}
    status = attributes.setdefault("status", "of no known status")
    notes: list[str] = []
    granted: dict[str, str] = {}
    for row in rows.get("permissions", ()):
        names, wrong = permissions_in(_first(row), separator)
        by = f"the directory, to {row['source']}" if row.get("source") else "the directory"
        for name in names:
            granted.setdefault(name, by)
        notes += [f"a permission in the directory {each}" for each in wrong]
    return Member(
        found[0]["id"],
        str(status),
        str(status) in tuple(active),
        frozenset(_names("role", rows.get("roles", ()), separator, notes)),
        frozenset(_names("group", rows.get("groups", ()), separator, notes)),
        granted,
        attributes,
        tuple(notes),
    )


def _is(asked: object, found: object) -> bool:
    """Whether an id from a token or a session is that of the row."""
    if isinstance(found, bool) or found is None:
        return False
    return bool(compare(Value(asked, textual=isinstance(asked, str)), "==", Value(found)))


def _names(what: str, rows: Iterable[Row], separator: str | None, notes: list[str]) -> list[str]:
    names = []
    for row in rows:
        value = _first(row)
        if value is None or value == "":
            continue  # a member without a role, as a column says it
        found, wrong = permissions_in(value, separator) if _is_json_list(value) else names_in(value, separator)
        names += found
        notes += [f"a {what} in the directory {each}" for each in wrong]
    return names


def _is_json_list(value: Any) -> bool:
    return isinstance(value, str) and value.lstrip().startswith("[")


def _first(row: Row) -> Any:
    return next(iter(row.values()), None)
