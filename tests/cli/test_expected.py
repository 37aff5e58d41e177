"""bloodroot expect: a matrix compared with reviewed tables."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.review.expected import Held, hold_against, matrix_as_it_is
from bloodroot.review.reviewed_table import ExpectedRow, Table
from tests.cli.test_demo import RESULT
from tests.program import InFolder

POLICY = """
    roles
      keeper  includes helper
      helper

    conditions
      own  record.owner == caller.id

    endpoints
      GET         /              anyone
      GET         /lots          helper
      GET POST    /lots/{id}     keeper or helper if own
      any         /office/**     keeper
"""
TABLE = "method,path,signed-out,signed-in,helper,keeper\n"
CELLS = TABLE + (
    "GET,/,allow,allow,allow,allow\n"
    "GET,/lots,sign-in,deny,allow,allow\n"
    "GET,/lots/{id},sign-in,deny,if own,allow\n"
    "POST,/lots/{id},sign-in,deny,if own,allow\n"
    "any,/office/**,sign-in,deny,deny,allow\n"
)
DEFINITIONS = "\nrole,keeper,includes helper\nrole,helper,\ncondition,own,record.owner == caller.id\n"
WHOLE = CELLS + DEFINITIONS


class Expected(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)

    def held(self, *tables: str, status: int = 0) -> dict[str, object]:
        names = []
        for number, table in enumerate(tables):
            self.write(f"{number}.csv", table)
            names.append(f"{number}.csv")
        run = self.bloodroot("expect", *names, "--format", "json")
        self.assertEqual((run.status, run.err), (status, ""), run.out)
        found: dict[str, object] = json.loads(run.out)
        RESULT.validate(found)
        return found

    def test_a_table_of_all_of_it(self) -> None:
        run = self.bloodroot("expect", "new.csv", "--update")
        self.assertEqual(run.status, 0, run.err)
        self.assertIn("Wrote new.csv: 0 cells changed, 5 endpoints added, 3 definitions written.", run.out)
        self.assertEqual((self.folder / "new.csv").read_text("utf-8"), WHOLE)
        found = self.held(WHOLE)
        self.assertEqual((found["agreed"], found["mismatches"], found["unsaid"]), (23, [], []))
        # The CSV of the matrix has the same cells.
        self.assertEqual(self.bloodroot("matrix", "--format", "csv").out, CELLS)

    def test_cells_that_differ_and_what_is_not_said(self) -> None:
        table = (
            TABLE
            + "GET,/lots,,deny,deny,allow\nPOST,/lots/{other},,,if own,deny\nDELETE,/office/desk,,,,deny\nPUT,/lost,,,deny,\n"
        )
        found = self.held(table, status=1)
        said = [
            (each["method"], each["template"], each["column"], each["expected"], each["actual"], each["table"]["line"])
            for each in found["mismatches"]
        ]  # type: ignore[attr-defined]
        self.assertEqual(
            said,
            [
                ("GET", "/lots", "helper", "deny", "allow", 2),
                ("POST", "/lots/{other}", "keeper", "deny", "allow", 3),
                ("DELETE", "/office/desk", "keeper", "deny", "allow", 4),
                ("PUT", "/lost", "helper", "deny", "no line", 5),
            ],
        )
        self.assertEqual(found["agreed"], 3)
        unsaid = [(each["methods"], each["template"]) for each in found["unsaid"]]  # type: ignore[attr-defined]
        # What a table says of one method and one address, it does not say of the whole line.
        self.assertEqual(unsaid, [(["GET"], "/"), (["GET"], "/lots/{id}"), (["any"], "/office/**")])
        shown = self.bloodroot("expect", "0.csv")
        self.assertEqual(shown.status, 1)
        self.assertIn("4 cells, 3 definitions, 3 endpoints not as in 0.csv; 3 as expected", shown.out)
        self.assertIn("PUT /lost", shown.out)
        # Blessed, it says the same of the same cells, as they are; what nothing covers is gone, what was missing is there.
        self.assertEqual(self.bloodroot("expect", "0.csv", "--update").status, 0)
        self.assertEqual(
            (self.folder / "0.csv").read_text("utf-8"),
            TABLE + "GET,/lots,,deny,allow,allow\nPOST,/lots/{other},,,if own,allow\nDELETE,/office/desk,,,,allow\n"
            "GET,/,allow,allow,allow,allow\nGET,/lots/{id},sign-in,deny,if own,allow\n"
            "any,/office/**,sign-in,deny,deny,allow\n" + DEFINITIONS,
        )
        # Empty cells are left as they are, and are not judged.
        self.assertIn(
            "21 cells and definitions as in 0.csv; 6 cells of it empty", self.ran("expect", "0.csv", status=3)
        )
        self.ran("expect", "0.csv", "--allow-unjudged")

    def test_the_csv_of_the_matrix_is_a_table(self) -> None:
        policy = self.folder / "access.bloodroot"
        policy.write_text(policy.read_text() + "  any /desk/** helper\nalways\n  POST DELETE /desk/** keeper\n")
        table = self.ran("matrix", "--format", "csv")
        self.assertIn("POST DELETE,/desk/**,", table)
        self.write("desk.csv", table)
        self.assertIn("4 definitions not as in desk.csv; 32 as expected", self.ran("expect", "desk.csv", status=1))
        self.ran("expect", "desk.csv", "--update")
        self.assertTrue(self.folder.joinpath("desk.csv").read_text().startswith(table))
        out = self.ran("expect", "desk.csv")
        self.assertIn("Every cell and every definition is as expected, and everything is in the tables.", out)
        # One of the two methods changes: the row is two.
        policy.write_text(policy.read_text().replace("POST DELETE /desk/**", "DELETE /desk/**"))
        self.assertRegex(self.ran("expect", "desk.csv", status=1), r"POST /desk/\*\* +helper +deny +allow")
        self.ran("expect", "desk.csv", "--update")
        rows = self.folder.joinpath("desk.csv").read_text().splitlines()
        self.assertIn("DELETE,/desk/**,sign-in,deny,deny,allow", rows)
        self.assertIn("POST,/desk/**,sign-in,deny,allow,allow", rows)
        self.ran("expect", "desk.csv")

    def test_of_an_application_nothing_is_concluded_from_one_endpoint_to_another(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["keeper"]\n')
        asked = {"endpoint": "GET /office/a", "verdict": "agree", "let_in": True, "outcome": "allow", "status": 200}
        line = json.dumps({"judged": ["GET", "/office/a", "ash", "", ""], **asked})
        # What is not a judged request says nothing: an odd spelling, another line of a journal, half a line.
        others = json.dumps({"judged": ["GET", "/office/b", "ash", "", "case"], **asked}), '{"end": true}', '{"judged'
        self.write("probe.jsonl", "\n".join((line, *others)) + "\n")
        self.write("seen.csv", "method,path,ash\nGET,/office/a,allow\nGET,/office/b,allow\nany,/office/**,allow\n")
        out = self.ran("expect", "seen.csv", "--observed", "probe.jsonl", status=1)
        self.assertTrue(out.startswith("2 cells not as in seen.csv; 1 as expected\n"), out)
        self.assertRegex(out, r"GET /office/b +all 1 +an answer +not asked +seen.csv:3")
        self.assertRegex(out, r"any /office/\*\* +all 1 +an answer +not asked +seen.csv:4")
        # The policy says it of each.
        self.assertIn("; 3 as expected", self.ran("expect", "seen.csv", "--personas", status=1))
        self.write("probe.jsonl", '{"end": true}\n')
        run = self.bloodroot("expect", "seen.csv", "--observed", "probe.jsonl")
        self.assertEqual(run.status, 2)
        self.assertIn("there is no judged request in it", run.err)

    def test_what_was_observed_is_not_read_as_what_is_declared_since(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["helper"]\n')
        lines = []
        for number, (holds, outcome) in enumerate(((True, "allow"), (False, "deny"))):
            values = {"endpoint": "GET /lots/{id}", "verdict": "agree", "let_in": holds, "outcome": outcome}
            lines.append(
                json.dumps({"judged": ["GET", f"/lots/{number}", "ash", "", ""], "known": {"own": holds}, **values})
            )
        self.write("probe.jsonl", "\n".join(lines) + "\n")
        self.write("seen.csv", "method,path,ash\nGET,/lots/{id},if own\n")
        out = self.ran("expect", "seen.csv", "--observed", "probe.jsonl", status=3)
        self.assertIn("probe.jsonl: the run was not ended", out)
        # What the probe itself found counts, also where every cell agrees.
        for more, status, words in (
            ({"end": True, "untried": 0}, 0, ""),
            ({"end": True, "untried": 2}, 3, "probe.jsonl: 2 not tried"),
            ({"end": True, "untried": 0, "doubts": ["nothing puts it back"]}, 3, "probe.jsonl: nothing puts it back"),
            ({"faults": ["signing in leads nowhere"]}, 1, "probe.jsonl: signing in leads nowhere"),
            ({"judged": ["GET", "/lots/1", "ash", "", "case"], "verdict": "hole"}, 1, "1 let in against the policy"),
        ):
            with self.subTest(words):
                self.write("probe.jsonl", "\n".join((*lines, json.dumps(more))) + "\n")
                self.assertIn(words, self.ran("expect", "seen.csv", "--observed", "probe.jsonl", status=status))
        self.write("probe.jsonl", "\n".join((*lines, '{"end": true, "untried": 0}')) + "\n")
        # The policy and the table say another condition now; the application was seen to follow the old one.
        policy = self.folder / "access.bloodroot"
        policy.write_text(
            policy.read_text()
            .replace("helper if own", "helper if early")
            .replace("  own ", "  early record.at < now\n  own ")
        )
        self.write("seen.csv", "method,path,ash\nGET,/lots/{id},if early\n")
        self.assertRegex(self.ran("expect", "seen.csv", "--personas", status=1), "definitions.*1 as expected")
        self.assertRegex(self.ran("expect", "seen.csv", "--observed", "probe.jsonl", status=1), "if early +if own")

    def test_columns_of_personas_and_in_any_order(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["helper"]\n')
        self.write("0.csv", "path,method\n")
        self.assertIn("the first columns must be method and path", self.bloodroot("expect", "0.csv").err)
        self.write("0.csv", "method,path,ash\nGET,/lots,allow\n")
        self.assertIn("1 as expected", self.bloodroot("expect", "0.csv", "--personas").out)
        self.assertIn('unknown column "ash"', self.bloodroot("expect", "0.csv").err)
        found = self.held("method,path,keeper,helper\nGET,/lots,allow,allow\n", status=1)
        self.assertEqual((found["agreed"], found["callers"]), (2, ["signed-out", "signed-in"]))

    def test_what_cannot_be_read(self) -> None:
        for table, message in (
            ("", "0.csv:1: the first columns must be method and path"),
            ("method,path,kepeer\n", '0.csv:1: unknown column "kepeer"; did you mean "keeper"?'),
            ("method,path,keeper,keeper\n", '0.csv:1: the column "keeper" is there twice'),
            (TABLE + "GET,/lots,,,,alow\n", '0.csv:2: keeper: "alow" is no outcome; did you mean "allow"?'),
            (TABLE + "GET,lots,,,,allow\n", "0.csv:2: lots: a path begins with /"),
            (TABLE + "GET,/lots,,,,allow,deny\n", "0.csv:2: this row has more cells than the table has columns"),
            (TABLE + "GET,/lots,,,,allow\nGET,/lots,,,,allow\n", "0.csv:3: GET /lots is in line 2 already"),
            (TABLE + 'GET,"/lots,,,,allow\n', "not valid CSV"),
            (TABLE + "conditon,own,x\n", '0.csv:2: "conditon" is no method; did you mean "condition"?'),
            (TABLE + "group,a,b\ngroup,a,c\n", "0.csv:3: group a is in line 2 already"),
            (TABLE + "group,a,b,c\n", "0.csv:2: the row of a definition has three cells"),
        ):
            with self.subTest(table):
                self.write("0.csv", table)
                for more in ((), ("--update",)):
                    run = self.bloodroot("expect", "0.csv", *more)
                    self.assertEqual((run.status, run.out), (2, ""))
                    self.assertIn(message, run.err)
                    self.assertEqual((self.folder / "0.csv").read_text("utf-8"), table)
        self.write("0.csv", TABLE + "GET,/lots,,,,allow\n")
        self.write("1.csv", TABLE + "GET,/lots/,,,,deny\n")
        run = self.bloodroot("expect", "0.csv", "1.csv")
        self.assertEqual((run.status, run.out), (2, ""))
        self.assertIn("1.csv:2: GET /lots/ is deny for keeper here, and allow in 0.csv:2", run.err)
        self.assertIn("there is no such file; --update writes one", self.bloodroot("expect", "lost.csv").err)
        self.assertEqual(self.bloodroot("expect", "--update").status, 2)
        self.assertIn(
            "--update writes one table",
            self.bloodroot("expect", "0.csv", "1.csv", "--update").err,
        )


REVIEWED = """
    policy "orchard" zone "Europe/Oslo"
    roles
      keeper  includes helper
      helper
      auditor
      apart keeper, auditor
    groups
      "staff"  helper
    permissions
      lot:edit  keeper, helper if own and early
    conditions
      own    record.owner == caller.id
      early  now < record.due
    endpoints
      GET       /lots         helper
      GET POST  /lots/{id}    keeper or helper if own and early
      PUT       /lots/{id}    lot:edit
      DELETE    /lots/{id}    keeper and auditor
      any       /office/**    keeper and not auditor
    always
      any /office/**  own except /office/door
    denials
      /lots/**  any  hide
    fields lot
      price  read keeper
"""
# Each changes access; the cells of a column for each role show only some of them.
EDITS = (
    ("record.owner == caller.id", "record.owner != none"),
    ("      apart keeper, auditor\n", ""),
    ("      auditor\n", "      auditor\n      chief includes keeper\n"),
    ('"staff"  helper', '"staff"  helper, keeper'),
    ('      "staff"  helper\n', '      "staff"  helper\n      "all"  keeper\n'),
    ("price  read keeper", "price  read anyone"),
    ("      price  read keeper\n", ""),
    ("    always", "      GET /new  anyone\n    always"),
    ("GET       /lots  ", "GET POST  /lots  "),
    ("keeper and auditor", "nobody"),
    ("keeper and not auditor", "keeper"),
    ("lot:edit\n      DELETE", "keeper or helper if own and early\n      DELETE"),
    ("lot:edit  keeper, ", "lot:edit  "),
    (" except /office/door", ""),
    ("any  hide", "any  status 403"),
    ("Europe/Oslo", "Asia/Tokyo"),
    ("      helper\n      auditor", "      helper default\n      auditor"),
    ("now < record.due", "now < record.due or record.free"),
)


class Edits(InFolder):
    def test_every_edit_that_changes_access_is_seen(self) -> None:
        self.write("access.bloodroot", REVIEWED)
        self.ran("expect", "reviewed.csv", "--update")
        self.ran("expect", "reviewed.csv")
        for before, after in EDITS:
            with self.subTest(before, after=after):
                self.assertEqual(REVIEWED.count(before), 1)
                self.write("access.bloodroot", REVIEWED.replace(before, after))
                self.assertIn("not as in reviewed.csv", self.ran("expect", "reviewed.csv", status=1))
        for table in (TABLE, "\n" + TABLE):
            (self.folder / "heads.csv").write_text(table.replace("keeper", "auditor,keeper"))
            self.ran("expect", "heads.csv", status=1)
        self.write("access.bloodroot", REVIEWED)
        self.ran("expect", "heads.csv", "--update")
        self.assertEqual((self.folder / "heads.csv").read_text(), (self.folder / "reviewed.csv").read_text())

    def test_the_order_of_terms_makes_no_difference(self) -> None:
        self.write("access.bloodroot", REVIEWED)
        self.ran("expect", "reviewed.csv", "--update")
        text = REVIEWED.replace("keeper, helper if own and early", "helper if early and own, keeper")
        text = text.replace("own and early", "early and own").replace("keeper, auditor", "auditor, keeper")
        text = text.replace("keeper and not auditor", "not auditor and keeper")
        self.write("access.bloodroot", text.replace("GET POST", "POST GET"))
        self.ran("expect", "reviewed.csv")


class HeldAgainst(unittest.TestCase):
    def test_methods_that_standing_rules_treat_differently(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nconditions\n  active caller.status == 1\nendpoints\n  any /a keeper\n"
            "always\n  POST /a active\n"
        )
        matrix = matrix_of_roles(policy)
        rows = [
            ExpectedRow("t", number, method, "/a", {"keeper": cell})
            for number, (method, cell) in enumerate((("GET", "allow"), ("POST", "if active"), ("any", "allow")))
        ]
        held = Held(matrix_as_it_is(policy, matrix), ["keeper"])
        table = Table(Path("t"), ("keeper",), tuple(rows))
        self.assertEqual(hold_against(held, [table]).mismatches, ())
