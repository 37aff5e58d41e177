"""The full example: the sound application has no hole, each planted mistake in the other is found; and its results."""

import csv
import io
import json
import re
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

from jsonschema import Draft202012Validator

from tests.cli.test_check import planted
from tests.program import InFolder, forked

SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "results.schema.json").read_text("utf-8"))
Draft202012Validator.check_schema(SCHEMA)
RESULT = Draft202012Validator(SCHEMA)


def changed(text: str) -> str:
    """The example's policy after some changes: a role may do more, another less, and a condition is gone."""
    for old, new in (
        ("accession:add       curator", "accession:add       curator, botanist"),
        ("report:read         curator, auditor", "report:read         auditor"),
        ("member:suspend and not self", "member:suspend"),
        ("  GET       /reports/germination                 signed-in\n", ""),
    ):
        assert old in text
        text = text.replace(old, new)
    return text


class Tenants(InFolder):
    """The example with studios: what opens in one opens nothing in another."""

    def demo(self, *words: str) -> str:
        done = forked(self.folder, "demo", "--tenants", *words, self.folder / "house")
        self.assertEqual((done.status, done.err), (0, ""), done.out)
        return done.out

    def test_the_sound_application_agrees(self) -> None:
        out = self.demo()
        self.assertRegex(out, r"0 holes, 0 blocked, \d+ agree; 15 endpoints as 6 personas")
        self.assertRegex(out, r"Every one of \d+ requests was answered by its handler or refused by policy")
        self.assertIn("No findings", out)
        self.folder /= "house"
        record = ("--record", '{"studio_id": 2}')
        self.assertIn(
            "kiln 20 is in studio 2; the path says studio 1",
            self.ran("why", "editor-of-2", "GET", "/studios/1/kilns/20", *record),
        )
        self.assertIn(
            "the caller is editor in studio 2", self.ran("why", "editor-of-2", "GET", "/studios/2/kilns/20", *record)
        )
        held = {row["holds"]: row for row in csv.DictReader(io.StringIO(self.ran("members", "--format", "csv")))}
        self.assertIn("owner in studio 1", held)
        firing = ("why", "owner-of-1", "GET", "/kilns/10/firings/100")
        hint = """--records '{"kiln": {"studio_id": ...}, "firing": {"kiln_id": ...}}'"""
        self.assertIn(hint, self.ran(*firing))
        for kiln_of_firing, studio, said in (
            (10, 1, "as owner-of-1: allow"),
            (10, 2, "deny (role)"),
            (20, 1, "firing 100 is in kiln 20; the path says kiln 10"),
        ):
            records = {"firing": {"kiln_id": kiln_of_firing}, "kiln_id": {"studio_id": studio}}
            self.assertIn(said, self.ran(*firing, "--records", json.dumps(records)))
        for wrong, said in (('{"klin": {}}', 'did you mean "kiln"?'), ('{"kiln": 7}', "kiln must be a JSON object")):
            refused = self.bloodroot(*firing, "--records", wrong)
            self.assertEqual(refused.status, 2)
            self.assertIn(said, refused.err)
        RESULT.validate(json.loads(self.ran("why", "owner-of-1", "GET", "/studios/1", "--format", "json")))

    def test_every_planted_mistake_is_found_and_nothing_else(self) -> None:
        self.demo("--faulty")
        self.folder /= "house"
        probe = json.loads(self.bloodroot("probe", "--format", "json").out)
        RESULT.validate(probe)
        wrong = {(each["method"], each["path"]) for each in probe["observations"] if each["verdict"] != "agree"}
        self.assertEqual(
            wrong,
            {
                ("GET", "/kilns"),
                ("GET", "/studios/2/kilns/10"),
                ("GET", "/studios/1/kilns/20"),
                ("PATCH", "/studios/1/kilns/10"),
                ("PATCH", "/kilns/10/firings/100"),
                ("PATCH", "/kilns/20/firings/200"),
                ("PATCH", "/kilns/20/firings/201"),
            },
        )


