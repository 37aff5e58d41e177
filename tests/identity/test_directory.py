"""The directory on SQLite and on PostgreSQL: the same suite on both."""

import threading
import time
import unittest
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

import sqlalchemy as sa

from bloodroot import Unidentified
from bloodroot.identity import fresh, tables
from bloodroot.identity.directory import Directory
from bloodroot.identity.fresh import Remembered
from bloodroot.identity.members import member_of
from bloodroot.identity.seed_result import SeedVerdict
from bloodroot.identity.seeding import seed_directory
from bloodroot.identity.seeds import Seed, SeedError, SeedGroup, SeedMember
from bloodroot.settings import DirectoryTables, SettingsError
from tests.policies import POLICY
from tests.postgres import new_database
from tests.program import InFolder


def member(login: str, **said: object) -> SeedMember:
    lists = {key: tuple(said.pop(key)) for key in ("roles", "groups", "permissions") if key in said}
    return SeedMember(f"seed.toml:{login}", login, **lists, **said)


def no_password(new: SeedMember) -> str:
    raise AssertionError(f"nobody should have been asked for the password of {new.login}")


class Suite:
    """What a directory does, whichever database it is in."""

    def new_url(self) -> str:
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()
        self.url = self.new_url()

    def open(self, **settings: object) -> Directory:
        directory = Directory(DirectoryTables(self.url, **{"cache": 0.0, **settings}), self.folder)
        self.addCleanup(directory.engine.dispose)
        return directory

    def seed(self, *members: SeedMember, groups: tuple[SeedGroup, ...] = (), **how: bool) -> dict[str, Any]:
        """Seed, and tell what became of members and groups, with what differs."""
        done = seed_directory(self.directory, Seed(members, groups), POLICY, lambda _: "fern and sedge", **how)
        return {
            row.name: " ".join((row.verdict.value, *row.differences)) for row in done.rows if row.kind != "role"
        } | {"roles": Counter(row.verdict.value for row in done.rows if row.kind == "role")}

    @property
    def directory(self) -> Directory:
        if not hasattr(self, "_directory"):
            self._directory = self.open()
        return self._directory

    def test_seeding_again_and_again(self) -> None:
        tess = member("tess", id=7, name="Tess", roles=["keeper"], attributes={"site": "north"})
        noor = member("noor", groups=["field-staff", "night"], permissions=["parcel:weigh"])
        night = SeedGroup("seed.toml:1", "night", ("memo:read", "parcel:*"))
        tried = self.seed(tess, noor, groups=(night,), dry_run=True)
        self.assertEqual((tried["tess"], tried["night"], tried["roles"]), ("made", "made", {"made": 5}))
        with self.assertRaises(SettingsError):
            self.directory.members()
        self.assertEqual(self.seed(tess, noor, groups=(night,)), tried)
        kept = {**dict.fromkeys(("tess", "noor", "night", "field-staff"), "kept"), "roles": {"kept": 5}}
        self.assertEqual(self.seed(tess, noor, groups=(night,)), kept)
        found = {each.attributes["login"]: each for each in self.directory.members()}
        self.assertEqual(
            (found["tess"].id, found["tess"].roles, found["tess"].attributes["site"]), (7, {"keeper"}, "north")
        )
        self.assertEqual((found["noor"].id, found["noor"].groups), (8, {"field-staff", "night"}))
        self.assertEqual(
            dict(found["noor"].granted),
            {
                "parcel:weigh": "the directory, to the member",
                "memo:read": "the directory, to group night",
                "parcel:*": "the directory, to group night",
            },
        )

    def test_a_member_is_one_question(self) -> None:
        groups = (SeedGroup("seed.toml:1", "field-staff", ("memo:read",)),)
        self.seed(
            member("ash", roles=["keeper", "clerk"], groups=["field-staff"], permissions=["lot:edit"]), groups=groups
        )
        asked: list[str] = []
        sa.event.listen(self.directory.engine, "before_cursor_execute", lambda *found: asked.append(found[2]))
        found = self.directory.member(1)
        self.assertEqual(len([each for each in asked if "bloodroot_members" in each]), 1, asked)
        self.assertEqual((found.roles, found.groups), ({"keeper", "clerk"}, {"field-staff"}))
        self.assertEqual(set(found.granted), {"lot:edit", "memo:read"})
        self.assertIsNone(self.directory.member(2))

    def test_many_members_take_no_more_queries_than_few(self) -> None:
        asked = []
        sa.event.listen(self.directory.engine, "before_cursor_execute", lambda *found: asked.append(found[2]))
        names = ("keeper", "clerk", "grower")
        many = [member(f"m{n}", roles=[names[n % 3]], groups=["field-staff"] * (n % 2)) for n in range(300)]
        many += [member(f"n{n}", id=2000 - n, permissions=["lot:edit"] * (n % 2)) for n in range(200)]
        self.seed(*many, groups=(SeedGroup("seed.toml:1", "field-staff", ("memo:read",)),))
        self.assertLess(len(asked), 120)
        del asked[:]
        listed = self.directory.members()
        self.assertLessEqual(len(asked), 8)
        self.assertEqual(len(listed), 500)
        self.assertEqual(listed[::50], [self.directory.member(each.id) for each in listed[::50]])
        by_login = {each.name: each for each in listed}
        self.assertEqual(self.directory.member_with_login("m7"), by_login["m7"])
        self.assertEqual(by_login["m7"].granted, {"memo:read": "the directory, to group field-staff"})
        self.assertEqual(
            (by_login["n3"].id, by_login["n3"].granted), (1997, {"lot:edit": "the directory, to the member"})
        )
        self.assertIsNone(self.directory.member_with_login("m07"))
        self.assertEqual(set(self.seed(*many)) - {"roles"}, {*by_login, "field-staff"})

    def test_what_differs_is_left_until_it_is_to_be_updated(self) -> None:
        self.seed(member("tess", name="Tess", roles=["keeper"], groups=["field-staff"]))
        changed = member("tess", name="Tessa", roles=["clerk", "helper"], groups=[], permissions=["lot:edit"])
        expected = (
            'differs name is "Tess", in the file "Tessa" roles are keeper, in the file clerk, helper '
            "groups are field-staff, in the file none permissions are none, in the file lot:edit"
        )
        self.assertEqual(self.seed(changed)["tess"], expected)
        self.assertEqual(self.directory.members()[0].roles, {"keeper"})
        self.assertEqual(self.seed(changed, update=True, dry_run=True)["tess"], expected.replace("differs", "updated"))
        self.assertEqual(self.directory.members()[0].roles, {"keeper"})
        self.seed(changed, update=True)
        found = self.directory.members()[0]
        self.assertEqual((found.roles, found.groups, set(found.granted)), ({"clerk", "helper"}, set(), {"lot:edit"}))
        self.assertEqual(self.seed(changed)["tess"], "kept")
        self.directory.set_status(found.id, "suspended")
        self.assertEqual(self.seed(changed)["tess"], "kept", "a status that the file does not say is not its business")
        self.assertIn("status", self.seed(member("tess", status="active"))["tess"])

    def test_a_seed_is_refused_as_a_whole(self) -> None:
        self.seed(member("tess", id=7, roles=["clerk"]))
        new = member("noor", roles=["keeper"])
        for wrong, how, message in (
            (member("ana", roles=["keper"]), {}, 'no role "keper"; did you mean "keeper"'),
            (member("ana", groups=["field-stuff"]), {}, 'no group "field-stuff"; did you mean "field-staff"'),
            (member("ana", permissions=["lot:edti"]), {}, 'no permission "lot:edti"; did you mean "lot:edit"'),
            (member("ana", permissions=["plots:*"]), {}, 'no permission "plots:*"'),
            (member("ana", roles=["clerk", "reviewer"]), {}, "ana would hold clerk and reviewer, which are kept apart"),
            (member("tess", groups=["field-staff"], roles=["reviewer", "clerk"]), {}, "kept apart"),
            (member("ana", id=7), {}, "the id 7 is that of tess already"),
            (member("tess", id=8), {}, "tess is there with the id 7, not 8"),
        ):
            with self.subTest(message=message):
                with self.assertRaises(SeedError) as caught:
                    self.seed(new, wrong, **how)
                self.assertIn(message, str(caught.exception))
                self.assertEqual([each.attributes["login"] for each in self.directory.members()], ["tess"])
        with self.assertRaisesRegex(SeedError, 'seed.toml:1: the policy knows no permission "memo:raed"'):
            self.seed(groups=(SeedGroup("seed.toml:1", "night", ("memo:raed",)),))

    def test_passwords_are_asked_for_once_and_kept_as_hashes(self) -> None:
        tess = member("tess", password="prompt")
        asked = []

        def password(new: SeedMember) -> str:
            asked.append(new.login)
            return "fern and sedge"

        for _ in range(2):
            seed_directory(self.directory, Seed((tess, member("noor"))), POLICY, password)
        seed_directory(self.directory, Seed((member("ana", password="prompt"),)), POLICY, no_password, dry_run=True)
        self.assertEqual(asked, ["tess"])
        with self.directory.engine.connect() as connection:
            stored = dict(
                connection.execute(sa.select(tables.members.c.login, tables.members.c.password)).tuples().all()
            )
        self.assertTrue(stored["tess"].startswith("$argon2id$"))
        self.assertIsNone(stored["noor"])
        self.assertEqual(self.directory.member_with_password("tess", "fern and sedge").attributes["login"], "tess")
        for login, word in (("tess", "Fern and sedge"), ("tess", ""), ("noor", ""), ("noor", "None"), ("nobody", "x")):
            self.assertIsNone(self.directory.member_with_password(login, word), (login, word))
        self.directory.set_password(self.directory.members()[0].id, "sedge and fern")
        self.assertIsNone(self.directory.member_with_password("tess", "fern and sedge"))
        self.assertIsNotNone(self.directory.member_with_password("tess", "sedge and fern"))

    def test_a_member_who_leaves_stops(self) -> None:
        self.seed(member("tess", id=7, roles=["keeper"]), member("noor", id=8, permissions=["lot:edit"]))
        other = self.open(cache=0.3)  # another process of the application
        self.assertEqual(other.caller(7).roles, {"keeper"})
        self.directory.set_status(7, "suspended")
        began = time.monotonic()
        while time.monotonic() - began < 5:
            try:
                other.caller("7")
            except Unidentified as error:
                self.assertEqual(error.reason, "member 7 is suspended")
                break
            time.sleep(0.02)
        else:
            self.fail("a suspended member goes on")
        self.assertLess(time.monotonic() - began, 2)
        with self.assertRaises(Unidentified):
            self.directory.caller(7)
        kept = self.open(keep_suspended=True).caller(7)
        self.assertEqual((kept.roles, kept.attributes["status"]), ({"keeper"}, "suspended"))
        self.directory.remove(8)
        with self.assertRaisesRegex(Unidentified, "the directory has no member 8"):
            self.directory.caller(8)
        self.seed(member("noor"))
        again = self.directory.members()[-1]
        self.assertEqual((again.attributes["login"], again.id != 8, dict(again.granted)), ("noor", True, {}))
        for change in (self.directory.remove, lambda number: self.directory.set_status(number, "x")):
            with self.assertRaises(LookupError):
                change(99)

    def test_ids_that_are_nobodys(self) -> None:
        self.seed(member("tess", id=7))
        for asked in (
            "07",
            "7 ",
            " 7",
            "+7",
            "7.0",
            "7; drop table x",
            "seven",
            "",
            "0",
            "-7",
            True,
            7.5,
            None,
            "9" * 40,
            "٧",
        ):
            with self.subTest(asked=asked):
                self.assertIsNone(self.directory.member(asked))
        for asked in (7, "7"):
            self.assertEqual(self.directory.member(asked).id, 7)

    def test_twenty_threads_seed_and_read_at_once(self) -> None:
        # Each thread brings its own member, one that all bring, and one that every second thread brings in line.
        def work(number: int) -> list[object]:
            directory = self.open(cache=0.05)
            start.wait(30)
            seen: list[object] = []
            for turn in range(3):
                members = (
                    member(f"own-{number}", roles=["grower"]),
                    member("everybody", id=500, roles=["keeper"], groups=["field-staff"]),
                    member("changing", roles=["clerk" if number % 2 else "grower"]),
                )
                done = seed_directory(directory, Seed(members), POLICY, no_password, update=bool(turn))
                seen += [(row.name, row.verdict) for row in done.rows if row.kind == "member"]
                found = directory.member(500)
                if (found.roles, found.groups) != ({"keeper"}, {"field-staff"}):
                    raise AssertionError(f"half a member was seen: {found}")
            return seen

        start = threading.Barrier(20)
        with ThreadPoolExecutor(20) as pool:
            seen = Counter(each for found in pool.map(work, range(20)) for each in found)
        self.assertEqual(seen["everybody", SeedVerdict.MADE], 1)
        self.assertEqual(seen["everybody", SeedVerdict.KEPT], 59)
        self.assertEqual(seen["changing", SeedVerdict.MADE], 1)
        self.assertEqual([seen[f"own-{number}", SeedVerdict.MADE] for number in range(20)], [1] * 20)
        found = {each.attributes["login"]: each for each in self.directory.members()}
        self.assertEqual(len(found), 22)
        self.assertEqual(len({each.id for each in found.values()}), 22)
        self.assertIn(found["changing"].roles, ({"clerk"}, {"grower"}))

    def test_tables_of_an_application_are_asked_by_name(self) -> None:
        with self.directory.engine.begin() as connection:
            for statement in OTHER_TABLES:
                connection.execute(sa.text(statement))
        for name, queries, roles, groups, granted in MAPPINGS:
            with self.subTest(name):
                directory = self.open(queries={"member": "select * from staff where id = :id", **queries})
                directory.check()
                found = directory.member("3")
                self.assertEqual((found.roles, found.groups), (roles, groups))
                self.assertEqual(set(found.granted), granted)
                self.assertEqual((found.id, found.status, found.attributes["site"]), (3, "active", "north"))
                self.assertIsNone(directory.member("03"))
                self.assertIsNone(directory.member("ash"))
                with self.assertRaisesRegex(Unidentified, "member 4 is gone"):
                    directory.caller(4)
        with self.assertRaisesRegex(SettingsError, "seed writes to Bloodroot's alone"):
            seed_directory(directory, Seed((member("tess"),)), POLICY, no_password)
        with self.assertRaisesRegex(SettingsError, 'write members = "select id'):
            directory.members()
        listed = self.open(queries={**directory.settings.queries, "members": "select id from staff"})
        self.assertEqual([each.id for each in listed.members()], [3, 4])
        for query, message in (
            ("select duty from stuff where id = :id", "directory.queries.roles: .*stuff"),
            ("select from where :id", "directory.queries.roles: .*"),
        ):
            wrong = self.open(queries={"member": "select * from staff where id = :id", "roles": query})
            with self.assertRaisesRegex(SettingsError, message):
                wrong.check()

    def test_12_whoever_is_suspended_stays_so_however_columns_are_spelled(self) -> None:
        with self.directory.engine.begin() as connection:
            connection.execute(sa.text('create table crew (id integer, "Status" varchar(20), role varchar(20))'))
            connection.execute(sa.text("insert into crew values (3, 'suspended', 'curator'), (4, 'active', 'curator')"))
        roles = "select role from crew where id = :id"
        for member in (
            'select id as "ID", "Status" as status from crew where id = :id',
            'select id, "Status" from crew where id = :id',
            'select id as "Id", "Status" as "STATUS" from crew where id = :id',
        ):
            directory = self.open(queries={"member": member, "roles": roles})
            directory.check()
            self.assertEqual(directory.caller(4).roles, {"curator"})
            with self.subTest(member), self.assertRaisesRegex(Unidentified, "member 3 is suspended"):
                directory.caller(3)
        for member, message in (
            ("select id from crew where id = :id", r'directory.queries.member: the row needs a column "status"'),
            ('select "Status" as status from crew where id = :id', 'the row needs a column "id"'),
            ("select id, \"Status\", 'active' as status from crew where id = :id", 'the column "status" 2 times'),
        ):
            directory = self.open(queries={"member": member, "roles": roles})
            with self.subTest(member), self.assertRaisesRegex(SettingsError, message):
                directory.check()
            with self.assertRaisesRegex(SettingsError, message.rpartition(": ")[2]):
                directory.caller(3)

    def test_keys_of_text_are_found_too(self) -> None:
        with self.directory.engine.begin() as connection:
            connection.execute(sa.text("create table people (handle varchar(20), duty varchar(20))"))
            connection.execute(sa.text("insert into people values ('ash', 'curator')"))
        directory = self.open(
            queries={
                "member": "select handle as id, 'active' as status from people where handle = :id",
                "roles": "select duty from people where handle = :id",
            }
        )
        self.assertEqual(directory.caller("ash").roles, {"curator"})
        for asked in ("Ash", "ash ", 0, "' or 1=1 --", "a\0sh"):
            self.assertIsNone(directory.member(asked), asked)


