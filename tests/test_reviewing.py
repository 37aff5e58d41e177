"""Reviews of access: what members hold, since when, and what of it was used."""

import contextlib
import csv
import datetime
import io
import json
import sqlite3

from tests.cli.test_demo import RESULT
from tests.program import InFolder

POLICY = """
    roles
      grower
      keeper  includes grower
      clerk
      apart   clerk, keeper
    groups
      "field"  grower
    permissions
      lot:edit  keeper
    endpoints
      GET   /        anyone
      GET   /me      signed-in
      GET   /plots   grower
      PUT   /lots    lot:edit
      GET   /office  clerk
      GET   /vault   keeper and clerk
"""
MEMBERS = """
    [[groups]]
    name = "stock"
    permissions = ["lot:edit"]

    [[members]]
    id = 1
    login = "ash"
    roles = ["keeper"]
    groups = ["field"]

    [[members]]
    id = 2
    login = "moss"
    status = "suspended"
    groups = ["stock"]

    [[members]]
    id = 3
    login = "wren"
"""


class Reviews(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[directory]\nurl = "sqlite:///members.db"\n')
        self.write("members.toml", MEMBERS)
        self.ran("seed", "members.toml")

    def log(self, *uses: tuple[int, str, str, str]) -> None:
        lines = [
            json.dumps(
                {
                    "time": f"{day}T10:00:00.000+00:00",
                    "caller": caller,
                    "method": method,
                    "path": path,
                    "outcome": "allow",
                }
            )
            for caller, method, path, day in uses
        ]
        lines.append(
            json.dumps(
                {"time": "2026-10-09T10:00:00+00:00", "caller": 3, "method": "GET", "path": "/plots", "outcome": "deny"}
            )
        )
        self.write("audit.jsonl", "\n".join(lines))

    def test_what_all_hold(self) -> None:
        self.log(
            (1, "GET", "/plots", "2026-10-01"), (1, "GET", "/plots", "2026-10-05"), (2, "PUT", "/lots", "2026-10-02")
        )
        found = json.loads(self.ran("members", "--log", "audit.jsonl", "--format", "json"))
        RESULT.validate(found)
        held = {
            (member["name"], each["kind"], each["name"]): (each["used"] or "")[:10]
            for member in found["members"]
            for each in member["holdings"]
        }
        self.assertEqual(
            held,
            {
                # Either alone is enough: both are used, or both would be taken away.
                ("ash", "role", "keeper"): "2026-10-05",
                ("ash", "group", "field"): "2026-10-05",
                ("moss", "group", "stock"): "2026-10-02",
            },
        )
        today = datetime.datetime.now(datetime.UTC).date().isoformat()
        self.assertEqual({each["since"][:10] for member in found["members"] for each in member["holdings"]}, {today})
        out = self.ran("members", "--log", "audit.jsonl")
        self.assertTrue(out.startswith("3 members, 3 things held, 0 of them not used since 2026-10-01\n"))
        self.log((1, "PUT", "/lots", "2026-10-03"))
        rows = list(csv.DictReader(io.StringIO(self.ran("members", "--log", "audit.jsonl", "--format", "csv"))))
        self.assertEqual(
            [(row["name"], row["holds"], row["last used"][:10]) for row in rows],
            [
                ("ash", "keeper", "2026-10-03"),
                ("ash", "field", "never"),
                ("moss", "stock", "never"),
                ("wren", "", ""),
            ],
        )

    def test_a_grant_to_a_group_is_known_whatever_its_source_is_called(self) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "staff.db")) as connection, connection:
            connection.executescript(
                "create table staff (id integer, team text); insert into staff values (1, 'stock'), (2, 'field');"
                "create table rights (team text, name text, giver text); insert into rights values "
                "('stock', 'lot:edit', 'the board, to group field'), (null, 'lot:edit', 'Ann');"
            )
        self.write(
            "bloodroot.toml",
            """
            policy = "access.bloodroot"
            [directory]
            url = "sqlite:///staff.db"
            [directory.queries]
            member = "select id, 'active' as status from staff where id = :id"
            members = "select id from staff"
            groups = "select team from staff where id = :id"
            permissions = '''
              select name, giver as source, team as group_name from rights
              where team is null or team in (select team from staff where id = :id)'''
            """,
        )
        found = json.loads(self.ran("members", "--format", "json"))
        self.assertEqual(
            [
                (member["id"], each["kind"], each["name"], each["gives"])
                for member in found["members"]
                for each in member["holdings"]
            ],
            [
                (1, "group", "stock", ["lot:edit"]),
                (1, "permission", "lot:edit", ["the directory, to Ann"]),
                (2, "group", "field", ["grower"]),
                (2, "permission", "lot:edit", ["the directory, to Ann"]),
            ],
        )

    def test_what_is_not_used_can_be_taken_away_all_at_once(self) -> None:
        self.write(
            "access.bloodroot",
            """
            roles
              a
              b
              c
              d
              e
            endpoints
              GET /pair  a and b or c and d
              GET /e     e
            """,
        )
        self.write("members.toml", '[[members]]\nid = 7\nlogin = "sorrel"\nroles = ["a", "b", "c", "d", "e"]\n')
        self.ran("seed", "members.toml")
        self.log((7, "GET", "/pair", "2026-10-01"))
        out = self.ran("members", "--log", "audit.jsonl", "--format", "json")
        (member,) = (each for each in json.loads(out)["members"] if each["name"] == "sorrel")
        used = {each["name"]: each["used"] is not None for each in member["holdings"]}
        # None of them is enough alone, and none is needed: but not all of them can go. Nothing says that e was used.
        self.assertEqual({name for name in "abcd" if used[name]}, {*"abcd"})

    def test_since_when(self) -> None:
        import sqlite3

        with sqlite3.connect(self.folder / "members.db") as database:
            database.execute("update bloodroot_given set at = '2026-01-02 03:04:05'")
        self.write("members.toml", MEMBERS.replace('roles = ["keeper"]', 'roles = ["grower"]'))
        self.ran("seed", "members.toml", "--update")
        found = json.loads(self.ran("members", "--format", "json"))
        since = {each["name"]: each["since"][:10] for each in found["members"][0]["holdings"]}
        today = datetime.datetime.now(datetime.UTC).date().isoformat()
        self.assertEqual(since, {"grower": today, "field": "2026-01-02"})
        # A directory that an older version has made has no such table.
        with sqlite3.connect(self.folder / "members.db") as database:
            database.execute("drop table bloodroot_given")
        found = json.loads(self.ran("members", "--format", "json"))
        self.assertEqual({each["since"] for each in found["members"][0]["holdings"]}, {None})

    def test_one_member(self) -> None:
        out = self.ran("members", "ash")
        self.assertTrue(out.startswith("ash (active): let in at 4 of 6 endpoints\n"))
        self.assertRegex(out, r"GET /plots +allow +role keeper or group field")
        self.assertRegex(out, r"PUT /lots +allow +role keeper")
        self.assertRegex(out, r"GET /me +allow +every signed-in caller")
        self.assertRegex(out, r"GET / +allow +anyone")
        rows = list(csv.reader(io.StringIO(self.ran("members", "2", "--format", "csv"))))
        self.assertIn(["PUT", "/lots", "allow", "group stock"], rows)

    def test_what_cannot_be_reviewed(self) -> None:
        self.write("empty.jsonl", '{"outcome": "deny"}\n')
        for words, message in (
            (("nobody",), 'the directory has no member "nobody"'),
            (("--log", "gone.jsonl"), "gone.jsonl: there is no such file"),
            (("--log", "empty.jsonl"), "there is no request in it that was let in"),
            (("ash", "--log", "audit.jsonl"), "leave LOGIN out"),
        ):
            run = self.bloodroot("members", *words)
            self.assertEqual((run.status, message in run.err), (2, True), run.err)
