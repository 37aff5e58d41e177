"""Roles held in records, as tokens, tables and seed files say it, until they end."""

import datetime
import unittest
from pathlib import Path
from typing import Any

import sqlalchemy as sa

import bloodroot
from bloodroot import Unidentified
from bloodroot.identity.claims import claims_of, read_claims
from bloodroot.identity.directory import Directory
from bloodroot.identity.held_in_records import end_of
from bloodroot.identity.seed_file import read_seed
from bloodroot.identity.seeding import seed_directory
from bloodroot.identity.seeds import SeedError
from bloodroot.settings import ClaimNames, DirectoryTables, SettingsError
from bloodroot.settings.callers import ClaimedRoles
from tests.postgres import new_database
from tests.program import InFolder

POLICY = bloodroot.parse("""
roles
  member default
  chief includes owner
things
  studio {studio_id}
  kiln {kiln_id} in studio by studio_id
roles in studio
  viewer
  owner
  clerk
  apart owner, clerk
roles in kiln
  stoker
endpoints
  GET /studios/{studio_id} viewer
""")
AT = ("studios",)
OBJECTS, NAMED = ClaimedRoles(AT), ClaimedRoles(AT, "org", "grants", drop_prefix="st_", names={"Boss": "owner"})
TEXTS = ClaimedRoles(AT, pattern="studio:{id}:{role}")
TURNED = ClaimedRoles(AT, pattern="{role}@{id}", separator=" ")
COMMAS = ClaimedRoles(AT, separator=",")
# how it is written, the claim, the roles by record, a part of what is noted
SHAPES: list[tuple[ClaimedRoles, Any, dict[Any, set[str]], str | None]] = [
    (OBJECTS, [{"id": 7, "role": "owner"}, {"id": "8", "role": ["viewer", "clerk"]}], {7: {"owner"}, "8": {"viewer", "clerk"}}, None),
    (OBJECTS, [{"id": 7, "role": "owner"}, {"id": 7, "role": "viewer"}], {7: {"owner", "viewer"}}, None),
    (OBJECTS, [{"id": 7, "role": {"owner": True, "viewer": False}}], {7: {"owner"}}, None),
    (OBJECTS, {"7": "owner", "8": ["viewer"]}, {"7": {"owner"}, "8": {"viewer"}}, None),
    (OBJECTS, {"7": {"owner": 1, "viewer": 0}}, {"7": {"owner"}}, None),
    (OBJECTS, [], {}, None),
    (OBJECTS, [{"id": 7}], {}, "which has no id and role"),
    (OBJECTS, [{"id": True, "role": "owner"}, {"id": None, "role": "owner"}], {}, "holds true, which identifies no record"),
    (OBJECTS, [{"id": [7], "role": "owner"}], {}, "identifies no record"),
    (OBJECTS, "7:owner", {}, "and not a list or a map"),
    (OBJECTS, ["7", 8], {}, "which has no id and role"),
    (OBJECTS, {"7": None}, {}, 'has for "7" what is null'),
    (OBJECTS, {"7": 5}, {}, "what is 5"),
    (OBJECTS, {"7": "owner,viewer"}, {"7": {"owner,viewer"}}, "separator"),
    (COMMAS, {"7": "owner, viewer"}, {"7": {"owner", "viewer"}}, None),
    (NAMED, [{"org": 7, "grants": ["st_viewer", "viewer", "Boss"]}], {7: {"viewer", "owner"}}, None),
    (TEXTS, ["studio:7:owner", "kiln:4:stoker", "studio:8:viewer", "studio::owner", "studio:9:"], {"7": {"owner"}, "8": {"viewer"}}, None),
    # Neither an identifier nor a role holds what is between them: there is no second reading.
    (TEXTS, ["studio:7:owner:viewer", "studio:7:8:owner", "xstudio:7:owner", "studio:7:owner "], {"7": {"owner "}}, None),
    (TURNED, "owner@7 viewer@8 x@y@9", {"7": {"owner"}, "8": {"viewer"}}, None),
    (TEXTS, {"studio:7:owner": True, "studio:8:owner": False}, {"7": {"owner"}}, None),
    (TEXTS, 7, {}, "and not a list of names"),
]  # fmt: skip