class Demo(InFolder):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.bank = Path(folder.name) / "bank"
        done = forked(cls.bank.parent, "demo", cls.bank)
        assert done.status == 0, done.out + done.err
        cls.out = done.out

    def setUp(self) -> None:
        self.folder = self.bank

    def rows(self, *words: str) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(self.ran(*words, "--format", "csv"))))

    def test_the_sound_application_agrees(self) -> None:
        counted = re.search(r"0 holes, 0 blocked, (\d+) agree; (\d+) endpoints as (\d+) personas", self.out)
        assert counted is not None, self.out
        agreed, endpoints, personas = map(int, counted.groups())
        self.assertEqual(endpoints, len(self.rows("matrix")))
        self.assertEqual(personas, len(tomllib.loads((self.bank / "bloodroot.toml").read_text("utf-8"))["personas"]))
        self.assertGreaterEqual(agreed, endpoints * personas)
        self.assertRegex(self.out, r"Open one in a browser: file:///\S+/reports/matrix.html")
        for name in ("matrix.html", "observed.html", "probe.html", "matrix.png", "roles.png"):
            self.assertGreater((self.bank / "reports" / name).stat().st_size, 10_000, name)
        self.assertIn(f"Every one of {agreed} requests was answered by its handler or refused by policy", self.out)
        again = self.bloodroot("demo", ".")
        self.assertEqual(again.status, 2)
        self.assertIn("this file is there already", again.err)
        # SQLite finds member 5 by each of these; nobody suspends oneself by writing the number another way.
        for number in ("5", "05", "5.0", "%205", "5e0", "+5"):
            self.assertIn("deny (condition)", self.ran("why", "registrar", "POST", f"/members/{number}/suspend"))
        self.assertIn("allow", self.installed("why", "registrar", "POST", "/members/6/suspend").out)
        done = subprocess.run([sys.executable, "-m", "seedbank.reset"], cwd=self.folder, capture_output=True, text=True)
        self.assertEqual((done.returncode, done.stderr), (0, ""))

    def test_no_secret_is_in_the_files(self) -> None:
        self.assertEqual((self.bank / "secrets.env").stat().st_mode & 0o077, 0)
        secrets = [line.split("=", 1)[1] for line in (self.bank / "secrets.env").read_text().split()]
        for file in self.bank.rglob("*"):
            if file.is_file() and file.name != "secrets.env":
                for secret in secrets:
                    self.assertNotIn(secret.encode(), file.read_bytes(), file.name)

    def test_every_result_as_json_and_to_a_file(self) -> None:
        self.write("planted.bloodroot", planted((self.bank / "access.bloodroot").read_text("utf-8")))
        self.write("changed.bloodroot", changed((self.bank / "access.bloodroot").read_text("utf-8")))
        token = self.ran("token", "make", "two-hats").strip()
        for words, status, result in (
            (("matrix",), 0, "matrix"),
            (("matrix", "--personas"), 0, "matrix"),
            (("why", "two-hats", "POST", "/trials/7"), 0, "decision"),
            (("why", "visitor", "GET", "/desk"), 0, "decision"),
            (("why", "curator", "GET", "/trials//7"), 0, "decision"),
            (("why", "--path-only", "POST", "/trials/7"), 0, "lines"),
            (("why", "--who", "PATCH", "/api/trials/7", "--record", '{"botanist_id": 3}'), 0, "entrance"),
            (("roles",), 0, "roles"),
            (("matrix", "--open"), 0, "matrix"),
            (("matrix", "--only", "DELETE *", "--role", "botanist"), 0, "matrix"),
            (("members", "sorrel@fernhollow.example"), 0, "member"),
            (("members",), 0, "review"),
            (("compare", "access.bloodroot", "changed.bloodroot"), 0, "compare"),
            (("compare", "access.bloodroot", "changed.bloodroot", "--fail", "gained"), 1, "compare"),
            (("probe", "--only", "/trials*"), 0, "probe"),
            (("probe", "--list"), 0, "plan"),
            (("probe", "--methods", "GET", "--persona", "curator", "--stale", "10"), 0, "probe"),
            (("tried", ".bloodroot/probe.jsonl"), 0, "tried"),
            (("tried", ".bloodroot/probe.jsonl", "--personas", "--fail", "DELETE *"), 1, "tried"),
            (("ask", "volunteer", "GET", "/members"), 0, "ask"),
            (("seed", "members.toml"), 0, "seed"),
            (("token", "make", "curator"), 0, "made-token"),
            (("token", "read", token), 0, "token"),
            (("token", "read", f"{token[:-8]}AAAAAAAA"), 1, "token"),
            (("survey",), 0, "survey"),
            (("expect", "reviewed.csv", "--update"), 0, "expected"),
            (("expect", "reviewed.csv"), 0, "expected"),
            (("check",), 0, "check"),
            (("check", "--policy", "planted.bloodroot", "--fail-on", "note"), 1, "check"),
            (("format", "--check"), 0, "format"),
        ):
            with self.subTest(words):
                run = self.bloodroot(*words, "--out", "out.json")
                self.assertEqual((run.status, run.out), (status, ""), run.err)
                self.assertIn("wrote out.json", run.err)
                text = (self.bank / "out.json").read_text("utf-8")
                found = json.loads(text)
                RESULT.validate(found)
                self.assertEqual((found["format"], found["result"]), (1, result))
        self.assertEqual(self.ran("format", "--check", "--format", "json"), text)

    def test_lists_as_csv(self) -> None:
        for words, key in (
            (("probe", "--methods", "GET", "--only", "/trials*"), "observations"),
            (("members",), "members"),
            (("seed", "members.toml"), "rows"),
            (("matrix",), "rows"),
        ):
            with self.subTest(words):
                rows = self.rows(*words)
                found = json.loads(self.ran(*words, "--format", "json"))
                # A member has a row for each role and permission.
                self.assertEqual(len(rows), sum(len(item.get("holdings", "-")) or 1 for item in found[key]))
                self.assertTrue(all(None not in row and None not in row.values() for row in rows))
        run = self.bloodroot("why", "curator", "GET", "/desk", "--out", "why.csv")
        self.assertEqual(
            (run.status, run.err), (2, "this result has no csv format; write it as table, json, markdown or html\n")
        )
        run = self.bloodroot("matrix", "--out", "matrix.pdf")
        self.assertEqual(run.status, 2)
        self.assertIn(
            "its ending says no format; name it .txt, .json, .csv, .sarif, .xml, .html, .md, .png, .svg, or add --format",
            run.err,
        )
        self.ran("matrix", "--out", "matrix.txt", COLUMNS="100")
        text = (self.bank / "matrix.txt").read_text("utf-8")
        self.assertIn(f"Fernhollow Seed Bank: {len(self.rows('matrix'))} endpoints", text)
        self.assertLessEqual(max(map(len, text.splitlines())), 100)


