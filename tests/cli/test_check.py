"""bloodroot check as a program: its formats and options, the example with planted mistakes, and what it says at failure."""

from __future__ import annotations

import json
import re
import shlex
from pathlib import Path

import jsonschema

from bloodroot.checks.checking import KINDS
from bloodroot.demo import write_demo
from tests.program import InFolder

ROOT = Path(__file__).parents[2]
SARIF = json.loads((ROOT / "tests" / "data" / "sarif-2.1.0.schema.json").read_text("utf-8"))
TEXT = (ROOT / "docs" / "findings.md").read_text("utf-8")

# Mistakes in the policy of the seed bank: what is written in the place of what, and the finding that it leads to.
PLANTED = (
    ("POST      /accessions/{accession_id}           accession:edit", "POST /accessions/{accession_id} accession:read", "action-wider-than-form"),
    ("DELETE    /api/trials/{trial_id}               trial:edit", "DELETE /api/trials/{trial_id} botanist", "write-without-condition"),
    ("GET       /api/exchanges                       exchange:read", "GET /api/exchanges signed-in", "api-differs"),
    ("POST      /sign-out                            signed-in", "POST /sign-out anyone", "open-change"),
    ("GET POST  /sign-in                             signed-out", "GET /sign-in signed-out\n  POST /sign-in signed-in", "closed-sign-in"),
    ("GET       /reports/germination                 signed-in", "GET /reports/germnation signed-in", "line-without-endpoint"),
    ("GET       /reports/{report}                    report:read", "GET /reports/* volunteer and not botanist", "senior-refused"),
    ("  guest-registrar                      \"follows", "  intern\n  guest-registrar \"follows", "unused-role"),
    ("  report:read         curator, auditor", "  report:read curator, auditor\n  reports:read curator", "similar-names"),
    ("  member:list         registrar, auditor", "  member:list registrar, auditor\n  member:rename registrar", "unused-permission"),
    ("  accession:add       curator", "  accession:add curator, curator", "needless-grant"),
    ("  accession:withdraw  curator", "  accession:withdraw nobody", "unheld-permission"),
    ("  \"front-office\"   registrar", "  \"front-office\" registrar, auditor", "apart-joined"),
    ("  self          path", "  ended caller.ended < now and caller.ended > now\n  self path", "never-holds"),
    ("  POST /members/**      active", "  POST /member/** active", "rule-without-endpoint"),
    ("accept hidden-page-given-away", "accept hidden-page", "hidden-page-given-away"),
    ("accept hidden-page-given-away", "accept hidden-page", "stale-accept"),
)  # fmt: skip


def planted(text: str) -> str:
    """The policy of the seed bank with all of these mistakes."""
    for before, after, _ in {each[0]: each for each in PLANTED}.values():
        assert before in text, before
        text = text.replace(before, after)
    return text