class Claims(unittest.TestCase):
    def test_every_shape(self) -> None:
        for where, value, held, note in SHAPES:
            names = ClaimNames(("sub",), roles_in={"studio": where})
            with self.subTest(value=value):
                reading = read_claims({"sub": "5", "studios": value}, names)
                self.assertEqual(reading.caller.roles_in, {"studio": held} if held else {})
                notes = " ".join(reading.caller.notes)
                self.assertEqual(notes == "", note is None, notes)
                self.assertIn(note or "", notes)
        missing = read_claims({"sub": "5"}, ClaimNames(("sub",), roles_in={"studio": OBJECTS}))
        self.assertEqual(missing.caller.notes, ("the token has no studios, so no roles in studio come from it",))

    def test_what_is_written_is_read_back(self) -> None:
        caller = bloodroot.Caller("5", roles_in={"studio": {"7": {"owner", "viewer"}, "8": {"viewer"}}})
        for where in (OBJECTS, NAMED, TEXTS, TURNED):
            names = ClaimNames(("sub",), roles_in={"studio": where})
            self.assertEqual(read_claims(claims_of(caller, names), names).caller, caller, where)


ENDS = datetime.datetime(2027, 1, 1, tzinfo=datetime.UTC)


class Ends(unittest.TestCase):
    def test_what_is_an_end(self) -> None:
        noon = datetime.datetime(2027, 1, 1, 12, 0)
        for value, end in (
            (None, None),
            ("", None),
            (datetime.date(2027, 1, 1), ENDS),
            ("2027-01-01", ENDS),
            (noon, noon.replace(tzinfo=datetime.UTC)),
            ("2027-01-01T01:00:00+01:00", ENDS),
        ):
            self.assertEqual(end_of(value), end, value)
        for value in (5, "soon", True, "2027-13-01"):
            with self.assertRaises(ValueError):
                end_of(value)


MEMBERS = """
[[members]]
login = "ada"
roles = ["member"]
roles_in = [
  { role = "viewer", in = { studio = 7 }, until = 2027-01-01 },
  { role = "owner", in = { studio = "x-8" } },
  { role = "stoker", in = { kiln = 4 }, until = 2020-01-01 },
]
"""