OTHER_TABLES = (
    "create table staff (id integer primary key, status varchar(20), site varchar(20), duty varchar(40), team integer)",
    "insert into staff values (3, 'active', 'north', 'curator', 1), (4, 'gone', 'south', 'curator', 1)",
    "create table staff_duties (staff_id integer, duty varchar(40))",
    "insert into staff_duties values (3, 'botanist'), (3, 'registrar'), (4, 'auditor')",
    "create table teams (id integer primary key, name varchar(40), rights text, duties text)",
    """insert into teams values (1, 'vault', '{"lot": ["read", "edit"], "memo": {"read": true, "write": false}}',
       'curator, botanist')""",
)
MAPPINGS = [
    ("a column", {"roles": "select duty from staff where id = :id"}, {"curator"}, set(), set()),
    (
        "a table between members and roles",
        {"roles": "select duty from staff_duties where staff_id = :id"},
        {"botanist", "registrar"},
        set(),
        set(),
    ),
    (
        "a group with a map of permissions",
        {
            "groups": "select teams.name from teams join staff on staff.team = teams.id where staff.id = :id",
            "permissions": "select rights, 'team ' || teams.name as source from teams "
            "join staff on staff.team = teams.id where staff.id = :id",
        },
        set(),
        {"vault"},
        {"lot:read", "lot:edit", "memo:read"},
    ),
    (
        "names with commas",
        {"roles": "select duties from teams join staff on staff.team = teams.id where staff.id = :id"},
        {"curator", "botanist"},
        set(),
        set(),
    ),
]


