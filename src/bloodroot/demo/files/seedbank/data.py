"""The seed bank's tables, its made-up data, and the questions that are asked of them."""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

FOLDER = Path(__file__).resolve().parent.parent
FILE = FOLDER / "seedbank.db"
_FRESH = FOLDER / "seedbank-fresh.db"

_TABLES = """
create table members (
    id integer primary key, name text not null, email text not null unique,
    password text not null, status text not null
);
create table member_roles (
    member_id integer not null references members, role text not null, primary key (member_id, role)
);
create table accessions (
    id integer primary key, species text not null, origin text not null, coordinates text not null,
    restricted integer not null, withdrawn integer not null default 0
);
create table trials (
    id integer primary key, accession_id integer not null references accessions,
    botanist_id integer not null references members, sown integer not null, germinated integer not null
);
create table exchanges (
    id integer primary key, accession_id integer not null references accessions,
    partner text not null, state text not null
);
"""

_MEMBERS = [
    (1, "Wren Abbot", "wren@fernhollow.example", "active", []),
    (2, "Moss Carder", "moss@fernhollow.example", "suspended", []),
    (3, "Ash Delany", "ash@fernhollow.example", "active", ["botanist"]),
    (4, "Hazel Ekwall", "hazel@fernhollow.example", "active", ["curator"]),
    (5, "Linden Farrow", "linden@fernhollow.example", "active", ["registrar"]),
    (6, "Reed Garrick", "reed@tarnbank.example", "active", ["guest-registrar"]),
    (7, "Rowan Hythe", "rowan@fernhollow.example", "active", ["auditor"]),
    (8, "Sorrel Innes", "sorrel@fernhollow.example", "active", ["botanist", "registrar"]),
]
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
    if not FILE.exists():
        reset()
    with closing(sqlite3.connect(FILE, timeout=10)) as database, database:
        database.row_factory = sqlite3.Row
        return database.execute(query, values).fetchall()


def member(member_id: object) -> Member | None:
    rows = ask("select * from members where id = ?", str(member_id))
    return _member(rows[0]) if rows else None


def members() -> list[Member]:
    return [_member(row) for row in ask("select * from members order by id")]


def member_with_password(email: str, password: str) -> Member | None:
    """The member with this address, if the password is right."""
    rows = ask("select * from members where email = ?", email)
    stored = rows[0]["password"] if rows else _hash("nobody", "0" * 32)
    salt = stored.split("$")[0]
    right = hmac.compare_digest(stored, _hash(password, salt))
    return _member(rows[0]) if rows and right else None


def _member(row: sqlite3.Row) -> Member:
    roles = frozenset(found["role"] for found in ask("select role from member_roles where member_id = ?", row["id"]))
    return Member(row["id"], row["name"], row["email"], row["status"], roles)


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


def reset() -> None:
    """Put the made-up data back. The first time makes it, and hashes the password from the environment."""
    if not _FRESH.exists():
        _make(_FRESH)
    # Writing through the database, and not over its file, leaves open connections intact.
    with closing(sqlite3.connect(_FRESH)) as fresh, closing(sqlite3.connect(FILE, timeout=10)) as database:
        fresh.backup(database)


def _make(file: Path) -> None:
    password = os.environ.get("SEEDBANK_PASSWORD")
    if not password:
        raise SystemExit("SEEDBANK_PASSWORD is not set; it becomes the password of the made-up members")
    beside = file.with_suffix(f".{os.getpid()}.new")
    beside.unlink(missing_ok=True)
    with closing(sqlite3.connect(beside)) as database, database:
        database.executescript(_TABLES)
        for number, name, email, status, roles in _MEMBERS:
            hashed = _hash(password, secrets.token_hex(16))
            database.execute("insert into members values (?, ?, ?, ?, ?)", (number, name, email, hashed, status))
            database.executemany("insert into member_roles values (?, ?)", [(number, role) for role in roles])
        database.executemany("insert into accessions values (?, ?, ?, ?, ?, 0)", _ACCESSIONS)
        database.executemany("insert into trials values (?, ?, ?, ?, ?)", _TRIALS)
        database.executemany("insert into exchanges values (?, ?, ?, ?)", _EXCHANGES)
    beside.replace(file)


def _hash(password: str, salt: str) -> str:
    """A salted hash that is slow to guess (scrypt, RFC 7914)."""
    key = hashlib.scrypt(password.encode(), salt=bytes.fromhex(salt), n=2**14, r=8, p=1)
    return f"{salt}${key.hex()}"
