"""A seed swap, made with Flask and with Django: bare, with checks by hand and holes to order, and behind a policy."""

import os
import sqlite3
from pathlib import Path

POLICY = """
policy "Tarn Swap"
roles
  member
  steward      includes member
  auditor
  audit-guest
conditions
  own    record.owner == caller.id
  draft  record.status == "draft"
  self   path.member_id == caller.id
permissions
  packet:edit  steward, member if own and draft
endpoints
  GET       /                           anyone
  GET POST  /sign-in                    anyone
  POST      /sign-out                   signed-in
  GET       /desk                       signed-in
  GET       /packets                    member or auditor or audit-guest
  GET POST  /packets/new                member
  GET       /packets/{packet_id}        steward or own
  GET POST  /packets/{packet_id}/edit   packet:edit
  POST      /packets/{packet_id}/delete steward
  GET       /members                    steward or auditor
  GET       /members/{member_id}        steward or self
  POST      /members/{member_id}/role   steward
  GET       /ledger                     auditor
  GET       /ledger/export              auditor
  any       /tools/reindex              steward
  GET       /api/packets/{packet_id}    steward or own
  PATCH     /api/packets/{packet_id}    packet:edit
denials
  signed-out          go /sign-in
  /api/** signed-out  status 401
  any                 status 403
"""
SETTINGS = """
policy = "access.bloodroot"
app = "APP"
MORE
[personas.visitor]
signed_in = false
[personas.ash]
roles = ["member"]
attributes = { id = 1 }
[personas.wren]
roles = ["member"]
attributes = { id = 2 }
[personas.hazel]
roles = ["steward"]
attributes = { id = 3 }
[personas.rowan]
roles = ["auditor"]
attributes = { id = 4 }
[personas.reed]
roles = ["audit-guest"]
attributes = { id = 5 }

[samples]
member_id = 1
packet_id = 12
[samples.own]
holds = [{ packet_id = "{persona.id}1" }, { packet_id = "{persona.id}2" }]
fails = [{ packet_id = 91, mark = "Ghost lantern" }, { packet_id = 92 }]
[samples.draft]
holds = [{ packet_id = "{persona.id}1" }, { packet_id = 91 }]
fails = [{ packet_id = "{persona.id}2" }, { packet_id = 92 }]
[samples.self]
holds = { member_id = "{persona.id}" }
fails = [{ member_id = 1, mark = "person 1" }, { member_id = 2 }]

[probe]
reset = "tests.probe.swap:reset"
state = "tests.probe.swap:state"
[probe.sign_in]
how = "form"
path = "SLASH"
lands = "LANDS"
fields = { name = "{persona.name}", password = "{env.SWAP_PASSWORD}" }

[bodies]
"POST /packets/new" = { form = { species = "Tarn rush" } }
"POST /packets/{packet_id}/edit" = { form = { species = "Fern sedge" } }
"POST /members/{member_id}/role" = { form = { role = "steward" } }
"PATCH /api/packets/{packet_id}" = { json = { species = "Fern sedge" } }
"""
PEOPLE = {
    "ash": (1, "member"),
    "wren": (2, "member"),
    "hazel": (3, "steward"),
    "rowan": (4, "auditor"),
    "reed": (5, "audit-guest"),
}
PACKETS = {
    number * 10 + place: (number, status)
    for number in (1, 2, 3, 4, 5, 9)
    for place, status in ((1, "draft"), (2, "sent"))
}

# What is wrong with a hole, where it shows, and as whom.
HOLES = {
    "update-open": ("POST /packets/{packet_id}/edit", "visitor"),
    "signed-out-passes": ("GET /members", "visitor"),
    "part-of-a-name": ("GET /ledger", "reed"),
    "list-shows-all": ("GET /packets", "ash"),
    "export-forgotten": ("GET /ledger/export", "ash"),
    "owner-not-asked": ("POST /packets/{packet_id}/edit", "wren"),
    "status-not-asked": ("POST /packets/{packet_id}/edit", "ash"),
    "one-method-guarded": ("POST /tools/reindex", "ash"),
    "any-number": ("GET /members/{member_id}", "wren"),
    "makes-oneself-steward": ("POST /members/{member_id}/role", "ash"),
    "deletes-first": ("POST /packets/{packet_id}/delete", "wren"),
    "not-declared": ("GET /debug", "visitor"),
    "api-forgotten": ("GET /api/packets/{packet_id}", "visitor"),
    "form-for-anyone": ("POST /packets/new", "rowan"),
    "desk-open": ("GET /desk", "visitor"),
}


def planted() -> set[str]:
    """The holes that are wanted."""
    return set(filter(None, os.environ.get("SWAP_HOLES", "").split(",")))