class OnSQLite(Suite, InFolder):
    def new_url(self) -> str:
        return "sqlite:///members.db"

    def test_to_try_leaves_no_file_behind(self) -> None:
        self.seed(member("tess"), dry_run=True)
        self.assertEqual(list(self.folder.iterdir()), [])
        with self.assertRaisesRegex(SettingsError, "there is no database members.db yet; bloodroot seed FILE makes it"):
            self.directory.check()
        self.assertEqual(list(self.folder.iterdir()), [])


class OnPostgreSQL(Suite, InFolder):
    def new_url(self) -> str:
        return new_database()

    def test_permissions_in_a_column_of_json(self) -> None:
        with self.directory.engine.begin() as connection:
            connection.execute(sa.text("create table crews (id integer, rights jsonb, duties text[])"))
            connection.execute(sa.text("""insert into crews values (3, '{"lot": ["read"]}', array['curator'])"""))
        directory = self.open(
            queries={
                "member": "select id, 'active' as status from crews where id = :id",
                "roles": "select duties from crews where id = :id",
                "permissions": "select rights from crews where id = :id",
            }
        )
        found = directory.member(3)
        self.assertEqual((found.roles, set(found.granted)), ({"curator"}, {"lot:read"}))


class Unreachable(InFolder):
    def test_databases_that_are_not_there(self) -> None:
        for url, message in (
            ("postgresql+psycopg://127.0.0.1:1/none", "directory"),
            ("sqlite:///no/such/folder/members.db", "there is no database members.db yet"),
        ):
            with self.subTest(url=url), self.assertRaisesRegex(SettingsError, message):
                Directory(DirectoryTables(url), self.folder).check()
        for url, message in (
            ("members.db", "not a database URL that SQLAlchemy knows"),
            ("ferry://x", "not a database URL that"),
        ):
            with self.subTest(url=url), self.assertRaisesRegex(SettingsError, message):
                Directory(DirectoryTables(url), self.folder)


