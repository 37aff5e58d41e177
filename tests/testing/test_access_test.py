"""Access tests in an application's own suite: Flask, Django with its own test case, and the demo."""

import json
import os
import re

from tests.probe.swap import HOLES
from tests.probe.swap.project import ROOT, SwapProject
from tests.program import forked_python, python_alone, write_bank

FLASK = """
    from bloodroot.testing import AccessTest

    class Access(AccessTest):
        def test_mine(self):
            self.assertEqual(self.client("ash").get("/packets/11/").status_code, 200)
            self.assertEqual(self.client("wren").post("/packets/11/edit", form={"species": "x"}).status_code, 403)
            self.assertEqual(self.client("ash").post("/packets/11/edit", form={"species": "x"}).status_code, 303)
            self.assertEqual(self.client("signed-out").get("/packets/11/").headers["location"].partition("?")[0], "/sign-in")
            with self.assertRaisesRegex(Exception, 'unknown persona "ashh"'):
                self.client("ashh")
            with self.assertRaisesRegex(AttributeError, "with a persona first"):
                self.client.get("/")
"""
DJANGO = """
    import sys
    from tests.probe import swap
    from tests.probe.swap import django_app
    from django.db import connection
    from django.test import TestCase
    from django.test.runner import DiscoverRunner
    from bloodroot.testing import AccessTest

    class Access(AccessTest, TestCase):
        @classmethod
        def setUpTestData(cls):
            cursor = connection.cursor()
            cursor.execute("create table if not exists packet (id integer primary key, owner integer, status text, species text)")
            cursor.execute("create table if not exists person (id integer primary key, name text, role text)")
            for number, (owner, status) in swap.PACKETS.items():
                species = "Ghost lantern" if number == 91 else "Moth grass"
                cursor.execute("insert into packet values (%s, %s, %s, %s)", [number, owner, status, species])
            for name, (number, role) in swap.PEOPLE.items():
                cursor.execute("insert into person values (%s, %s, %s)", [number, name, role])

        def test_mine(self):
            self.assertEqual(self.client("ash").get("/packets/11/").status_code, 200)
            self.assertEqual(self.client.get("/").status_code, 200)

    sys.exit(bool(DiscoverRunner(verbosity=1).run_tests([__file__.rpartition("/")[2].removesuffix(".py")]))) if __name__ == "__main__" else None
"""


class Suites(SwapProject):
    def suite(self, text: str, status: int, *words: str, **environment: str) -> str:
        self.write("suite.py", text)
        path = os.pathsep.join((str(ROOT), str(self.folder)))
        start = python_alone if text is DJANGO else forked_python
        done = start(self.folder, *(words or ("-m", "unittest", "suite")), **{**environment, "PYTHONPATH": path})
        self.assertEqual(done.status, status, done.err)
        return done.err

    def test_flask(self) -> None:
        for app in ("make", "protected"):
            with self.subTest(app):
                environment = self.project("flask", f"tests.probe.swap.flask_app:{app}()")
                self.assertIn("Ran 23 tests", self.suite(FLASK, 0, **environment))
        # Every decision was written down, those of test_mine too.
        out = self.ran("tried", ".bloodroot/tests.jsonl", "--personas", **environment)
        self.assertIn("120 of 120 cells tried, by ", out)
        lines = [json.loads(line) for line in (self.folder / ".bloodroot" / "tests.jsonl").read_text().splitlines()]
        mine = [line for line in lines if line.get("path") == "/packets/11/edit" and line["caller"] == 2]
        self.assertEqual({(line["outcome"], *line["roles"]) for line in mine}, {("deny", "member")})

    def test_holes(self) -> None:
        environment = self.project("flask")
        names = ["desk-open", "makes-oneself-steward", "list-shows-all"]
        said = self.suite(FLASK, 1, **environment, SWAP_HOLES=",".join(names))
        self.assertEqual(
            set(re.findall(r"hole: (\w+ \S+) as (\w+)", said)),
            {("GET /desk", "visitor")}
            | {("POST /members/1/role", who) for who in ("ash", "wren", "rowan", "reed")}
            | {("GET /packets/", who) for who in ("ash", "wren", "rowan", "reed")},
        )
        self.assertTrue(set(names) <= set(HOLES))

    def test_django_takes_changes_back(self) -> None:
        for kind in ("bare", "protected"):
            with self.subTest(kind):
                environment = self.project("django", reset="yes")
                file = self.folder / "bloodroot.toml"
                file.write_text(file.read_text().replace('reset = "tests.probe.swap:reset"', ""))
                said = self.suite(DJANGO, 0, "suite.py", **environment, SWAP_KIND=kind, SWAP_CONNECTION="django")
                self.assertRegex(said, r"Ran \d\d tests")
        said = self.suite(DJANGO, 1, "suite.py", **environment, SWAP_CONNECTION="django", SWAP_HOLES="form-for-anyone")
        self.assertEqual(
            set(re.findall(r"hole: (\w+ \S+) as (\w+)", said)),
            {("POST /packets/new/", "rowan"), ("POST /packets/new/", "reed")},
        )

    def test_what_cannot_be_tested_fails(self) -> None:
        environment = self.project("flask")
        file = self.folder / "bloodroot.toml"
        whole = file.read_text()
        for text, message in (
            (
                whole.replace('reset = "tests.probe.swap:reset"', ""),
                "and nothing puts it back; write reset under [probe]",
            ),
            (whole.replace("flask_app:make", "flask_app:lost"), "cannot be imported"),
            (whole.replace("[samples.own]", "[samples.mine]"), 'the policy knows no condition "mine"'),
        ):
            with self.subTest(message):
                file.write_text(text)
                self.assertIn(
                    message, self.suite(FLASK.split("        def test_mine")[0] + "        pass\n", 1, **environment)
                )

    def test_the_demo_over_asgi(self) -> None:
        self.folder = write_bank(self.folder / "bank")
        file = self.folder / "bloodroot.toml"
        settings = file.read_text()
        # Which record suits whom is for the records themselves to say, and what is in them alone.
        samples = settings[settings.index("[samples.own-trial]") : settings.index("[samples.self]")]
        candidates = settings.replace(samples, "").replace("accession_id = 1\ntrial_id = 7", "trial_id = [7, 8, 9]")
        candidates += '\n[probe.values.accession_id]\nlist = "/api/accessions"\nat = "*.id"\nas = "curator"\n'
        file.write_text(candidates)
        self.assertIn("As declared: 0 holes", self.ran("probe"))
        file.write_text(candidates.replace("[7, 8, 9]", "[7, 99]"))
        self.assertIn("samples.trial_id: there is no record for 99", self.bloodroot("probe").err)
        file.write_text(candidates)
        text = """
            from bloodroot.testing import AccessTest

            class Access(AccessTest):
                sign_in = True
        """
        rows = self.ran("matrix", "--format", "csv").count("\n") - 1
        self.assertIn(f"Ran {rows} tests", self.suite(text, 0))
        self.assertIn("Every cell was tried.", self.ran("tried", ".bloodroot/tests.jsonl"))
        # Handlers that look into the session themselves cannot be acted in: that is not judged, and skipped.
        said = self.suite(
            text.replace("sign_in = True", "sign_in = False"),
            0,
            "-m",
            "unittest",
            "-v",
            "suite.Access.test_POST_trials",
        )
        self.assertIn("where handlers look into the session themselves, write sign_in = True", said)