def database() -> Path:
    """The file that has the data."""
    return Path(os.environ["SWAP_DATABASE"])


def reset() -> None:
    """Put the data back."""
    with sqlite3.connect(database()) as store:
        store.executescript(
            "create table if not exists packet (id integer primary key, owner integer, status text, species text);"
            "create table if not exists person (id integer primary key, name text, role text);"
            "delete from packet; delete from person;"
        )
        names = {91: "Ghost lantern"}
        rows = [(number, owner, status, names.get(number, "Moth grass")) for number, (owner, status) in PACKETS.items()]
        store.executemany("insert into packet values (?, ?, ?, ?)", rows)
        store.executemany(
            "insert into person values (?, ?, ?)", [(n, name, role) for name, (n, role) in PEOPLE.items()]
        )
    store.close()


def state() -> list[object]:
    """All data."""
    store = sqlite3.connect(database())
    try:
        return [store.execute(f"select * from {table} order by id").fetchall() for table in ("packet", "person")]
    finally:
        store.close()


def connection():
    """A connection; the Django application puts its own here."""
    return sqlite3.connect(database(), isolation_level=None)


class Store:
    """The data, one connection a request."""

    def __init__(self) -> None:
        self.data = connection()

    def one(self, sql: str, *values: object) -> tuple[object, ...] | None:
        return self.data.execute(sql, values).fetchone()

    def all(self, sql: str, *values: object) -> list[tuple[object, ...]]:
        return self.data.execute(sql, values).fetchall()

    def __enter__(self) -> "Store":
        return self

    def __exit__(self, *_: object) -> None:
        self.data.close()


def checks(person: tuple[int, str] | None, what: str, method: str, number: int | None, holes: set[str]) -> str:
    """What checks by hand say of a request: ok, sign-in or no.

    Args:
        person: id and role, or None.
        what: the endpoint.
        method: the method.
        number: what the path names.
        holes: what is wrong.
    """
    if what in ("home", "sign_in"):
        return "ok"
    if (what, method) == ("edit", "POST") and "update-open" in holes:
        return "ok"
    if (what == "export" and "export-forgotten" in holes) or (what == "debug" and "not-declared" in holes):
        return "ok"
    if (what == "api" and method == "GET" and "api-forgotten" in holes) or (what == "desk" and "desk-open" in holes):
        return "ok"
    if person is None:
        return "ok" if what == "members" and "signed-out-passes" in holes else "sign-in"
    me, role = person
    member, steward = role in ("member", "steward"), role == "steward"
    with Store() as store:
        packet = (
            store.one("select owner, status from packet where id = ?", number)
            if what in ("packet", "edit", "delete", "api")
            else None
        )
    own = packet is not None and packet[0] == me
    edits = steward or (
        member
        and (own or "owner-not-asked" in holes)
        and ((packet is not None and packet[1] == "draft") or bool({"status-not-asked", "owner-not-asked"} & holes))
    )
    allowed = {
        "sign_out": True,
        "desk": True,
        "packets": True,
        "new": member or (method == "POST" and "form-for-anyone" in holes),
        "packet": steward or own,
        "edit": edits if method == "POST" else steward or (member and own and packet[1] == "draft"),
        "delete": steward,
        "members": steward or role == "auditor",
        "person": steward or me == number or "any-number" in holes,
        "role": steward or "makes-oneself-steward" in holes,
        "ledger": role == "auditor" or ("part-of-a-name" in holes and role.startswith("audit")),
        "export": role == "auditor",
        "reindex": steward or (method != "GET" and "one-method-guarded" in holes),
        "api": steward or own if method == "GET" else steward or (member and own and packet[1] == "draft"),
        "debug": False,
    }
    return "ok" if allowed[what] else "no"


def shown(me: int | None, role: str, holes: set[str]) -> list[str]:
    """The list of packets: of others' only what is no secret."""
    with Store() as store:
        rows = store.all("select owner, species from packet")
    return [str(species) for owner, species in rows if role == "steward" or owner == me or "list-shows-all" in holes]


def act(what: str, method: str, number: int | None, sent: dict[str, str], me: int | None) -> None:
    """Do what a request is for."""
    if "SWAP_SENT" in os.environ:
        with Path(os.environ["SWAP_SENT"]).open("a") as log:
            log.write(f"{method} {what} {number} {me}\n")
    with Store() as store:
        if what == "new":
            store.one("insert into packet (owner, status, species) values (?, 'draft', ?)", me, sent["species"])
        elif what in ("edit", "api"):
            store.one("update packet set species = ? where id = ?", sent["species"], number)
        elif what == "delete":
            store.one("delete from packet where id = ?", number)
        elif what == "role":
            store.one("update person set role = ? where id = ?", sent["role"], number)