class Remembering(unittest.TestCase):
    def setUp(self) -> None:
        self.now = 100.0
        self.status = "active"
        self.asked = 0
        self.remembered = Remembered(self.find, 2, lambda: self.now)

    def find(self, asked: object) -> object:
        self.asked += 1
        return member_of({"member": [{"id": asked, "status": self.status}]}, asked)

    def test_an_answer_is_good_for_some_seconds(self) -> None:
        for passed, asked in ((0, 1), (1.9, 1), (0.1, 2), (1.9, 2), (5, 3)):
            self.now += passed
            self.assertEqual(self.remembered.found(3).status, "active")
            self.assertEqual(self.asked, asked)
        self.remembered.forget()
        self.remembered.found(3)
        self.assertEqual(self.asked, 4)

    def test_the_oldest_goes_where_there_are_too_many(self) -> None:
        with mock.patch.object(fresh, "_KEPT", 3):
            for number in (1, 2, 3, 4, 2, 3, 4):
                self.remembered.found(number)
            self.assertEqual(self.asked, 4)
            self.remembered.found(1)
            self.assertEqual(self.asked, 5)

    def test_zero_seconds_ask_every_time(self) -> None:
        every_time = Remembered(self.find, 0, lambda: self.now)
        every_time.found(3)
        every_time.found(3)
        self.assertEqual(self.asked, 2)

    def test_what_was_found_during_a_change_is_not_kept(self) -> None:
        def find(asked: object) -> object:
            found = self.find(asked)
            if self.asked == 1:
                self.status = "suspended"
                slow.forget()  # the change comes in between
            return found

        slow = Remembered(find, 2, lambda: self.now)
        self.assertEqual(slow.found(3).status, "active")
        self.assertEqual(slow.found(3).status, "suspended")

    def test_ids_of_other_kinds_are_other_ids(self) -> None:
        self.remembered.found(1)
        self.remembered.found("1")
        self.remembered.found(True)
        self.assertEqual(self.asked, 3)
