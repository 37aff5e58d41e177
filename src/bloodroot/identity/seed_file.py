"""The file that first members, groups and grants come from: TOML or CSV."""

from __future__ import annotations

import csv
import datetime
import io
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..language.problems import suggestion
from .held_in_records import RoleIn, end_of
from .scim import read_scim
from .seeds import FROM_ENVIRONMENT, PROMPT, Seed, SeedError, SeedGroup, SeedMember

_LISTS = ("roles", "groups", "permissions")
_MEMBER = ("id", "login", "name", "status", *_LISTS, "roles_in", "password", "attributes")
_GROUP = ("name", "permissions")
_LONGEST = 200
_LONGEST_RECORD = 80
_LARGEST_ID = 2**31 - 1
_BETWEEN = ";"
_ROLE_IN = '{ role = "editor", in = { studio = 7 }, until = 2027-01-01 }'
_ROLE_IN_CELL = re.compile(r"(\S+) in (\S+) (\S+)(?: until (\S+))?")


def read_seed(file: Path) -> Seed:
    """Read a seed file; its ending says whether it is TOML, CSV or a SCIM export.

    Raises:
        SeedError: with every mistake found.
    """
    if file.suffix not in (".toml", ".csv", ".json"):
        raise SeedError([f"{file}: a seed is TOML, CSV or a SCIM export as JSON: .toml, .csv or .json"])
    try:
        text = file.read_text("utf-8-sig")
    except FileNotFoundError as error:
        raise SeedError([f"{file}: there is no such file"]) from error
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "this is not UTF-8 text"
        raise SeedError([f"{file}: this file cannot be read: {reason}"]) from error
    if file.suffix == ".json":
        return read_scim(text, file.name)
    reader = _Reader(file.name)
    seed = reader.toml(text) if file.suffix == ".toml" else reader.csv(text)
    reader.check_once(seed)
    if reader.reasons:
        raise SeedError(reader.reasons)
    return seed


