"""Roles that are held in particular records, as tokens and databases say it, until they end."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

from ..core.roles_in import NOWHERE, RolesIn, text_of
from ..settings.callers import ClaimedRoles
from .names import names_in, shown, translated

_LONGEST_SHOWN = 3


@dataclass(frozen=True, slots=True)
class RoleIn:
    """A role that is held in a record.

    Attributes:
        thing: what kind of record it is.
        record: its identifier.
        role: the role.
        until: from when on the role is not held any more; None for no end.
    """

    thing: str
    record: Any
    role: str
    until: datetime.datetime | None = None

    @property
    def name(self) -> str:
        """``editor in studio 7``."""
        return f"{self.role} in {self.thing} {self.record}"

    def words(self) -> str:
        """``editor in studio 7 until 2027-01-01``."""
        return self.name + (f" until {said_end(self.until)}" if self.until is not None else "")

    def is_held(self, now: datetime.datetime) -> bool:
        """Whether it has not ended yet."""
        return self.until is None or now < self.until


def said_end(until: datetime.datetime) -> str:
    """The end of a role as a seed file writes it."""
    return until.isoformat().removesuffix("T00:00:00+00:00")


class HeldNow(NamedTuple):
    """What is held in records at a moment.

    Attributes:
        roles: the roles.
        ends: when some of them end; None where none of them does.
    """

    roles: RolesIn
    ends: datetime.datetime | None


def roles_in(held: Iterable[RoleIn], now: datetime.datetime) -> HeldNow:
    """What is held at a moment."""
    found: dict[str, dict[Any, set[str]]] = {}
    ends = None
    for each in held:
        if each.is_held(now):
            found.setdefault(each.thing, {}).setdefault(each.record, set()).add(each.role)
            if each.until is not None and (ends is None or each.until < ends):
                ends = each.until
    return HeldNow(RolesIn(found) if found else NOWHERE, ends)


def joined(one: Mapping[str, Mapping[Any, Iterable[str]]], other: Mapping[str, Mapping[Any, Iterable[str]]]) -> RolesIn:
    """What is held in records in either of two ways."""
    found: dict[str, dict[Any, set[str]]] = {}
    for held in (one, other):
        for thing, records in held.items():
            for identifier, names in records.items():
                found.setdefault(thing, {}).setdefault(identifier, set()).update(names)
    return RolesIn(found) if found else NOWHERE


def end_of(value: Any) -> datetime.datetime | None:
    """When a role ends, from a database or a file: a datetime, a date or text (RFC 3339); UTC where it does not say.

    Raises:
        ValueError: it is none of these.
    """
    if value is None or value == "":
        return None
    if isinstance(value, str):
        value = datetime.datetime.fromisoformat(value.strip())
    if isinstance(value, datetime.datetime):
        return value if value.tzinfo is not None else value.replace(tzinfo=datetime.UTC)
    if isinstance(value, datetime.date):
        return datetime.datetime(value.year, value.month, value.day, tzinfo=datetime.UTC)
    raise ValueError(f"{shown(value)} is no date")


def of_rows(rows: Iterable[Mapping[str, Any]]) -> tuple[tuple[RoleIn, ...], list[str]]:
    """The roles that rows give, with columns ``thing``, ``record``, ``role`` and perhaps ``until``; and what is wrong.

    A row that cannot be read gives nothing.
    """
    found, notes = [], []
    for row in rows:
        thing, record, role = row["thing"], row["record"], row["role"]
        if record is None or thing is None or role is None:
            continue  # an outer join without a partner
        if not isinstance(thing, str) or not isinstance(role, str) or text_of(record) is None:
            notes.append(
                f"a role in the directory is {shown(role)} in {shown(thing)} {shown(record)}, which is no role"
            )
            continue
        try:
            until = end_of(row.get("until"))
        except ValueError:
            notes.append(f"the role {role} in {thing} {record} ends at {shown(row.get('until'))}, which is no date")
            continue
        found.append(RoleIn(thing, record, role, until))
    return tuple(found), notes


class ReadClaim(NamedTuple):
    """The roles by record that a claim gives.

    Attributes:
        roles: the roles, by the identifier of the record.
        notes: what could not be read, in words that go on from "it".
    """

    roles: dict[Any, set[str]]
    notes: list[str]


def in_claim(value: Any, where: ClaimedRoles) -> ReadClaim:
    """The roles by record that a claim gives, and what could not be read, in words that go on from "it".

    Args:
        value: a list of objects with an identifier and a role or roles, a map of identifiers to a role or roles, or
            strings of a pattern.
        where: how it is written.
    """
    pairs, notes = _pairs(value, where)
    found: dict[Any, set[str]] = {}
    for identifier, roles in pairs:
        if isinstance(identifier, bool) or not isinstance(identifier, str | int):
            notes.append(f"holds {shown(identifier)}, which identifies no record")
            continue
        names, wrong = names_in(roles, where.separator)
        notes += [f"has for {shown(identifier)} what {name}" for name in wrong]
        for _, role in translated(names, where.drop_prefix, where.names):
            if role is not None:
                found.setdefault(identifier, set()).add(role)
    return ReadClaim(found, notes[:_LONGEST_SHOWN])


def _pairs(value: Any, where: ClaimedRoles) -> tuple[list[tuple[Any, Any]], list[str]]:
    if where.pattern is not None:
        texts, wrong = names_in(value, where.separator)
        return list(_by_pattern(texts, where.pattern)), wrong
    if isinstance(value, Mapping):
        return list(value.items()), []
    if not isinstance(value, list | tuple):
        return [], [f"is {shown(value)}, and not a list or a map"]
    pairs, notes = [], []
    for item in value:
        if isinstance(item, Mapping) and where.id in item and where.role in item:
            pairs.append((item[where.id], item[where.role]))
        else:
            notes.append(f"holds {shown(item)}, which has no {where.id} and {where.role}")
    return pairs, notes


def _by_pattern(texts: Iterable[str], pattern: str) -> Iterator[tuple[str, list[str]]]:
    """What strings of a pattern such as ``studio:{id}:{role}`` say; others are about something else."""
    match = compiled_pattern(pattern).fullmatch
    for text in texts:
        found = match(text)
        if found is not None:
            yield found["id"], [found["role"]]


@lru_cache(maxsize=256)
def compiled_pattern(pattern: str) -> re.Pattern[str]:
    """A pattern with ``{id}`` and ``{role}``. Neither may contain the character that follows it: there is one reading.

    Raises:
        ValueError: it has not each of them once, with something between them.
    """
    parts = re.split(r"\{(id|role)\}", pattern)
    if sorted(parts[1::2]) != ["id", "role"] or not parts[2]:
        raise ValueError("a pattern has {id} and {role} once each, with something between them")
    one = f"(?P<{parts[1]}>[^{re.escape(parts[2][0])}]+)"
    other = (
        f"(?P<{parts[3]}>[^{re.escape(parts[4][0])}]+)" if parts[4] else f"(?P<{parts[3]}>[^{re.escape(parts[2][0])}]+)"
    )
    return re.compile(f"{re.escape(parts[0])}{one}{re.escape(parts[2])}{other}{re.escape(parts[4])}")


def claim_of(records: Mapping[Any, Iterable[str]], where: ClaimedRoles) -> Any:
    """A claim from which `in_claim` reads these roles by record."""
    back = {role: name for name, role in where.names.items()}
    pairs = [
        (identifier, back.get(role, where.drop_prefix + role))
        for identifier, roles in records.items()
        for role in sorted(roles)
    ]
    if where.pattern is None:
        return [{where.id: identifier, where.role: role} for identifier, role in pairs]
    texts = [where.pattern.replace("{id}", str(identifier)).replace("{role}", role) for identifier, role in pairs]
    return texts if where.separator is None else where.separator.join(texts)
