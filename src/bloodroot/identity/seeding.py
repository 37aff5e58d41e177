"""Roles, grants and first members put into the directory, again and again without harm."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import SQLAlchemyError

from ..core.caller import Caller
from ..core.permissions import knows
from ..core.policy import Policy
from ..language.problems import ENOUGH, suggestion
from ..settings import SettingsError
from . import passwords, tables
from .database import file_of, in_one_transaction, open_database, reason_of
from .directory import Directory
from .held_in_records import RoleIn, end_of, said_end
from .seed_result import SeedResult, SeedRow, SeedVerdict
from .seeds import Seed, SeedError, SeedMember


def check_seed(seed: Seed, policy: Policy) -> None:
    """Hold a seed against a policy.

    Raises:
        SeedError: with every role, group and permission that the policy does not know, and every member who would
            hold two roles kept apart.
    """
    reasons: list[str] = []
    known_groups = [*policy.roles.groups, *(group.name for group in seed.groups)]

    def hint(name: str, names: list[str]) -> str:
        if len(reasons) >= ENOUGH:
            return ""
        some = ", ".join(names[:12]) + (" and others" if len(names) > 12 else "")
        return suggestion(name, names) or (f"; known are {some}" if names else "")

    def check(place: str, what: str, names: tuple[str, ...], known: list[str]) -> None:
        for name in names:
            if name not in known:
                reasons.append(f'{place}: the policy knows no {what} "{name}"{hint(name, known)}')

    def check_permissions(place: str, names: tuple[str, ...]) -> None:
        for name in names:
            if not knows(policy.resolver, name):
                guess = suggestion(name, policy.permissions) if len(reasons) < ENOUGH else ""
                reasons.append(f'{place}: the policy knows no permission "{name}"{guess}')

    for group in seed.groups:
        check_permissions(group.place, group.permissions)
    for member in seed.members:
        check(member.place, "role", member.roles or (), list(policy.roles.bit))
        check(member.place, "group", member.groups or (), known_groups)
        check_permissions(member.place, member.permissions or ())
        for held in member.roles_in or ():
            check(member.place, "thing", (held.thing,), list(policy.roles.things.by_name))
            if held.thing in policy.roles.things.by_name:
                check(member.place, f"role in a {held.thing}", (held.role,), list(policy.roles.roles_of(held.thing)))
        reasons += _apart(member.place, member.login, member.roles or (), member.groups or (), policy)
        reasons += _apart_in(member, policy)
    if reasons:
        raise SeedError(reasons)


def _apart(place: str, login: str, roles: tuple[str, ...], groups: tuple[str, ...], policy: Policy) -> list[str]:
    held = policy.roles.held(Caller(login, roles, groups))
    return [f"{place}: {login} would hold {' and '.join(held.apart)}, which are kept apart"] if held.apart else []


def _apart_in(member: SeedMember, policy: Policy) -> Iterator[str]:
    """Records in which a member would hold roles that are kept apart there, for some time at least."""
    by_record: dict[tuple[str, str], list[str]] = {}
    for held in member.roles_in or ():
        by_record.setdefault((held.thing, held.record), []).append(held.role)
    everywhere = policy.roles.held(Caller(member.login, member.roles or (), member.groups or ())).bits
    for (thing, record), names in by_record.items():
        bits = policy.roles.bits_in(thing, frozenset(names)) | everywhere
        if policy.roles.apart_in and policy.roles.are_apart_in(thing, bits):
            yield (
                f"{member.place}: {member.login} would hold {' and '.join(dict.fromkeys(names))} in {thing} {record}, "
                "where they are kept apart"
            )


def seed_directory(
    directory: Directory,
    seed: Seed,
    policy: Policy,
    password_of: Callable[[SeedMember], str],
    *,
    update: bool = False,
    dry_run: bool = False,
) -> SeedResult:
    """Put a seed into the directory: make what is missing, leave what is there.

    Args:
        directory: one with Bloodroot's own tables, which are made where they are missing.
        seed: what is wanted.
        policy: what knows the roles and permissions.
        password_of: the password of a member who is about to be made; called outside of any transaction.
        update: bring what differs in line with the seed; passwords are left as they are.
        dry_run: change nothing, and say what would be done.

    Raises:
        SeedError: the seed does not go with the policy, or with what is there; nothing has been changed.
        SettingsError: the directory's tables are the application's own, or the database does not work.
    """
    if not directory.own:
        raise SettingsError(
            "directory.queries: these tables are the application's own, and seed writes to Bloodroot's alone; "
            "leave the queries out, or make the members with the application"
        )
    check_seed(seed, policy)
    try:
        tried = _once(directory, _Seeding(seed, policy, update), keep=False)
        if dry_run:
            return SeedResult(tried, dry_run=True)
        made = {row.name for row in tried if row.kind == "member" and row.verdict is SeedVerdict.MADE}
        hashes = {
            member.login: passwords.hashed(password_of(member))
            for member in seed.members
            if member.login in made and member.password is not None
        }
        rows = _once(directory, _Seeding(seed, policy, update, hashes), keep=True)
    except SQLAlchemyError as error:
        raise SettingsError(f"directory: {reason_of(error, directory.engine)}") from error
    directory.forget()
    return SeedResult(rows, dry_run=False)


def _once(directory: Directory, seeding: _Seeding, *, keep: bool) -> tuple[SeedRow, ...]:
    engine = directory.engine
    file = file_of(engine)
    if not keep and file is not None and not file.exists():
        # To try something must not leave an empty database behind.
        engine = open_database("sqlite://", Path())
    return in_one_transaction(engine, seeding.run, keep=keep)


@dataclass(slots=True)
class _Standing:
    """A member as the tables have it."""

    row: Mapping[str, Any]
    roles: set[str] = field(default_factory=set)
    groups: set[str] = field(default_factory=set)
    permissions: set[str] = field(default_factory=set)
    roles_in: set[RoleIn] = field(default_factory=set)
    ends: dict[tuple[str, str], datetime.datetime] = field(default_factory=dict)


class _Seeding:
    """One transaction. Without hashes nothing is kept of it, so that passwords need not be known yet."""

    def __init__(self, seed: Seed, policy: Policy, update: bool, hashes: Mapping[str, str] | None = None) -> None:
        self.seed = seed
        self.policy = policy
        self.update = update
        self.hashes = hashes

    def run(self, connection: sa.Connection) -> tuple[SeedRow, ...]:
        """Everything from the beginning, as it may have to be done again."""
        tables.brought_up_to_date(connection)
        self.connection = connection
        self.standing = self._standing()
        self.logins = {standing.row["id"]: login for login, standing in self.standing.items()}
        self.new: list[SeedMember] = []
        rows = [*self._roles(), *self._groups()]
        # Members who are to have a number of the file come first, before it is given to another.
        numbered = [member for member in self.seed.members if member.id is not None]
        others = [member for member in self.seed.members if member.id is None]
        done = {member.login: self._member(member) for member in numbered}
        self._make_new()
        if numbered and connection.dialect.name == "postgresql":
            self._count_on()
        done |= {member.login: self._member(member) for member in others}
        self._make_new()
        return (*rows, *(done[member.login] for member in self.seed.members))

    def _count_on(self) -> None:
        """Have PostgreSQL's counter go on behind the numbers of the file, which it knows nothing of."""
        highest = sa.select(sa.func.max(tables.members.c.id)).scalar_subquery()
        counter = sa.func.pg_get_serial_sequence(tables.members.name, "id")
        behind = sa.func.greatest(highest, sa.func.nextval(counter))
        self.connection.execute(sa.select(sa.func.setval(counter, behind)))

    def _standing(self) -> dict[str, _Standing]:
        """Every member that is there, by login."""
        rows = self.connection.execute(sa.select(tables.members)).mappings()
        found = {row["id"]: _Standing(dict(row)) for row in rows}
        for table, name in (
            (tables.member_roles, "roles"),
            (tables.memberships, "groups"),
            (tables.member_grants, "permissions"),
        ):
            for number, value, until in self.connection.execute(sa.select(*table.c)):
                getattr(found[number], name).add(value)
                if (end := end_of(until)) is not None:
                    found[number].ends[name, value] = end
        for row in self.connection.execute(sa.select(*tables.member_roles_in.c)):
            found[row.member_id].roles_in.add(RoleIn(row.thing, row.record, row.role, end_of(row.until)))
        return {standing.row["login"]: standing for standing in found.values()}

    def _roles(self) -> list[SeedRow]:
        there = set(self.connection.scalars(sa.select(tables.roles.c.name)))
        names = (*self.policy.roles.bit, *self.policy.roles.in_thing)
        missing = [name for name in names if name not in there]
        descriptions = self.policy.roles.descriptions
        if missing:
            self.connection.execute(
                tables.roles.insert(),
                [{"name": name, "description": descriptions.get(name, "")[:400]} for name in missing],
            )
        return [SeedRow("role", name, SeedVerdict.MADE if name in missing else SeedVerdict.KEPT) for name in names]

    def _groups(self) -> list[SeedRow]:
        there = set(self.connection.scalars(sa.select(tables.groups.c.name)))
        granted: dict[str, set[str]] = {}
        for name, permission in self.connection.execute(sa.select(*tables.group_grants.c)):
            granted.setdefault(name, set()).add(permission)
        wanted = dict.fromkeys(self.policy.roles.groups) | {
            group.name: set(group.permissions) for group in self.seed.groups
        }
        rows = []
        for name, permissions in wanted.items():
            if name not in there:
                self.connection.execute(tables.groups.insert(), {"name": name})
                self._set(tables.group_grants, name, set(), permissions or set())
                rows.append(SeedRow("group", name, SeedVerdict.MADE))
                continue
            has = granted.get(name, set())
            if permissions is None or permissions == has:
                rows.append(SeedRow("group", name, SeedVerdict.KEPT))
            else:
                if self.update:
                    self._set(tables.group_grants, name, has, permissions)
                verdict = SeedVerdict.UPDATED if self.update else SeedVerdict.DIFFERS
                rows.append(SeedRow("group", name, verdict, (_sets("permissions", has, permissions),)))
        return rows

    def _member(self, member: SeedMember) -> SeedRow:
        standing = self.standing.get(member.login)
        if standing is None:
            self._check_new(member)
            self.new.append(member)
            return SeedRow("member", member.login, SeedVerdict.MADE)
        if member.id is not None and member.id != standing.row["id"]:
            raise SeedError(
                [f"{member.place}: {member.login} is there with the id {standing.row['id']}, not {member.id}"]
            )
        differences = _differences(member, standing)
        if not differences:
            return SeedRow("member", member.login, SeedVerdict.KEPT)
        if not self.update:
            return SeedRow("member", member.login, SeedVerdict.DIFFERS, differences)
        self._bring_in_line(member, standing)
        return SeedRow("member", member.login, SeedVerdict.UPDATED, differences)

    def _check_new(self, member: SeedMember) -> None:
        """See that a member can be made."""
        taken = self.logins.get(member.id) if member.id is not None else None
        if taken is not None:
            raise SeedError([f"{member.place}: the id {member.id} is that of {taken} already"])
        if self.hashes is not None and member.password is not None and member.login not in self.hashes:
            raise SeedError([f"{member.place}: {member.login} was removed by another process just now; run seed again"])

    def _make_new(self) -> None:
        """Make the members that are waiting, all at once: one statement a table, however many they are."""
        new, self.new = self.new, []
        if not new:
            return
        columns = tables.members.c
        made = self.connection.execute(
            tables.members.insert().returning(columns.login, columns.id), [self._values(member) for member in new]
        )
        numbers = {row.login: row.id for row in made}
        for table, name in (
            (tables.member_roles, "roles"),
            (tables.memberships, "groups"),
            (tables.member_grants, "permissions"),
        ):
            first, second, _ = table.c
            rows = [
                {first.name: numbers[member.login], second.name: value, "until": member.ends.get((name, value))}
                for member in new
                for value in dict.fromkeys(getattr(member, name) or ())
            ]
            if rows:
                self.connection.execute(table.insert(), rows)
                self._note_given(table, [(row[first.name], row[second.name]) for row in rows])
        self._add_roles_in([(numbers[member.login], held) for member in new for held in member.roles_in or ()])

    def _add_roles_in(self, held: list[tuple[Any, RoleIn]]) -> None:
        rows = [
            {"member_id": owner, "thing": each.thing, "record": each.record, "role": each.role, "until": each.until}
            for owner, each in held
        ]
        if rows:
            self.connection.execute(tables.member_roles_in.insert(), rows)
            self._note_given(tables.member_roles_in, [(owner, each.name) for owner, each in held])

    def _note_given(self, table: sa.Table, given: Iterable[tuple[Any, str]]) -> None:
        """Write down when members were given something."""
        kind = dict(tables.HELD)[table]
        now = datetime.datetime.now(datetime.UTC)
        rows = [{"member_id": owner, "kind": kind, "name": name, "at": now} for owner, name in given]
        self.connection.execute(tables.given.insert(), rows)

    def _values(self, member: SeedMember) -> dict[str, Any]:
        values: dict[str, Any] = {
            "login": member.login,
            "name": member.name or "",
            "status": member.status or "active",
            "attributes": dict(member.attributes or {}),
            "password": (self.hashes or {}).get(member.login),
        }
        return values if member.id is None else {**values, "id": member.id}

    def _bring_in_line(self, member: SeedMember, standing: _Standing) -> None:
        held = replace(
            member,
            roles=member.roles if member.roles is not None else tuple(standing.roles),
            groups=member.groups if member.groups is not None else tuple(standing.groups),
        )
        reasons = _apart(member.place, member.login, held.roles or (), held.groups or (), self.policy)
        if reasons := [
            *reasons,
            *_apart_in(replace(held, roles_in=held.roles_in or tuple(standing.roles_in)), self.policy),
        ]:
            raise SeedError(reasons)
        number = standing.row["id"]
        said = {"name": member.name, "status": member.status, "attributes": member.attributes}
        values = {name: value for name, value in said.items() if value is not None}
        if values:
            where = tables.members.c.id == number
            self.connection.execute(tables.members.update().where(where).values(**values))
        for table, name in (
            (tables.member_roles, "roles"),
            (tables.memberships, "groups"),
            (tables.member_grants, "permissions"),
        ):
            wanted = getattr(member, name)
            if wanted is not None:
                has = getattr(standing, name)
                others = {each for each in has if standing.ends.get((name, each)) != member.ends.get((name, each))}
                self._set(table, number, has, has - others)
                self._set(
                    table, number, has - others, set(wanted), {each: member.ends.get((name, each)) for each in wanted}
                )
        if member.roles_in is not None and set(member.roles_in) != standing.roles_in:
            self._set_roles_in(number, standing.roles_in, set(member.roles_in))

    def _set_roles_in(self, owner: object, has: set[RoleIn], wanted: set[RoleIn]) -> None:
        of, given = tables.member_roles_in.c, tables.given.c
        for each in has - wanted:
            where = (of.member_id == owner, of.thing == each.thing, of.record == each.record, of.role == each.role)
            self.connection.execute(tables.member_roles_in.delete().where(*where))
            is_it = (given.member_id == owner, given.kind == "role", given.name == each.name)
            self.connection.execute(tables.given.delete().where(*is_it))
        self._add_roles_in([(owner, each) for each in wanted - has])

    def _set(
        self,
        table: sa.Table,
        owner: object,
        has: set[str],
        wanted: set[str],
        ends: Mapping[str, datetime.datetime | None] | None = None,
    ) -> None:
        """Make the rows of an owner those that are wanted."""
        first, second, *_ = table.c
        kind = dict(tables.HELD).get(table)
        for value in sorted(has - wanted):
            self.connection.execute(table.delete().where(first == owner, second == value))
            if kind is not None:
                of = tables.given.c
                self.connection.execute(
                    tables.given.delete().where(of.member_id == owner, of.kind == kind, of.name == value)
                )
        if wanted - has:
            added = [
                {first.name: owner, second.name: value, **({"until": ends.get(value)} if ends is not None else {})}
                for value in sorted(wanted - has)
            ]
            self.connection.execute(table.insert(), added)
            if kind is not None:
                self._note_given(table, [(owner, value) for value in sorted(wanted - has)])


