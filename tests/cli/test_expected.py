"""bloodroot expect: a matrix compared with reviewed tables."""

from __future__ import annotations

import json
import unittest

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.review.expected import ExpectedRow, hold_against, matrix_as_it_is
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
WHOLE = TABLE + (
    "GET,/,allow,allow,allow,allow\n"
    "GET,/lots,sign-in,deny,allow,allow\n"
    "GET,/lots/{id},sign-in,deny,if own,allow\n"
    "POST,/lots/{id},sign-in,deny,if own,allow\n"
    "any,/office/**,sign-in,deny,deny,allow\n"
)


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
        self.assertIn("Wrote new.csv: 0 cells changed, 5 endpoints added. Have it reviewed.", run.out)
        self.assertEqual((self.folder / "new.csv").read_text("utf-8"), WHOLE)
        found = self.held(WHOLE)
        self.assertEqual((found["agreed"], found["mismatches"], found["unsaid"]), (20, [], []))
        # The CSV of the matrix is such a table as well.
        self.assertEqual(self.bloodroot("matrix", "--format", "csv").out, WHOLE)

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
        self.assertEqual([each["template"] for each in found["unsaid"]], ["/", "/lots/{id}"])  # type: ignore[attr-defined]
        shown = self.bloodroot("expect", "0.csv")
        self.assertEqual(shown.status, 1)
        self.assertIn("4 cells not as in 0.csv, 3 as expected", shown.out)
        self.assertIn("PUT /lost", shown.out)
        # Blessed, it says the same of the same cells, as they are; what nothing covers is gone, what was missing is there.
        self.assertEqual(self.bloodroot("expect", "0.csv", "--update").status, 0)
        self.assertEqual(
            (self.folder / "0.csv").read_text("utf-8"),
            TABLE + "GET,/lots,,deny,allow,allow\nPOST,/lots/{other},,,if own,allow\nDELETE,/office/desk,,,,allow\n"
            "GET,/,allow,allow,allow,allow\nGET,/lots/{id},sign-in,deny,if own,allow\n",
        )
        self.assertEqual(self.bloodroot("expect", "0.csv").status, 0)

    def test_the_csv_of_the_matrix_is_a_table(self) -> None:
        policy = self.folder / "access.bloodroot"
        policy.write_text(policy.read_text() + "  any /desk/** helper\nalways\n  POST DELETE /desk/** keeper\n")
        table = self.ran("matrix", "--format", "csv")
        self.assertIn("POST DELETE,/desk/**,", table)
        self.write("desk.csv", table)
        out = self.ran("expect", "desk.csv")
        self.assertIn("Every cell that the tables have is as expected, and every endpoint is in them.", out)
        self.ran("expect", "desk.csv", "--update")
        self.assertEqual(self.folder.joinpath("desk.csv").read_text(), table)
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
        self.assertTrue(out.startswith("2 cells not as in seen.csv, 1 as expected\n"), out)
        self.assertRegex(out, r"GET /office/b +all 1 +an answer +not asked +seen.csv:3")
        self.assertRegex(out, r"any /office/\*\* +all 1 +an answer +not asked +seen.csv:4")
        # The policy says it of each.
        self.assertIn("3 cells as in seen.csv", self.ran("expect", "seen.csv", "--personas"))
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
        self.ran("expect", "seen.csv", "--observed", "probe.jsonl")
        # The policy and the table say another condition now; the application was seen to follow the old one.
        policy = self.folder / "access.bloodroot"
        policy.write_text(
            policy.read_text()
            .replace("helper if own", "helper if early")
            .replace("  own ", "  early record.at < now\n  own ")
        )
        self.write("seen.csv", "method,path,ash\nGET,/lots/{id},if early\n")
        self.ran("expect", "seen.csv", "--personas")
        self.assertRegex(self.ran("expect", "seen.csv", "--observed", "probe.jsonl", status=1), "if early +if own")

    def test_columns_of_personas_and_in_any_order(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["helper"]\n')
        self.write("0.csv", "path,method\n")
        self.assertIn("the first columns must be method and path", self.bloodroot("expect", "0.csv").err)
        self.write("0.csv", "method,path,ash\nGET,/lots,allow\n")
        self.assertEqual(self.bloodroot("expect", "0.csv", "--personas").status, 0)
        self.assertIn('unknown column "ash"', self.bloodroot("expect", "0.csv").err)
        self.assertEqual(self.held("method,path,keeper,helper\nGET,/lots,allow,allow\n")["agreed"], 2)

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


class Held(unittest.TestCase):
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
        self.assertEqual(hold_against(matrix_as_it_is(policy, matrix), rows).mismatches, ())