class Faulty(InFolder):
    def test_each_planted_mistake_is_found(self) -> None:
        out = self.ran("demo", "--faulty", "bank")
        holes = [" ".join(part.split()) for part in out.split("HOLE")[1:]]
        for start, part in (
            ("POST /accessions/{accession_id} ", "declared sign-in (go /sign-in) for visitor"),
            ("GET /reports/{report} ", 'for visitor observed shows "Ghost lantern"'),
            ("GET /members ", "declared deny for guest observed let in"),
            ("GET /accessions ", 'observed shows "Ghost lantern"'),
            ("GET /api/accessions ", 'observed shows "Ghost lantern"'),
            ("POST /exchanges/{exchange_id}/send ", "observed answered 303, and changed the data all the same"),
        ):
            with self.subTest(start):
                found = [hole for hole in holes if hole.startswith(start)]
                self.assertEqual(len(found), 1, out)
                self.assertIn(part, found[0])
        self.assertEqual(len(holes), 6)
        self.assertIn("0 blocked", out)
        self.folder /= "bank"
        found = json.loads(self.ran("probe", "--format", "json", status=1))
        RESULT.validate(found)
        judged = [each["verdict"] for each in found["observations"]]
        self.assertEqual({name: judged.count(name) for name in found["counts"]}, found["counts"])
        shown = [each["template"] for each in found["observations"] if "Ghost lantern" in each["text"]]
        self.assertEqual(set(shown), {"/accessions", "/api/accessions", "/reports/{report}"})
