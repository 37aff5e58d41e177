"""The directory: members with their roles, groups and grants, in Bloodroot's tables or in an application's own."""

from __future__ import annotations

import contextlib
import datetime
import logging
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DataError, SQLAlchemyError

from ..core.caller import Caller, Unidentified
from ..language.errors import UnknownNameError
from ..settings import DirectoryTables, SettingsError
from . import passwords, tables
from .database import file_of, in_one_transaction, open_database, reason_of, storable
from .fresh import Remembered, Unknown
from .held_in_records import end_of
from .members import NEEDED, Member, Row, columns_of, member_of
from .names import names_in_cell
from .stored_keys import KeyRow, hash_of, made_key

_LOG = logging.getLogger("bloodroot.identity")

# What a query is tried with, where that is not an id.
_NOBODY: dict[str, dict[str, str]] = {"members": {}, "login": {"login": ""}, "key": {"hash": ""}}
_LARGEST_NUMBER = 2**31 - 1  # what a column of the type integer holds


class Directory:
    """Members of a database, asked for by id and remembered for a short time.

    Args:
        settings: where they are kept, and the queries where the tables are the application's own.
        folder: where a relative SQLite file is looked for.
        url: the database, where it is not the text in the settings, since that requires ``{env.NAME}``.

    Attributes:
        engine: the database.
        settings: as given.
        own: whether the tables are Bloodroot's, which alone it writes to.
    """

    def __init__(self, settings: DirectoryTables, folder: Path | None = None, *, url: str | None = None) -> None:
        self.settings = settings
        self.engine = open_database(url or settings.url, folder or Path())
        self.own = not settings.queries
        self._queries: dict[str, sa.Executable] = {"member": tables.of_one_member()} if self.own else {}
        for name, query in settings.queries.items():
            self._queries[name] = sa.text(query)
        self.cached_for = settings.cache
        self._forgetting: list[Callable[[], None]] = []
        self._members: Remembered[Member] = Remembered(self._find, settings.cache)

    # Members --------------------------------------------------------------------------------

    def member(self, member_id: object) -> Member | None:
        """A member by id, as it was no longer ago than the cache keeps; None where there is none.

        Raises:
            SQLAlchemyError: the database cannot be asked.
        """
        return self._members.found(member_id)

    def caller(self, member_id: object, claimed: Caller | None = None) -> Caller:
        """The caller behind an id, with the present roles.

        Args:
            member_id: as a token or a session has it.
            claimed: what that token or session says beside; see `Member.caller`.

        Raises:
            Unidentified: there is no such member, or it is not active.
        """
        return self.judged(self.member(member_id), member_id, claimed)

    def remembered(self, member_id: object) -> Member | None | Unknown:
        """A member by id without waiting for the database; `Unknown` where nothing is remembered."""
        return self._members.remembered(member_id)

    def judged(self, member: Member | None, member_id: object, claimed: Caller | None) -> Caller:
        """The caller that a member is, if it may be one; as `caller`."""
        if member is None:
            raise Unidentified(f"the directory has no member {member_id}")
        if member.unreadable:
            # A role that is not seen may be one that keeps out.
            _LOG.error("member %s cannot act: %s", member.id, "; ".join(member.unreadable))
            raise Unidentified(f"what the directory says of member {member.id} cannot be read")
        if not member.active and not self.settings.keep_suspended:
            raise Unidentified(f"member {member.id} is {member.status}")
        return member.caller(claimed, both=self.settings.roles == "both")

    def forget(self) -> None:
        """Ask anew from now on: call it after changing tables of your own where the change must count at once."""
        self._members.forget()
        for each in self._forgetting:
            each()

    def when_forgetting(self, forget: Callable[[], None]) -> None:
        """Have a function called by `forget`, for what else is remembered of this directory."""
        self._forgetting.append(forget)

    def key_row(self, hashed: object) -> KeyRow | None:
        """What is kept of an API key, by its hash (`api_keys.hash_of`); None where there is no such key.

        Raises:
            SQLAlchemyError: the database cannot be asked.
        """
        query: sa.Executable | None = self._queries.get("key")
        if self.own:
            of = tables.keys.c
            columns = (of.member_id.label("id"), of.scopes, of.until, of.name)
            query = sa.select(*columns).where(of.hash == sa.bindparam("hash"))
        if query is None:
            return None
        with self.engine.connect() as connection:
            found = connection.execute(query, {"hash": hashed})
            columns_found = columns_of(found.keys(), NEEDED["key"])
            rows = [dict(zip(columns_found, row, strict=True)) for row in found]
        if len(rows) != 1 or rows[0]["id"] is None:
            return None
        row = rows[0]
        scopes: tuple[str, ...] | None = None
        if row.get("scopes") is not None:
            names, wrong = names_in_cell(row["scopes"], " ")
            if wrong:
                raise Unidentified("what the directory says of the scopes of this key cannot be read")
            scopes = tuple(names)
        try:
            until = end_of(row.get("until"))
        except ValueError as error:
            raise Unidentified("what the directory says of the end of this key cannot be read") from error
        return KeyRow(row["id"], scopes, until, str(row.get("name") or ""))

    def make_key(
        self,
        member_id: object,
        *,
        name: str = "",
        scopes: Iterable[str] | None = None,
        until: datetime.datetime | None = None,
    ) -> str:
        """Make an API key for a member, and keep its hash.

        Args:
            member_id: whose it is.
            name: what people are to call it.
            scopes: the permissions that it is for; None for all that its owner may do.
            until: from when on it is not accepted any more; None for no end.

        Returns:
            The key. It cannot be shown again.

        Raises:
            UnknownNameError: there is no such member.
        """
        self._only_own()
        member = self._find(member_id)
        if member is None:
            raise UnknownNameError(f"the directory has no member {member_id}")
        key = made_key()
        row = {"hash": hash_of(key), "member_id": member.id, "name": name, "until": until}
        row["scopes"] = sorted(scopes) if scopes is not None else None
        in_one_transaction(self.engine, lambda connection: connection.execute(tables.keys.insert(), row))
        return key

    def remove_key(self, member_id: object, name: str) -> int:
        """Have the keys of a member that are called so accepted no more, and say how many they were."""
        self._only_own()
        of = tables.keys.c
        where = (of.member_id == self._as_asked(member_id), of.name == name)
        removed = in_one_transaction(
            self.engine, lambda connection: connection.execute(tables.keys.delete().where(*where)).rowcount
        )
        self.forget()
        return int(removed)

    def keys_of(self, member_id: object) -> list[KeyRow]:
        """What is kept of the keys of a member, without the keys themselves."""
        self._only_own()
        of = tables.keys.c
        query = sa.select(of.member_id, of.scopes, of.until, of.name).where(of.member_id == self._as_asked(member_id))
        with self.engine.connect() as connection:
            rows = connection.execute(query.order_by(of.name)).all()
        return [
            KeyRow(row.member_id, tuple(row.scopes) if row.scopes is not None else None, end_of(row.until), row.name)
            for row in rows
        ]

    def _find(self, member_id: object) -> Member | None:
        identifier = self._as_asked(member_id)
        if identifier is None:
            return None
        try:
            with self.engine.connect() as connection:
                rows = self._rows(connection, identifier)
        except DataError:
            # "ash" where the database keeps numbers: no such member.
            return None
        if not rows["member"]:
            return None
        # Where the tables are Bloodroot's a name is a name: nothing is kept as several in one string.
        separator = None if self.own else self.settings.separator
        json_columns = () if self.own else self.settings.json
        return member_of(rows, member_id, separator=separator, active=self.settings.active, json_columns=json_columns)

    def _rows(self, connection: sa.Connection, identifier: object) -> dict[str, list[Row]]:
        """What a database has of a member, by query."""
        if self.own:
            return _by_kind(connection.execute(self._queries["member"], {"id": identifier}).mappings().all())
        rows: dict[str, list[Row]] = {}
        for name in ("member", "roles", "groups", "permissions", "roles_in"):
            if name in self._queries:
                found = connection.execute(self._queries[name], {"id": identifier})
                columns = columns_of(found.keys(), NEEDED.get(name, ()))
                rows[name] = [dict(zip(columns, row, strict=True)) for row in found]
            if not rows["member"]:
                break
        return rows

    def _as_asked(self, member_id: object) -> object:
        """An id as the queries take it; None where no member can have it."""
        text = str(member_id)
        if not self.own:
            # Text fits columns of every type: a database reads it as what the column holds.
            return text if storable(text) else None
        number = int(text) if text.isascii() and text.isdecimal() and len(text) < 12 else 0
        return number if 0 < number <= _LARGEST_NUMBER else None

    # What can be asked of all --------------------------------------------------------------------------------

    def check(self) -> None:
        """Ask every query once, so that a mistake shows before the first caller comes.

        Raises:
            SettingsError: the database cannot be reached, or a query does not work there.
        """
        self._must_exist()
        for name, query in self._queries.items():
            try:
                with self.engine.connect() as connection, contextlib.suppress(DataError):
                    rows = connection.execute(query, _NOBODY.get(name, {"id": "0"}))
                    columns_of(rows.keys(), NEEDED.get(name, ()))
            except SQLAlchemyError as error:
                where = "directory" if self.own else f"directory.queries.{name}"
                raise SettingsError(f"{where}: {reason_of(error, self.engine)}") from error
            except SettingsError as error:
                raise SettingsError(f"directory.queries.{name}: {error}") from error

    def _must_exist(self) -> None:
        file = file_of(self.engine)
        if file is not None and not file.exists():
            raise SettingsError(f"directory: there is no database {file.name} yet; bloodroot seed FILE makes it")

    def members(self) -> list[Member]:
        """Every member, in the order of ids.

        Raises:
            SettingsError: the tables are the application's own, and no query lists their members; or a query fails.
        """
        query = self._queries.get("members")
        if query is None and not self.own:
            raise SettingsError(
                'directory.queries: to list members, write members = "select id from ..." beside the other queries'
            )
        self._must_exist()
        try:
            if query is None:
                listed = self._all_own()
            else:
                with self.engine.connect() as connection:
                    found = [row[0] for row in connection.execute(query)]
                listed = [self._find(member_id) for member_id in found]
        except SQLAlchemyError as error:
            raise SettingsError(f"directory: {reason_of(error, self.engine)}") from error
        return sorted((member for member in listed if member is not None), key=_order)

    def _all_own(self) -> list[Member | None]:
        """Every member of Bloodroot's own tables, by one query a table."""
        with self.engine.connect() as connection:
            rows: dict[object, dict[str, list[Row]]] = {}
            for row in connection.execute(tables.without_password()).mappings():
                rows[row["id"]] = {
                    "member": [_spread(dict(row))],
                    "roles": [],
                    "groups": [],
                    "permissions": [],
                    "roles_in": [],
                }
            for name, query in tables.of_all_members().items():
                for row in connection.execute(query).mappings():
                    rest = {key: value for key, value in row.items() if key != "member_id"}
                    rows[row["member_id"]][name].append(rest)
        return [member_of(columns, key, separator=None, active=self.settings.active) for key, columns in rows.items()]

    def given(self) -> dict[Any, dict[tuple[str, str], datetime.datetime]]:
        """When members were given what they hold, by id and then by kind and name; as far as that was written down."""
        if not self.own:
            return {}
        found: dict[Any, dict[tuple[str, str], datetime.datetime]] = {}
        try:
            with self.engine.connect() as connection:
                # A directory that was made by an older version has no such table before the next seed.
                if not sa.inspect(connection).has_table(tables.given.name):
                    return {}
                for row in connection.execute(sa.select(tables.given)):
                    at = row.at if row.at.tzinfo is not None else row.at.replace(tzinfo=datetime.UTC)
                    found.setdefault(row.member_id, {})[row.kind, row.name] = at
        except SQLAlchemyError as error:
            raise SettingsError(f"directory: {reason_of(error, self.engine)}") from error
        return found

    def member_with_login(self, login: str) -> Member | None:
        """A member by login, or by id where the tables are the application's own and no query finds logins."""
        if not storable(login):
            return None
        by_login = self._queries.get("login")
        if self.own:
            by_login = sa.select(tables.members.c.id).where(tables.members.c.login == sa.bindparam("login"))
        if by_login is None:
            return self._find(login)
        try:
            with self.engine.connect() as connection:
                row = connection.execute(by_login, {"login": login}).first()
            return self._find(row[0]) if row is not None else None
        except SQLAlchemyError as error:
            raise SettingsError(f"directory: {reason_of(error, self.engine)}") from error

    # Bloodroot's own tables --------------------------------------------------------------------------------

    def member_with_password(self, login: str, password: str) -> Member | None:
        """The member of this login, if the password is right. It takes as long where there is no such member.

        A member who is not active is returned as well: look at `Member.active`.
        """
        self._only_own()
        if not storable(login) or not storable(password):
            login, password = "", ""
        query = sa.select(tables.members.c.id, tables.members.c.password).where(tables.members.c.login == login)
        with self.engine.connect() as connection:
            row = connection.execute(query).first()
        stored: str | None = row.password if row is not None else None
        if not passwords.is_right(stored, password) or row is None or stored is None:
            return None
        if passwords.is_dated(stored):
            self.set_password(row.id, password)
        return self._find(row.id)

    def check_passwords(self) -> None:
        """See that passwords are kept here.

        Raises:
            SettingsError: the tables are the application's own, and it alone knows its passwords.
        """
        if not self.own:
            raise SettingsError(
                'identity: from = "basic" reads passwords of Bloodroot\'s own tables, and [directory.queries] are '
                "those of the application; let the application identify these callers"
            )

    def set_password(self, member_id: object, password: str) -> None:
        """Keep another password for a member, as a hash.

        Raises:
            UnknownNameError: there is no such member.
        """
        self._change(member_id, password=passwords.hashed(password))

    def set_status(self, member_id: object, status: str) -> None:
        """Give a member another status, such as ``suspended``. Here it counts at once, elsewhere as caches end.

        Raises:
            UnknownNameError: there is no such member.
        """
        self._change(member_id, status=status)

    def remove(self, member_id: object) -> None:
        """Delete a member with its roles, memberships and grants.

        Raises:
            UnknownNameError: there is no such member.
        """
        self._only_own()
        where = tables.members.c.id == self._as_asked(member_id)

        def work(connection: sa.Connection) -> int:
            for table in tables.OF_MEMBERS:
                connection.execute(table.delete().where(table.c.member_id == self._as_asked(member_id)))
            return connection.execute(tables.members.delete().where(where)).rowcount

        if not in_one_transaction(self.engine, work):
            raise UnknownNameError(f"the directory has no member {member_id}")
        self.forget()

    @contextlib.contextmanager
    def without_roles(self, member_id: object) -> Iterator[None]:
        """A member without roles, memberships and grants for a while; all of it comes back.

        Raises:
            TypeError: the tables are the application's own.
        """
        self._only_own()
        member = self._as_asked(member_id)
        taken: list[tuple[sa.Table, list[dict[str, Any]]]] = []

        def take(connection: sa.Connection) -> None:
            taken.clear()
            for table in tables.OF_MEMBERS:
                rows = connection.execute(table.select().where(table.c.member_id == member)).mappings()
                taken.append((table, [dict(row) for row in rows]))
                connection.execute(table.delete().where(table.c.member_id == member))

        def give_back(connection: sa.Connection) -> None:
            for table, rows in taken:
                connection.execute(table.delete().where(table.c.member_id == member))
                if rows:
                    connection.execute(table.insert(), rows)

        in_one_transaction(self.engine, take)
        self.forget()
        try:
            yield
        finally:
            in_one_transaction(self.engine, give_back)
            self.forget()

    def _change(self, member_id: object, **values: Any) -> None:
        self._only_own()
        change = tables.members.update().where(tables.members.c.id == self._as_asked(member_id)).values(**values)
        if not in_one_transaction(self.engine, lambda connection: connection.execute(change).rowcount):
            raise UnknownNameError(f"the directory has no member {member_id}")
        self.forget()

    def _only_own(self) -> None:
        if not self.own:
            raise TypeError("these tables are the application's own: it alone writes to them")


def _by_kind(found: Sequence[sa.RowMapping]) -> dict[str, list[Row]]:
    """The rows of one question (`tables.of_one_member`) as those of four."""
    rows: dict[str, list[Row]] = {"member": [], "roles": [], "groups": [], "permissions": [], "roles_in": []}
    about = ("source", "group_name", "until")  # of what is held
    for row in found:
        if row["held"] == "roles_in":
            rows["roles_in"].append(
                {"role": row["held_name"], "thing": row["source"], "record": row["group_name"], "until": row["until"]}
            )
        elif row["held"] is not None:
            rows[row["held"]].append({"name": row["held_name"], **{name: row[name] for name in about}})
    for row in found[:1]:
        held = ("held", "held_name", *about)
        rows["member"] = [_spread({name: value for name, value in row.items() if name not in held})]
    return rows


def _spread(row: Row) -> Row:
    """A member's row with what is kept as JSON put beside the columns, which cannot be overwritten by it."""
    columns = {name: value for name, value in row.items() if name != "attributes"}
    return {**(row["attributes"] or {}), **columns}


def _order(member: Member) -> tuple[bool, int, str]:
    number = member.id if isinstance(member.id, int) else 0
    return (not isinstance(member.id, int), number, str(member.id))