def _differences(member: SeedMember, standing: _Standing) -> tuple[str, ...]:
    """What the file says and the tables do not, in words."""
    differences = []
    for name in ("name", "status"):
        wanted = getattr(member, name)
        if wanted is not None and wanted != standing.row[name]:
            differences.append(f'{name} is "{standing.row[name]}", in the file "{wanted}"')
    if member.attributes is not None and dict(member.attributes) != (standing.row["attributes"] or {}):
        differences.append("attributes differ")
    for name in ("roles", "groups", "permissions"):
        wanted = getattr(member, name)
        if wanted is None:
            continue
        has = {_with_end(name, each, standing.ends) for each in getattr(standing, name)}
        said = {_with_end(name, each, member.ends) for each in wanted}
        if has != said:
            differences.append(_sets(name, has, said))
    if member.roles_in is not None and set(member.roles_in) != standing.roles_in:
        has, wanted_in = ({held.words() for held in each} for each in (standing.roles_in, member.roles_in))
        differences.append(_sets("roles in records", has, wanted_in))
    return tuple(differences)


def _with_end(kind: str, name: str, ends: Mapping[tuple[str, str], datetime.datetime]) -> str:
    end = ends.get((kind, name))
    return name if end is None else f"{name} until {said_end(end)}"


def _sets(name: str, has: set[str], wanted: set[str]) -> str:
    return f"{name} are {', '.join(sorted(has)) or 'none'}, in the file {', '.join(sorted(wanted)) or 'none'}"
