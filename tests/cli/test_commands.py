"""The installed program on files in a folder: what it prints, and how it ends."""

import csv
import io
import json
import re

from bloodroot import cli
from tests.policies import TEXT
from tests.program import InFolder


class Matrix(InFolder):
    def test_the_table(self) -> None:
        self.write("access.bloodroot", TEXT)
        out = self.ran("matrix")
        self.assertTrue(out.startswith("Tarn Bank: 20 endpoints, 7 kinds of caller; "), out[:80])
        self.assertIn("PATCH /plots/{plot_id}", out)
        self.assertIn("◐† own-plot", out)
        self.assertIn(
            '† and always: active (active is caller.status == "active", access.bloodroot:49 and 1 line more)', out
        )
        line = next(line for line in out.splitlines() if "/lots/{lot_id}.csv" in line)
        self.assertEqual(line.split(), ["GET", "/lots/{lot_id}.csv", "▷", "·", "·", "●", "·", "·", "·", "1"])

    def test_a_narrow_terminal_gets_letters(self) -> None:
        self.write("access.bloodroot", TEXT)
        self.write(
            "wide.bloodroot", TEXT.replace("reviewer", "a-reviewer-with-a-name-as-long-as-a-line-of-an-old-terminal")
        )
        out = self.ran("matrix", "--policy", "wide.bloodroot", COLUMNS="100")
        self.assertIn("A signed-out   B signed-in   C helper", out)

    def test_many_roles_are_shown_a_few_at_a_time(self) -> None:
        roles = "".join(f"  role{number}\n" for number in range(60))
        self.write("access.bloodroot", f"roles\n{roles}endpoints\n  GET /a role3 or role59\n")
        out = self.ran("matrix", COLUMNS="100")
        self.assertIn("columns 1 to ", out)
        self.assertIn(" of 62", out)
        self.assertLess(max(map(len, out.splitlines())), 161)
        self.assertEqual(len(set(re.findall(r"role\d+", out))), 60)
        self.assertEqual(sum(line.count("●") for line in out.splitlines() if "GET /a" in line), 2)

    def test_plain_signs_where_the_terminal_knows_no_others(self) -> None:
        self.write("access.bloodroot", TEXT)
        out = self.installed("matrix", PYTHONIOENCODING="ascii").out
        self.assertIn("? depends on the condition named", out)
        self.assertTrue(out.isascii())

    def test_csv_to_a_pipe_and_to_a_file(self) -> None:
        self.write("access.bloodroot", TEXT)
        text = self.ran("matrix", "--format", "csv")
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual(list(rows[0])[:4], ["method", "path", "signed-out", "signed-in"])
        found = {(row["method"], row["path"]): row for row in rows}
        self.assertEqual(found["PATCH", "/plots/{plot_id}"]["grower"], "if own-plot and active")
        self.assertEqual(found["GET", "/lots"]["signed-out"], "sign-in")
        self.assertEqual(found["any", "/lots/*/history"]["keeper"], "deny")
        run = self.bloodroot("matrix", "--out", "m.csv")
        self.assertEqual((run.status, run.out, run.err), (0, "", "wrote m.csv\n"))
        self.assertEqual((self.folder / "m.csv").read_text(), text)
        self.assertEqual(sorted(each.name for each in self.folder.iterdir()), ["access.bloodroot", "m.csv"])

    def test_colour_only_where_it_is_wanted(self) -> None:
        self.write("access.bloodroot", TEXT)
        self.assertNotIn("\x1b[", self.ran("matrix"))
        self.assertIn("\x1b[32m", self.ran("matrix", "--color", "always"))
        self.assertIn("\x1b[32m", self.ran("matrix", "--color", "always", NO_COLOR="1"))
        self.assertNotIn("\x1b[32m", self.ran("matrix", FORCE_COLOR="1", NO_COLOR="1"))
        self.assertNotIn("\x1b[32m", self.ran("matrix", "--color", "never", FORCE_COLOR="1"))

    def test_personas_have_columns_too(self) -> None:
        self.write("access.bloodroot", TEXT)
        self.write(
            "bloodroot.toml",
            """
            [personas.visitor]
            signed_in = false
            [personas.ivy]
            roles = ["grower"]
            attributes = { id = 3, status = "asleep" }
            """,
        )
        rows = list(csv.DictReader(io.StringIO(self.ran("matrix", "--personas", "--format", "csv"))))
        found = {(row["method"], row["path"]): (row["visitor"], row["ivy"]) for row in rows}
        self.assertEqual(found["PATCH", "/plots/{plot_id}"], ("sign-in", "deny"))
        self.assertEqual(found["GET", "/people/{person_id}"], ("sign-in", "if self"))


