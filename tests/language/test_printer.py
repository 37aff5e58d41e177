"""One tidy form: idempotent, with every comment, and never another meaning."""

import json
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from bloodroot.language.data import to_data
from bloodroot.language.parser import parse
from bloodroot.language.printer import printed, tidy
from tests.core.random_policies import policies, written
from tests.core.test_properties import slowly
from tests.examples import examples
from tests.policies import TEXT
from tests.program import InFolder

ROOT = Path(__file__).parent.parent.parent
DEMO = ROOT / "src" / "bloodroot" / "demo" / "files" / "access.bloodroot"
EXAMPLES = [*DEMO.parent.glob("*.bloodroot"), *(ROOT / "docs").glob("**/*.bloodroot")]
SCHEMA = json.loads((ROOT / "docs" / "policy.schema.json").read_text("utf-8"))

UNTIDY = """

# first of all
policy   "Tarn"   # the name


# about roles
roles     # who
      keeper    includes   helper  accept  unused-role   "soon"   # keeps
      helper "helps, and \\"more\\""

      # a thought


      apart keeper,helper accept a "b"   accept c "d"
groups
  "crew"   helper   accept a "b"
permissions
  a:b   accept unheld-permission "soon"   "c"
conditions
  own  record.x==1   accept a "b" "Not yours."
endpoints
  GET   POST /a   ( keeper )   # one
  # between
  any /b     keeper or
     (helper     # inner
       # and below
       and not signed-out) if record.x==1  "b"
  POST /c keeper accept open-change "a public form" "c"
  # the last
# of the next
always
  /b keeper  accept a "b"
  PUT /c/** keeper if now>record.at and 1.50 in [record.x,2]
denials
  any /x any hide accept a "b"
  role status 403 "no"
fields thing
  * change nobody accept a "b"
  weight read keeper
# the end
"""
TIDY = """\
# first of all
policy "Tarn"  # the name

# about roles
roles  # who
  keeper  includes helper  accept unused-role "soon"  # keeps
  helper                   "helps, and \\"more\\""

  # a thought

  apart   keeper, helper   accept a "b" accept c "d"

groups
  "crew"  helper  accept a "b"

permissions
  a:b  accept unheld-permission "soon" "c"

conditions
  own  record.x == 1  accept a "b" "Not yours."

endpoints
  GET POST  /a  keeper  # one
  # between
  # inner
  # and below
  any       /b  keeper or helper and not signed-out if record.x == 1  "b"
  POST      /c  keeper  accept open-change "a public form" "c"
  # the last

# of the next
always
  /b         keeper  accept a "b"
  PUT /c/**  keeper if now > record.at and 1.5 in [record.x, 2]

denials
  /x any  hide accept a "b"
  role    status 403 "no"

fields thing
  *       change nobody  accept a "b"
  weight  read keeper

# the end
"""


class Tidy(unittest.TestCase):
    maxDiff = None

    def test_the_form(self) -> None:
        self.assertEqual(tidy(UNTIDY), TIDY)

    def test_the_examples_are_tidy(self) -> None:
        self.assertGreater(len(EXAMPLES), 3)
        for each in EXAMPLES:
            self.assertEqual(tidy(each.read_text("utf-8")), each.read_text("utf-8"), each.name)

    def test_it_is_idempotent_and_means_the_same(self) -> None:
        for text in (UNTIDY, TEXT, *(each.read_text("utf-8") for each in EXAMPLES)):
            once = tidy(text)
            self.assertEqual(tidy(once), once)
            self.assertEqual(parse(once), parse(text))
            self.assertEqual(sorted(_comments(once)), sorted(_comments(text)))

    @slowly
    @given(policies())
    def test_requirements_come_back_as_they_were(self, made: tuple[str, list[str], list[str]]) -> None:
        text = written(*made)
        once = tidy(text)
        self.assertEqual(parse(once), parse(text))
        self.assertEqual(tidy(once), once)
        self.assertEqual(parse(printed(parse(text))), parse(text))

    @examples(120)
    @given(st.lists(st.sampled_from([*UNTIDY.splitlines(), "", "# c", "  # c", "   # d"]), max_size=25))
    def test_lines_in_any_order_keep_their_comments(self, lines: list[str]) -> None:
        text = "\n".join(lines)
        try:
            document = parse(text)
        except Exception:
            return
        once = tidy(text)
        self.assertEqual(parse(once), document)
        self.assertEqual(tidy(once), once)
        self.assertEqual(sorted(_comments(once)), sorted(_comments(text)))

    def test_what_is_too_long_is_broken_where_parts_are_joined(self) -> None:
        grants = ", ".join(f"some-role-number-{number}" for number in range(12))
        text = f"permissions\n  a:b {grants}\nendpoints\n  GET /a {grants.replace(',', ' or')}\n"
        once = tidy(text)
        self.assertLess(max(map(len, once.splitlines())), 121)
        self.assertEqual(parse(once), parse(text))
        self.assertEqual(tidy(once), once)


