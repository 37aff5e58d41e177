"""Every result in every format that the registry says it has."""

import contextlib
import csv
import io
import json
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.report.registry import RESULTS, Format, formats_table, written
from bloodroot.report.results import MatrixResult
from tests.program import InFolder

# Names that would be markup, where a writer took them for it.
HOSTILE = '"<script>alert(1)</script> *x* `y` | ![z](javascript:1)"'
POLICY = f"""
    policy {HOSTILE}
    roles
      helper  default           {HOSTILE}
      keeper  includes helper
    groups
      {HOSTILE}  keeper
    permissions
      lot:edit  keeper
    conditions
      own  record.owner == caller.id  {HOSTILE}
    endpoints
      GET   /               anyone
      GET   /lots/{{lot}}   helper if own
      PUT   /lots/{{lot}}   lot:edit
      GET   /vault          keeper and own
"""
SETTINGS = """
    policy = "access.bloodroot"
    [directory]
    url = "sqlite:///members.db"
    [personas.ash]
    roles = ["keeper"]
    [personas.visitor]
    signed_in = false
"""
MEMBERS = f"""
    [[members]]
    login = {HOSTILE}
    groups = [{HOSTILE}]
"""
AUDIT = '{"method": "GET", "path": "/", "outcome": "allow", "caller": 1, "time": "2026-10-01T10:00:00+00:00"}\n'
COMMANDS = {
    "check": ("check",),
    "compare": ("compare", "old.bloodroot"),
    "expected": ("expect", "reviewed.csv"),
    "decision": ("why", "keeper", "GET", "/vault"),
    "entrance": ("why", "--who", "GET", "/vault"),
    "lines": ("why", "--path-only", "GET", "/vault"),
    "matrix": ("matrix",),
    "member_access": ("members", "1"),
    "review": ("members", "--log", "audit.jsonl"),
    "roles": ("roles",),
    "seed": ("seed", "members.toml"),
    "tried": ("tried", "audit.jsonl"),
}
SELDOM = {Format.PNG, Format.SVG, Format.JSON, Format.TABLE}  # tested where they are


class Formats(InFolder):
    def test_each_result_in_each_of_its_formats(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("old.bloodroot", POLICY.replace("keeper and own", "keeper"))
        self.write("bloodroot.toml", SETTINGS)
        self.write("members.toml", MEMBERS)
        self.write("audit.jsonl", AUDIT)
        self.ran("seed", "members.toml")
        self.ran("matrix", "--out", "reviewed.csv")
        self.write("reviewed.csv", (self.folder / "reviewed.csv").read_text().replace("allow", "deny", 1))
        kinds = {kind.name: kind for kind in RESULTS.values()}
        for name, words in COMMANDS.items():
            for form in set(kinds[name].formats) - SELDOM:
                with self.subTest(name, form=form.value):
                    run = self.bloodroot(*words, "--format", form)
                    self.assertIn(run.status, (0, 1), run.err)
                    if form is Format.HTML:
                        self.assertTrue(run.out.startswith("<!doctype html>"), run.out[:80])
                        self.assertNotIn("<script>alert", run.out)
                    if form is Format.MARKDOWN:
                        self.assertTrue(run.out.startswith("### "), run.out)
                        outside = "".join(run.out.split("`")[::2])
                        self.assertNotRegex(outside, r"(?<!\\)<script|(?<!\\)!\[z|(?<!\\)\*x")
                        widths = {row.replace("\\|", "").count("|") for row in _first_table(run.out)}
                        self.assertLessEqual(len(widths), 1, run.out)
                    if form is Format.CSV:
                        rows = list(csv.reader(io.StringIO(run.out)))
                        self.assertEqual({len(row) for row in rows}, {len(rows[0])})

    def test_names_of_a_directory_are_no_commands_to_a_terminal_or_a_spreadsheet(self) -> None:
        self.write("access.bloodroot", POLICY)
        own = "[directory.queries]\nmember = \"select id, name, 'active' as status from staff where id = :id\"\n"
        own += 'members = "select id from staff"\nroles = "select name from staff where id = :id"\n'
        self.write("bloodroot.toml", f'[directory]\nurl = "sqlite:///staff.db"\n{own}')
        for name in ("\x1b[2Jash", "\x9b31mash", "\rash", "\t=1+1", "=cmd()", "\u202eash", "ash\x07"):
            with self.subTest(name):
                with contextlib.closing(sqlite3.connect(self.folder / "staff.db")) as connection, connection:
                    connection.execute("drop table if exists staff")
                    connection.execute("create table staff (id integer, name text)")
                    connection.execute("insert into staff values (1, ?)", [name])
                for words in (
                    ("members",),
                    ("members", "1"),
                    ("members", "--format", "json"),
                    ("members", "--format", "csv"),
                ):
                    out = self.ran(*words)
                    self.assertTrue(all(each.isprintable() or each == "\n" for each in out), repr(out))
                self.assertNotRegex(out, "(?m)(^|,)[=+@-]")

    def test_what_is_unknown_is_refused_with_a_way_out(self) -> None:
        self.write("access.bloodroot", POLICY)
        for words, message in (
            (("matrix", "--format", "junit"), '--format "junit" is unknown here; write table, json, csv'),
            (("matrix", "--format", "markdwn"), 'did you mean "markdown"?'),
            (("why", "keeper", "GET", "/", "--out", "x.png"), "this result has no png format; write it as table, json"),
        ):
            run = self.bloodroot(*words)
            self.assertEqual((run.status, run.out), (2, ""))
            self.assertIn(message, run.err)
        self.assertFalse((self.folder / "x.png").exists())

    def test_a_list_is_written_as_it_is_made(self) -> None:
        lines = "".join(f"  GET /things{number}/{{thing_id}}  anyone\n" for number in range(50))
        policy = bloodroot.parse(f"endpoints\n{lines}")
        pieces = written(MatrixResult(policy, matrix_of_roles(policy)), Format.JSON)
        assert isinstance(pieces, Iterator)
        every = list(pieces)
        self.assertLess(max(map(len, every)), 2000)
        self.assertEqual(len(json.loads("".join(every))["rows"]), 50)

    def test_the_document_says_what_the_registry_says(self) -> None:
        document = (Path(__file__).parents[2] / "docs" / "formats.md").read_text("utf-8")
        self.assertIn(formats_table(), document)


def _first_table(text: str) -> list[str]:
    rows: list[str] = []
    for line in text.splitlines():
        if line.startswith("|"):
            rows.append(line)
        elif rows:
            break
    return rows