class Why(InFolder):
    def test_each_outcome_is_explained(self) -> None:
        self.write("access.bloodroot", TEXT)
        for words, parts in (
            (("keeper", "PATCH", "/plots/7"), ["depends", "Still to be known: active (active is caller.status"]),
            (("grower", "GET", "/lots/new"), ["deny (role)", "Roles that would be enough: keeper"]),
            (
                ("signed-out", "get", "/lots"),
                ["sign-in (signed-out)", "The caller gets 401", "enough: helper, reviewer"],
            ),
            (("clerk,reviewer", "GET", "/lots"), ["deny (apart)", "holds clerk and reviewer, which are kept apart"]),
            (("helper", "GET", "/nowhere"), ["deny (closed)", "no line covers GET /nowhere"]),
            (("helper", "GET", "/a/%2e%2e"), ["deny (ambiguous-path)", "more than one way"]),
            (("signed-in", "GET", "/people/7?x=1"), ["depends", 'self is "7" == caller.id']),
            (("keeper", "GET", "/lots/new"), ["allow", "access.bloodroot:33  GET /lots/new lot:edit"]),
        ):
            with self.subTest(" ".join(words)):
                out = self.ran("why", *words)
                for part in parts:
                    self.assertIn(part, out)

    def test_14_what_is_to_be_pasted_is_quoted_for_a_shell(self) -> None:
        self.write("access.bloodroot", "roles\n  keeper\nendpoints\n  any /** keeper\n")
        done = self.bloodroot("why", "--who", "GET", "/x/$(touch pwned)")
        self.assertIn("Next: bloodroot why signed-out GET '/x/$(touch pwned)' shows", done.out)
        line = '192.0.2.1 - - [04/May/2026:12:00:00 +0000] "GET {} HTTP/1.1" 200 5\n'
        self.write("access.log", "".join(map(line.format, ("/a/$(id)/b", "/`id`/c", "/d;id/e", "/f|id", "/g&id"))))
        done = self.bloodroot("draft", "access.log", "--out", "drafted.bloodroot")
        drafted = (self.folder / "drafted.bloodroot").read_text()
        self.assertEqual([sign for sign in "$`;|&" if sign in drafted], [], drafted)

    def test_the_senior_role_and_the_page_of_the_junior_one(self) -> None:
        self.write("access.bloodroot", TEXT)
        out = self.ran("why", "keeper", "GET", "/lots/7.csv")
        self.assertIn("requires reviewer; the caller has helper, grower, keeper", out)
        self.assertIn("Keeper includes helper, grower, and none of them is enough.", out)
        self.assertIn('If keeper should count as reviewer, write "keeper includes reviewer" under roles.', out)
        out = self.ran("why", "reviewer", "POST", "/parcels/weigh", "--record", "{}")
        self.assertIn("parcel:weigh is given to grower or clerk", out)

    def test_which_lines_cover_a_path(self) -> None:
        self.write("access.bloodroot", TEXT)
        out = self.ran("why", "--path-only", "get", "/lots/7")
        lines = [" ".join(line.split()) for line in out.splitlines()]
        self.assertEqual(lines[0], "GET /lots/7 is decided by access.bloodroot:34")
        self.assertEqual(lines[2:], [
            "decides access.bloodroot:34 GET /lots/{lot_id} lot:read",
            "less specific access.bloodroot:38 any /lots/** keeper",
        ])  # fmt: skip
        self.assertIn("and always  access.bloodroot:49", self.ran("why", "PATCH", "/plots/7", "--path-only"))
        self.assertIn("no line covers GET /x", self.ran("why", "GET", "/x", "--path-only"))
        self.assertIn("why needs WHO METHOD PATH", self.bloodroot("why", "GET", "/x").err)

    def test_json(self) -> None:
        self.write("access.bloodroot", TEXT)
        answered = json.loads(self.ran("why", "signed-out", "GET", "/lots", "--format", "json"))
        self.assertEqual(
            (answered["outcome"], answered["reason"], answered["answer"]["status"]), ("sign-in", "signed-out", 401)
        )
        self.assertEqual(
            answered["line"],
            {"place": {"file": "access.bloodroot", "line": 32, "column": 3}, "text": "GET /lots lot:read"},
        )
        self.assertEqual(answered["sufficient_roles"], ["helper", "reviewer", "grower", "clerk", "keeper"])
        answered = json.loads(self.ran("why", "GET", "/lots", "--format", "json", "--path-only"))
        self.assertEqual([each["place"]["line"] for each in answered["lines"]], [32, 38])

    def test_a_record_settles_it(self) -> None:
        self.write("access.bloodroot", TEXT)
        self.write("bloodroot.toml", '[personas.ivy]\nroles = ["grower"]\nattributes = { id = 3, status = "active" }\n')
        out = self.ran("why", "ivy", "PATCH", "/plots/7")
        self.assertIn("PATCH /plots/7 as ivy: depends", out)
        self.assertIn("Still to be known: own-plot (own-plot is record.grower_id == 3)", out)
        self.assertIn("Roles that would be enough: keeper", out)
        out = self.ran("why", "ivy", "PATCH", "/plots/7", "--record", '{"grower_id": 3}')
        self.assertIn("as ivy: allow", out)
        out = self.ran("why", "ivy", "PATCH", "/plots/7", "--record", '{"grower_id": 4}')
        self.assertIn("as ivy: deny (own-plot)", out)
        self.assertIn("The caller gets 403: Only its grower may change a plot.", out)