class _Reader:
    """One reading of a seed file; mistakes are gathered."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.reasons: list[str] = []

    def toml(self, text: str) -> Seed:
        try:
            table = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise SeedError([f"{self.name}: this is not TOML: {error}"]) from error
        self._known("", self.name, table, ("members", "groups"))
        members = []
        for place, entry in self._entries(text, "members", table.get("members", [])):
            self._known("members.", place, entry, _MEMBER)
            member = self._member(place, entry)
            if member is not None:
                members.append(member)
        groups = []
        for place, entry in self._entries(text, "groups", table.get("groups", [])):
            self._known("groups.", place, entry, _GROUP)
            name = self._text(place, "name", entry.get("name"))
            if name is None:
                self._wrong(place, "this group has no name")
            else:
                groups.append(SeedGroup(place, name, self._names(place, "permissions", entry.get("permissions")) or ()))
        return Seed(tuple(members), tuple(groups))

    def _entries(self, text: str, kind: str, entries: Any) -> list[tuple[str, dict[str, Any]]]:
        """The tables of a kind, each with the line it begins on."""
        if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
            self._wrong(self.name, f"{kind} must be written as [[{kind}]], once for each")
            return []
        header = re.compile(rf"\s*\[\[\s*{kind}\s*\]\]")
        lines = [number for number, line in enumerate(text.splitlines(), 1) if header.match(line)]
        places = (
            [f"{self.name}:{number}" for number in lines] if len(lines) == len(entries) else [self.name] * len(entries)
        )
        return list(zip(places, entries, strict=True))

    def csv(self, text: str) -> Seed:
        reader = csv.reader(io.StringIO(text), strict=True)
        members = []
        try:
            heads = [head.strip() for head in next(reader, [])]
            columns = {head: "" for head in heads if not head.startswith("attributes.")}
            self._known("column ", f"{self.name}:1", columns, tuple(key for key in _MEMBER if key != "attributes"))
            if "login" not in heads or len(set(heads)) < len(heads):
                self._wrong(f"{self.name}:1", "the first line names the columns, each once, and login among them")
                return Seed(())
            for row in reader:
                place = f"{self.name}:{reader.line_num}"
                if len(row) > len(heads):
                    self._wrong(place, f"this line has {len(row)} values, and there are {len(heads)} columns")
                elif any(cell.strip() for cell in row):
                    entry = {head: cell.strip() for head, cell in zip(heads, row, strict=False) if cell.strip()}
                    member = self._member(place, _from_cells(entry))
                    members += [member] if member is not None else []
        except csv.Error as error:
            raise SeedError([f"{self.name}:{reader.line_num}: this is not CSV: {error}"]) from error
        return Seed(tuple(members))

    def _member(self, place: str, entry: dict[str, Any]) -> SeedMember | None:
        login = self._text(place, "login", entry.get("login"))
        if login is None:
            self._wrong(place, "this member has no login; it is what the member is found again by")
            return None
        number = entry.get("id")
        if number is not None and (not isinstance(number, int) or isinstance(number, bool)):
            self._wrong(place, "id must be a whole number")
        elif number is not None and not 0 < number <= _LARGEST_ID:
            self._wrong(place, f"id must be a number from 1 to {_LARGEST_ID}")
        attributes = entry.get("attributes")
        if attributes is not None and not isinstance(attributes, dict):
            self._wrong(place, 'attributes must be a table, such as { site = "north" }')
        elif attributes is not None and (taken := sorted({"id", "login", "name", "status"} & attributes.keys())):
            self._wrong(place, f"attributes may not have {taken[0]}, which is beside them")
        password = self._text(place, "password", entry.get("password"))
        if password is not None and password != PROMPT and not FROM_ENVIRONMENT.fullmatch(password):
            self._wrong(place, 'a password does not belong into a file; write password = "{env.NAME}" or "prompt"')
            password = None
        ends: dict[tuple[str, str], datetime.datetime] = {}
        roles, groups, permissions = (
            self._names(place, key, self._with_ends(place, key, entry.get(key), ends)) for key in _LISTS
        )
        return SeedMember(
            place,
            login,
            number,
            self._text(place, "name", entry.get("name")),
            self._text(place, "status", entry.get("status")),
            roles,
            groups,
            permissions,
            attributes,
            password,
            self._roles_in(place, entry.get("roles_in")),
            ends,
        )

    def _with_ends(self, place: str, key: str, value: Any, ends: dict[tuple[str, str], datetime.datetime]) -> Any:
        """The names of a list that may have ``{ name = "curator", until = 2027-01-01 }``; `ends` gets when they end."""
        if not isinstance(value, list):
            return value
        names = []
        for each in value:
            if not isinstance(each, dict):
                names.append(each)
                continue
            self._known(f"members.{key}.", place, each, ("name", "until"))
            names.append(each.get("name"))
            try:
                until = end_of(each.get("until"))
            except ValueError:
                self._wrong(place, f'until must be a date, such as 2027-01-01, not "{each["until"]}"')
                continue
            if until is not None:
                ends[key, str(each.get("name"))] = until
        return names

    def _roles_in(self, place: str, value: Any) -> tuple[RoleIn, ...] | None:
        if value is None:
            return None
        if not isinstance(value, list) or not all(isinstance(entry, dict) for entry in value):
            self._wrong(place, f"roles_in must be a list of tables, such as {_ROLE_IN}")
            return None
        found = [self._role_in(place, entry) for entry in value]
        return tuple(dict.fromkeys(role for role in found if role is not None))

    def _role_in(self, place: str, entry: dict[str, Any]) -> RoleIn | None:
        self._known("members.roles_in.", place, entry, ("role", "in", "until"))
        role, where = entry.get("role"), entry.get("in")
        if not isinstance(role, str) or not isinstance(where, dict) or len(where) != 1:
            self._wrong(place, f"a role in a record is written as {_ROLE_IN}")
            return None
        ((thing, record),) = where.items()
        if isinstance(record, bool) or not isinstance(record, str | int) or not 0 < len(str(record)) <= _LONGEST_RECORD:
            self._wrong(place, f"the record of {thing} is identified by a number or a string, not by {record!r}")
            return None
        try:
            return RoleIn(thing, str(record), role, end_of(entry.get("until")))
        except ValueError:
            self._wrong(place, f'until must be a date, such as 2027-01-01, not "{entry["until"]}"')
            return None

    def check_once(self, seed: Seed) -> None:
        """No member may be in the file twice."""
        first: dict[tuple[str, object], str] = {}
        named = [("login", member.login, member.place) for member in seed.members]
        named += [("id", member.id, member.place) for member in seed.members if member.id is not None]  # type: ignore[misc]
        named += [("group", group.name, group.place) for group in seed.groups]
        for what, value, place in named:
            if first.setdefault((what, value), place) != place:
                self._wrong(place, f"the {what} {value} is in {first[what, value]} already")

    def _known(self, before: str, place: str, table: Mapping[str, Any], names: tuple[str, ...]) -> None:
        for key in table:
            if key not in names:
                guess = suggestion(key, names) or f"; known are {', '.join(names)}"
                self._wrong(place, f"unknown {'key ' if before != 'column ' else ''}{before}{key}{guess}")

    def _text(self, place: str, key: str, value: Any) -> str | None:
        if value is None:
            return None
        if not isinstance(value, str) or not value.strip() or len(value) > _LONGEST or not value.isprintable():
            self._wrong(place, f"{key} must be a string of at most {_LONGEST} characters")
            return None
        return value

    def _names(self, place: str, key: str, value: Any) -> tuple[str, ...] | None:
        if value is None:
            return None
        if not isinstance(value, list) or not all(isinstance(name, str) and name for name in value):
            self._wrong(place, f'{key} must be a list of names, such as ["curator"]')
            return None
        return tuple(dict.fromkeys(value))

    def _wrong(self, place: str, message: str) -> None:
        self.reasons.append(f"{place}: {message}")


def _role_in_cell(text: str) -> dict[str, Any]:
    """``editor in studio 7 until 2027-01-01`` as TOML would have it; what is not like that has no role."""
    match = _ROLE_IN_CELL.fullmatch(text)
    if match is None:
        return {}
    role, thing, record, until = match.groups()
    return {"role": role, "in": {thing: record}, **({"until": until} if until else {})}


def _name_cell(text: str) -> str | dict[str, str]:
    """``curator until 2027-01-01`` as TOML would have it."""
    name, until, end = text.partition(" until ")
    return {"name": name.strip(), "until": end.strip()} if until else text


def _from_cells(cells: dict[str, str]) -> dict[str, Any]:
    """The cells of a line as TOML would have them: lists, a number, a table of attributes."""
    entry: dict[str, Any] = {}
    for head, cell in cells.items():
        if head.startswith("attributes."):
            entry.setdefault("attributes", {})[head.removeprefix("attributes.")] = cell
        elif head in _LISTS:
            entry[head] = [_name_cell(name.strip()) for name in cell.split(_BETWEEN) if name.strip()]
        elif head == "roles_in":
            entry[head] = [_role_in_cell(part.strip()) for part in cell.split(_BETWEEN) if part.strip()]
        elif head == "id" and cell.isascii() and cell.isdecimal():
            entry[head] = int(cell)
        else:
            entry[head] = cell
    return entry