class Check(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.folder /= "bank"
        write_demo(self.folder, faulty=False)

    def test_the_example_is_clean_and_each_planted_mistake_is_found(self) -> None:
        policy = self.folder / "access.bloodroot"
        sound = policy.read_text("utf-8")
        self.assertIn("No findings: 37 endpoint lines and 38 endpoints of seedbank.app:app checked", self.ran("check"))
        for before, after, name in PLANTED:
            with self.subTest(name):
                policy.write_text(sound.replace(before, after), "utf-8")
                run = self.bloodroot("check", "--format", "json")
                found = json.loads(run.out)["findings"]
                self.assertIn(name, {each["name"] for each in found}, run.out)
                severity = KINDS[name].severity
                self.assertEqual(run.status, int(any(each["severity"] != "note" for each in found)))
                # That the directory may grant a permission makes it less bad that nobody holds it.
                expected = "note" if name == "unheld-permission" else severity
                self.assertIn(expected, {each["severity"] for each in found})
        policy.write_text(planted(sound), "utf-8")
        found = json.loads(self.bloodroot("check", "--format", "json").out)["findings"]
        self.assertLessEqual({name for *_, name in PLANTED}, {each["name"] for each in found})
        commands = [each["witness"]["command"] for each in found if each["witness"] and each["witness"]["command"]]
        self.assertGreater(len(commands), 3)
        for command in commands:
            # A witness is let in, as the finding says, or depends on what nothing is known of.
            said = self.bloodroot(*shlex.split(command)[1:], "--format", "json")
            self.assertIn(json.loads(said.out)["outcome"], ("allow", "depends"), command)

    def test_formats(self) -> None:
        policy = self.folder / "access.bloodroot"
        policy.write_text(planted(policy.read_text("utf-8")), "utf-8")
        run = self.bloodroot("check", "--out", "found.sarif")
        self.assertEqual((run.status, run.out, run.err), (1, "", "wrote found.sarif\n"))
        sarif = json.loads((self.folder / "found.sarif").read_text("utf-8"))
        jsonschema.Draft4Validator(SARIF).validate(sarif)
        results = sarif["runs"][0]["results"]
        rules = sarif["runs"][0]["tool"]["driver"]["rules"]
        self.assertEqual([rule["id"] for rule in rules], list(KINDS))
        for result in results:
            self.assertEqual(rules[result["ruleIndex"]]["id"], result["ruleId"])
        found = json.loads(self.bloodroot("check", "--format", "json").out)
        self.assertEqual(len(found["findings"]) + len(found["accepted"]), len(results))
        lines = self.bloodroot("check", "--format", "lines").out.splitlines()
        self.assertEqual(len(lines), len(found["findings"]))
        for line, finding in zip(lines, found["findings"], strict=True):
            match = re.fullmatch(r"(\S+):(\d+):(\d+): (error|warning|note): (.+) \[([a-z-]+)\]", line)
            assert match is not None, line
            place = finding["place"]
            self.assertEqual(
                match.groups()[:4], (place["file"], str(place["line"]), str(place["column"]), finding["severity"])
            )
            self.assertEqual(match[6], finding["name"])
        table = self.bloodroot("check").out
        for finding in found["findings"]:
            self.assertIn(finding["name"], table)

    def test_only_and_fail_on(self) -> None:
        policy = self.folder / "access.bloodroot"
        policy.write_text(
            policy.read_text("utf-8").replace("  accession:add       curator", "  accession:add curator, curator"),
            "utf-8",
        )
        for words, status in (
            ((), 0),
            (("--fail-on", "note"), 1),
            (("--fail-on", "error"), 0),
            (("--fail-on", "never"), 0),
            (("--only", "needless-grant", "--fail-on", "note"), 1),
            (("--only", "open-change, unused-role", "--fail-on", "note"), 0),
        ):
            self.assertEqual(self.bloodroot("check", *words).status, status, words)
        self.assertIn(
            'there is no finding of the name "open-chnge"; did you mean "open-change"?',
            self.bloodroot("check", "--only", "open-chnge").err,
        )

    def test_the_policy_alone_and_what_cannot_be_checked(self) -> None:
        (self.folder / "bloodroot.toml").unlink()
        policy = self.folder / "access.bloodroot"
        text = policy.read_text("utf-8")
        policy.write_text(
            text.replace("  action    send_exchange", "  POST      /exchanges/{exchange_id}/send"), "utf-8"
        )
        said = self.ran("check")
        self.assertIn("No findings: 37 endpoint lines checked", said)
        self.assertIn("no endpoints were looked at", said)
        policy.write_text(text, "utf-8")
        self.assertIn("1 line names an action, and there is no application", self.bloodroot("check").out)
        for words, said in (
            (("--policy", "lost.bloodroot"), "there is no file lost.bloodroot"),
            (("lost.json",), "there is no such file"),
            (("lost:app",), "No module named 'lost'"),
        ):
            run = self.bloodroot("check", *words)
            self.assertEqual((run.status, run.out), (2, ""), words)
            self.assertIn(said, run.err)


class Documented(InFolder):
    def test_every_finding_has_its_heading_and_no_other(self) -> None:
        headings = re.findall(r"(?m)^### (\S+)$", TEXT)
        self.assertEqual(sorted(headings), sorted(KINDS))
        plain = " ".join(TEXT.split())
        for kind in KINDS.values():
            self.assertIn(f"### {kind.name} *{kind.severity.value}* — {kind.summary}", plain)
            self.assertIn(f"What to do: {kind.remedy}", plain)