class Suite:
    """The directory, whichever database it is in."""

    def new_url(self) -> str:
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()
        self.directory = Directory(DirectoryTables(self.new_url(), cache=60.0), self.folder)
        self.addCleanup(self.directory.engine.dispose)

    def seed(self, text: str, name: str = "members.toml", **how: bool) -> dict[str, str]:
        (self.folder / name).write_text(text)
        done = seed_directory(self.directory, read_seed(self.folder / name), POLICY, lambda _: "", **how)
        return {row.name: " ".join((row.verdict.value, *row.differences)) for row in done.rows if row.kind == "member"}

    def test_seeds_again_and_again(self) -> None:
        self.assertEqual(self.seed(MEMBERS), {"ada": "made"})
        self.assertEqual(self.seed(MEMBERS), {"ada": "kept"})
        longer = MEMBERS.replace("2027-01-01", "2028-01-01")
        self.assertIn("differs roles in records are", self.seed(longer)["ada"])
        self.assertIn("in the file owner in studio x-8", self.seed(longer, update=True)["ada"])
        self.assertEqual(self.seed(longer), {"ada": "kept"})
        as_csv = "login,roles,roles_in\nada,member,viewer in studio 7 until 2028-01-01; owner in studio x-8; stoker in kiln 4 until 2020-01-01\n"
        self.assertEqual(self.seed(as_csv, "m.csv"), {"ada": "kept"})
        self.assertEqual(self.seed("login\nada\n", "m.csv"), {"ada": "kept"})
        self.assertIn("updated", self.seed('[[members]]\nlogin = "ada"\nroles_in = []\n', update=True)["ada"])
        self.assertEqual(self.directory.member(1).roles_in, ())

    def test_what_has_ended_gives_nothing_from_that_moment_on_whatever_is_remembered(self) -> None:
        self.seed(MEMBERS)
        member = self.directory.member(1)
        before, after = ENDS - datetime.timedelta(seconds=1), ENDS
        for now, held in ((before, {"7", "x-8"}), (after, {"x-8"})):
            self.assertEqual(set(member.held_in(now)["studio"]), held)
            self.assertNotIn("kiln", member.held_in(now))
        self.assertIs(self.directory.member(1), member)
        caller = self.directory.caller(1)
        self.assertEqual(
            set(caller.roles_in["studio"]), {"x-8", *(["7"] if datetime.datetime.now(datetime.UTC) < ENDS else [])}
        )
        self.assertEqual([{*each.roles_in} for each in self.directory.members()], [{*member.roles_in}])
        self.directory.remove(1)
        self.assertIsNone(self.directory.member(1))

    def test_tables_of_an_application(self) -> None:
        with self.directory.engine.begin() as connection:
            for statement in (
                "create table staff (id integer primary key, name text, status text)",
                "create table seats (staff_id integer, studio integer, duty text, until text)",
                "insert into staff values (3, 'Ash', 'active')",
                "insert into seats values (3, 7, 'owner', null), (3, 8, 'viewer', '2020-01-01'), (3, 9, 'viewer', 'soon'), "
                "(3, null, 'viewer', null)",
            ):
                connection.execute(sa.text(statement))
        query = "select 'studio' as thing, studio as record, duty as role, until from seats where staff_id = :id"
        queries = {"member": "select * from staff where id = :id", "roles_in": query}
        directory = Directory(DirectoryTables(str(self.directory.settings.url), queries=queries), self.folder)
        self.addCleanup(directory.engine.dispose)
        directory.check()
        # What cannot be read may be a role that keeps out.
        with (
            self.assertLogs("bloodroot.identity", "ERROR") as logged,
            self.assertRaisesRegex(Unidentified, "says of member 3 cannot be read"),
        ):
            directory.caller("3")
        self.assertIn('ends at "soon", which is no date', logged.output[0])
        with self.directory.engine.begin() as connection:
            connection.execute(sa.text("delete from seats where until = 'soon'"))
        directory.forget()
        self.assertEqual(directory.caller("3").roles_in, {"studio": {7: frozenset({"owner"})}})
        for wrong in (
            "select studio, duty from seats where staff_id = :id",
            "select 'studio' as thing, duty as role from seats where staff_id = :id",
        ):
            directory = Directory(
                DirectoryTables(str(self.directory.settings.url), queries={**queries, "roles_in": wrong}), self.folder
            )
            self.addCleanup(directory.engine.dispose)
            with self.assertRaisesRegex(SettingsError, "directory.queries.roles_in: the row needs a column"):
                directory.check()


class OnSQLite(Suite, InFolder):
    def new_url(self) -> str:
        return f"sqlite:///{Path(self.folder) / 'members.db'}"

    def test_a_seed_is_refused_as_a_whole(self) -> None:
        for entry, message in (
            ('{ role = "viewr", in = { studio = 7 } }', 'no role in a studio "viewr"; did you mean "viewer"'),
            ('{ role = "stoker", in = { studio = 7 } }', 'no role in a studio "stoker"'),
            ('{ role = "viewer", in = { studoi = 7 } }', 'no thing "studoi"; did you mean "studio"'),
            ('{ role = "viewer" }', "a role in a record is written as"),
            ('{ role = "viewer", in = { studio = 7, kiln = 4 } }', "a role in a record is written as"),
            ('{ role = "viewer", in = { studio = true } }', "is identified by a number or a string"),
            ('{ role = "viewer", in = { studio = 7 }, until = "soon" }', "until must be a date"),
            ('{ role = "viewer", in = { studio = 7 }, untill = 2027-01-01 }', "unknown key members.roles_in.untill"),
            (
                '{ role = "owner", in = { studio = 7 } }, { role = "clerk", in = { studio = 7 } }',
                "where they are kept apart",
            ),
        ):
            with self.subTest(entry), self.assertRaisesRegex(SeedError, message):
                self.seed(f'[[members]]\nlogin = "bo"\nroles_in = [{entry}]\n')
        chief = '[[members]]\nlogin = "bo"\nroles = ["chief"]\nroles_in = [{ role = "clerk", in = { studio = 7 } }]\n'
        with self.assertRaisesRegex(SeedError, "where they are kept apart"):
            self.seed(chief)
        with self.assertRaisesRegex(SeedError, "a role in a record is written as"):
            self.seed("login,roles_in\nbo,viewer of studio 7\n", "m.csv")


class OnPostgreSQL(Suite, InFolder):
    def new_url(self) -> str:
        return new_database()


if __name__ == "__main__":
    unittest.main()
