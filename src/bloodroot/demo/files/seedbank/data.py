"""The seed bank's tables, its made-up data, and the questions that are asked of them."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from typing import Any

import bloodroot
from bloodroot.identity.members import Member as Entry
from bloodroot.identity.seed_file import read_seed
from bloodroot.identity.seeding import seed_directory
from bloodroot.identity.seeds import SeedMember

from .who import FOLDER, directory

FILE = FOLDER / "seedbank.db"

_TABLES = """
create table if not exists accessions (
    id integer primary key, species text not null, origin text not null, coordinates text not null,
    restricted integer not null, withdrawn integer not null default 0
);
create table if not exists trials (
    id integer primary key, accession_id integer not null references accessions,
    botanist_id integer not null references bloodroot_members, sown integer not null, germinated integer not null
);
create table if not exists exchanges (
    id integer primary key, accession_id integer not null references accessions,
    partner text not null, state text not null
);
"""

_ACCESSIONS = [
    (1, "Fern sedge", "Lower Fern valley", "51.1021, -2.4410", 0),
    (2, "Bell vetchling", "Harrow down", "51.0877, -2.4018", 0),
    (3, "Tarn rush", "Tarn shore", "51.1544, -2.3920", 0),
    (4, "Copper poppy", "Old quarry", "51.1200, -2.4533", 0),
    (5, "Marsh lantern", "Withy marsh", "51.0951, -2.4786", 0),
    (12, "Ghost lantern", "a wood that stays unnamed", "51.1309, -2.5107", 1),
]
_TRIALS = [(7, 1, 3, 50, 31), (8, 2, 4, 40, 12), (9, 3, 8, 60, 44)]
_EXCHANGES = [(1, 2, "Harrow Garden", "sent"), (2, 3, "Tarn Bank", "packed")]


@dataclass(frozen=True, slots=True)
class Member:
    id: int
    name: str
    email: str
    status: str
    roles: frozenset[str]
    permissions: frozenset[str]


@dataclass(frozen=True, slots=True)
class Accession:
    id: int
    species: str
    origin: str
    coordinates: str
    restricted: bool
    withdrawn: bool


@dataclass(frozen=True, slots=True)
class Trial:
    id: int
    accession_id: int
    botanist_id: int
    sown: int
    germinated: int


@dataclass(frozen=True, slots=True)
class Exchange:
    id: int
    accession_id: int
    partner: str
    state: str


def ask(query: str, *values: Any) -> list[sqlite3.Row]:
    """Run one statement in a transaction of its own, and return its rows."""
    with closing(sqlite3.connect(FILE, timeout=10)) as database, database:
        database.row_factory = sqlite3.Row
        return database.execute(query, values).fetchall()


def member(member_id: object) -> Member | None:
    found = directory.member(member_id)
    return _member(found) if found is not None else None


def members() -> list[Member]:
    return [_member(member) for member in directory.members()]


def member_with_password(email: str, password: str) -> Member | None:
    """The member with this address, if the password is right."""
    member = directory.member_with_password(email, password)
    return _member(member) if member is not None else None


def _member(member: Entry) -> Member:
    more = member.attributes
    return Member(member.id, more["name"], more["login"], member.status, member.roles, frozenset(member.granted))


def accession(accession_id: object) -> Accession | None:
    rows = ask("select * from accessions where id = ?", str(accession_id))
    return _accession(rows[0]) if rows else None


def accessions() -> list[Accession]:
    return [_accession(row) for row in ask("select * from accessions where not withdrawn order by id")]


def _accession(row: sqlite3.Row) -> Accession:
    return Accession(
        row["id"], row["species"], row["origin"], row["coordinates"], bool(row["restricted"]), bool(row["withdrawn"])
    )


def trial(trial_id: object) -> Trial | None:
    rows = ask("select * from trials where id = ?", str(trial_id))
    return Trial(**dict(rows[0])) if rows else None


def trials() -> list[Trial]:
    return [Trial(**dict(row)) for row in ask("select * from trials order by id")]


def exchange(exchange_id: object) -> Exchange | None:
    rows = ask("select * from exchanges where id = ?", str(exchange_id))
    return Exchange(**dict(rows[0])) if rows else None


def exchanges() -> list[Exchange]:
    return [Exchange(**dict(row)) for row in ask("select * from exchanges order by id")]


def prepare() -> None:
    """Make the tables and their data where they are missing."""
    with closing(sqlite3.connect(FILE, timeout=30)) as database, database:
        database.executescript(_TABLES)
        if not database.execute("select 1 from accessions").fetchone():
            _fill(database)
    _sow(update=False)


def reset() -> None:
    """Put the made-up data back, the members too."""
    with closing(sqlite3.connect(FILE, timeout=30)) as database, database:
        for table in ("exchanges", "trials", "accessions"):
            database.execute(f"delete from {table}")  # noqa: S608
        _fill(database)
    _sow(update=True)


def state() -> list[object]:
    """All that requests can change: another value after each change."""
    tables = ("accessions", "trials", "exchanges", "bloodroot_members", "bloodroot_member_roles")
    return [tuple(map(tuple, ask(f"select * from {table}"))) for table in tables]  # noqa: S608


def _fill(database: sqlite3.Connection) -> None:
    database.executemany("insert into accessions values (?, ?, ?, ?, ?, 0)", _ACCESSIONS)
    database.executemany("insert into trials values (?, ?, ?, ?, ?)", _TRIALS)
    database.executemany("insert into exchanges values (?, ?, ?, ?)", _EXCHANGES)


def _sow(*, update: bool) -> None:
    """Members as members.toml has them; `bloodroot seed members.toml` does the same."""
    seed_directory(directory, _seed, _policy, _password, update=update)


def _password(new: SeedMember) -> str:
    return os.environ[new.variable or ""]


_seed = read_seed(FOLDER / "members.toml")
_policy = bloodroot.load(FOLDER / "access.bloodroot")
prepare()