class Mistakes(InFolder):
    """Bad input gives one clear message, and exit status 2."""

    def test_messages(self) -> None:
        self.write("access.bloodroot", TEXT)
        self.write("bad.bloodroot", "roles\n  keeper\nendpoints\n  GET / keper\n  GOT /x keeper\n")
        self.write("folder/x", "")
        self.write("typo.toml", '[persona.ivy]\nroles = ["grower"]\n')
        self.write("not.toml", "this is = not = toml\n")
        self.write("stray.toml", '[personas.ivy]\nrole = ["grower"]\n')
        self.write("how.toml", '[probe.sign_in]\nhow = "magic"\npath = "/x"\n')
        self.write("bare.toml", 'policy = "access.bloodroot"\n')
        self.write("gone.toml", 'app = "nowhere:app"\n[personas.ivy]\nsigned_in = false\n')
        self.write("falls.toml", 'app = "falls:app"\n[personas.ivy]\nsigned_in = false\n')
        self.write("lost.toml", 'policy = "acces.bloodroot"\n')
        self.write(
            "names.toml", '[personas.ivy]\nroles = ["growr"]\n[samples.own-plt]\n[bodies]\n"POST /lot" = { json = 1 }\n'
        )
        self.write("falls.py", "import this_is_not_there\n")
        for words, message in (
            (
                ("matrix", "--policy", "none.bloodroot"),
                "there is no file none.bloodroot; there is access.bloodroot, bad.blood",
            ),
            (("matrix", "--policy", "acces.bloodroot"), 'no file acces.bloodroot; did you mean "access.bloodroot"?'),
            (("matrix", "--settings", "lost.toml"), 'which lost.toml names as the policy; did you mean "access.blood'),
            (
                ("matrix", "--settings", "names.toml"),
                'names.toml:2: personas.ivy.roles: the policy knows no role "growr"',
            ),
            (("matrix", "--settings", "names.toml"), "names.toml:3: samples.own-plt: the policy knows no condition"),
            (("matrix", "--settings", "names.toml"), 'names.toml:5: bodies."POST /lot": the policy knows no endpoint'),
            (("why", "keeper", "GET", "lots"), '"lots" is no path: a path begins with /, as in /lots'),
            (("why", "keeper", "GTE", "/lots"), '"GTE" is no method; did you mean "GET"?'),
            (("why", "keeper", "G T", "/lots"), '"G T" is no method; did you mean "GET"?'),
            (("matrix", "--policy", "folder"), "this is a folder, not a policy file"),
            (
                ("matrix", "--policy", "bad.bloodroot"),
                'bad.bloodroot:4:9: unknown role "keper"; did you mean "keeper"?',
            ),
            (("matrix", "--policy", "bad.bloodroot"), '"GOT" is no method that HTTP knows; did you mean "GET"?'),
            (
                ("matrix", "--out", "matrix.docx"),
                "its ending says no format; name it .txt, .json, .csv, .sarif, .xml, .html, .md, .png, .svg, or add --format",
            ),
            (("matrix", "--out", "nowhere/m.csv"), "--out nowhere/m.csv: there is no folder nowhere"),
            (("probe", "--out", "p.pdf"), "its ending says no format"),
            (("matrix", "--personas"), "there are no personas"),
            (("matrix", "--format", "poster"), "poster"),
            (("matrix", "--settings", "typo.toml"), 'typo.toml:1: persona: unknown key; did you mean "personas"?'),
            (("matrix", "--settings", "not.toml"), "not.toml: this is not TOML"),
            (
                ("matrix", "--settings", "stray.toml"),
                'stray.toml:2: personas.ivy.role: unknown key; did you mean "roles"?',
            ),
            (
                ("probe", "--settings", "how.toml"),
                "how.toml:2: probe.sign_in.how: this must be one of form, json, bearer, basic, header",
            ),
            (("probe",), "there is no bloodroot.toml here or further up; write it, or name one with --settings FILE"),
            (("probe", "--settings", "bare.toml"), "there are no personas to ask as"),
            (("probe", "--settings", "gone.toml"), "cannot be imported: ModuleNotFoundError"),
            (("probe", "--settings", "falls.toml"), "No module named 'this_is_not_there' (falls.py:1)"),
            (("why", "kepper", "GET", "/"), 'unknown role "kepper"; did you mean "keeper"?'),
            (("why", "keeper", "GET", "/", "--record", "{"), "--record is not JSON"),
            (("why", "keeper", "GET", "/", "--record", "[]"), "--record must be a JSON object"),
        ):
            with self.subTest(" ".join(words)):
                run = self.bloodroot(*words)
                self.assertEqual((run.status, run.out), (2, ""), run.err)
                self.assertIn(message, run.err)

    def test_help_and_version(self) -> None:
        self.assertIn("bloodroot 0.", self.ran("--version"))
        out = self.installed("--help").out
        for name, command in cli._COMMANDS.items():
            self.assertIn(name, out)
            # Without importing a command, help says what the command says of itself.
            # A terminal would take brackets in a help text for colours, and leave them out.
            self.assertFalse([o.name for o in cli._made(name).params if "[" in (getattr(o, "help", None) or "")])
            said = (cli._made(name).help or "").partition("\n")[0]
            self.assertEqual(said, command.summary, name)
        self.assertIn("Usage", self.ran("why", "-h"))
        self.assertIn("Did you mean 'matrix'?", self.bloodroot("matrx").err)

    def test_a_pipe_that_closes_early_is_no_fault(self) -> None:
        import subprocess

        from tests.program import PROGRAM

        self.write("access.bloodroot", TEXT)
        done = subprocess.run(
            ["sh", "-c", f"{PROGRAM} matrix | head -c 10"], cwd=self.folder, capture_output=True, text=True, timeout=60
        )
        self.assertEqual(done.stderr, "")