def _comments(text: str) -> list[str]:
    from bloodroot.language.tokenizer import comment_in

    return [comment for line in text.splitlines() if (comment := comment_in(line))]


class AsData(unittest.TestCase):
    def test_the_data_of_a_policy_is_valid(self) -> None:
        validator = Draft202012Validator(SCHEMA)
        for text in (UNTIDY, TEXT, *(each.read_text("utf-8") for each in EXAMPLES)):
            validator.validate(json.loads(json.dumps(to_data(parse(text)))))

    @slowly
    @given(policies(), policies())
    def test_two_policies_have_the_same_data_only_where_they_say_the_same(
        self, made: tuple[str, list[str], list[str]], other: tuple[str, list[str], list[str]]
    ) -> None:
        one, tidied = parse(written(*made)), parse(tidy(written(*made)))
        Draft202012Validator(SCHEMA).validate(to_data(one))
        self.assertEqual(to_data(one), to_data(tidied))
        # The same roles and conditions with other lines: as near as two policies can be.
        for near in (written(*other), written(made[0], other[1], made[2]), written(made[0], made[1][1:], made[2])):
            self.assertEqual(to_data(parse(near)) == to_data(one), parse(near) == one, near)


class FormatCommand(InFolder):
    def test_files_standard_input_check_and_diff(self) -> None:
        tidied = tidy(UNTIDY)
        file = self.write("access.bloodroot", "x")
        file.write_text(UNTIDY, "utf-8")
        self.write("tidy.bloodroot", tidied)
        run = self.installed("format", "--check", "access.bloodroot", "tidy.bloodroot")
        self.assertEqual((run.status, run.out.splitlines()[0]), (1, "access.bloodroot is not tidy"))
        self.assertIn("1 to tidy, 1 tidy", run.out)
        run = self.installed("format", "--diff")
        self.assertEqual(run.status, 1)
        self.assertIn('-policy   "Tarn"   # the name\n', run.out)
        self.assertIn('+policy "Tarn"  # the name\n', run.out)
        self.assertEqual(file.read_text(), UNTIDY)
        run = self.installed("format", "-", stdin=UNTIDY)
        self.assertEqual((run.status, run.out), (0, tidied))
        run = self.installed("format")
        self.assertEqual((run.status, run.out, run.err), (0, "", "tidied access.bloodroot\n"))
        self.assertEqual(file.read_text(), tidied)
        self.assertEqual(self.installed("format", "--check").status, 0)

    def test_a_mistake_in_one_file_leaves_all_as_they_are(self) -> None:
        file = self.write("a.bloodroot", "roles\n    x\n")
        self.write("b.bloodroot", "roles\n  x y\n")
        run = self.bloodroot("format", "a.bloodroot", "b.bloodroot")
        self.assertEqual(run.status, 2)
        self.assertIn("b.bloodroot:2:5: did not expect", run.err)
        self.assertEqual(file.read_text(), "roles\n    x\n")
