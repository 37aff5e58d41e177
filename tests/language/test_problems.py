"""Every mistake is found, told with its place, and comes with a way out."""

import os
import unittest

from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import PolicyError
from bloodroot.language.printer import tidy
from tests.examples import examples
from tests.language.test_printer import DEMO, UNTIDY
from tests.policies import TEXT
from tests.program import InFolder

HEAD = "roles\n  helper\n  keeper includes helper\npermissions\n  lot:edit keeper\nconditions\n  own record.by == caller.id\n"
END = "endpoints\n  GET / anyone\n"

# The end of a policy that is right but for this; where it goes wrong; what is said of it.
MISTAKES = (
    # words and characters
    ("endpoints\n  GET /a keeper;", "9:16", 'the character ";" has no meaning here; entries go one to a line'),
    ("endpoints\n  GET /a keeper && helper", "9:17", '"&" has no meaning here; write "and"'),
    ("endpoints\n  GET /a keeper | helper", "9:17", 'write "or"'),
    ("endpoints\n  GET /a !keeper", "9:10", 'write "not", or != to compare'),
    ("conditions\n  x record.a = 1", "9:14", "compare with =="),
    ("conditions\n  x record.a == 'b'", "9:17", "text is written between double quotes"),
    ('conditions\n  x record.a == "b', "9:17", "this string is not closed"),
    ("endpoints\n  GET /a lot: edit", "9:13", 'a permission is "thing:verb", without blanks'),
    ("roles\n  2nd-shift", "9:3", "a name begins with a letter"),
    ("roles\n  -x", "9:3", "a name begins with a letter"),
    ("roles\n  a\tincludes helper", None, None),
    ("roles\n\ta", "9:1", "a tab in the indentation; use spaces"),
    ("roles\n  a \x07", "9:5", "an invisible character, U+0007, is not shown as what it is; leave it out"),
    ('roles\n  a "\u202eb"', "9:6", "an invisible character, U+202E, is not shown as what it is; leave it out"),
    ("# \u2067\nroles\n  a", "8:3", "an invisible character, U+2067, is not shown as what it is; leave it out"),
    (
        "endpoints\n  GET /a\u200bb anyone",
        "9:9",
        "an invisible character, U+200B, is not shown as what it is; leave it out",
    ),
    ("roles\n  a “b”", "9:5", 'the character "“" has no meaning here'),
    # layout
    ("  GET / anyone", "8:7", None),
    (
        "endpoints\n    GET /a anyone\n  GET /b anyone",
        "10:1",
        "the entries of this section are indented by 4, this one by 2",
    ),
    ("endpoints GET /a anyone", "8:11", "entries follow the header, one to a line and indented"),
    ('policy "x"\n  a b', "9:3", "this section has no entries"),
    # sections
    ("rolls\n  x", "8:1", 'unknown section "rolls"; did you mean "roles"?'),
    ("stuff\n  x", "8:1", 'unknown section "stuff"; sections are policy, include, roles'),
    ('policy "a"\npolicy "b"', "9:1", "this policy has a name already"),
    ("policy a", "8:8", "expected the name of the policy between double quotes"),
    ('include "x.bloodroot"', "8:1", "a string cannot include files"),
    ("fields", "8:7", "expected a kind of record, found the end of the line"),
    # roles and groups
    ("roles\n  helper", "9:3", 'role "helper" is declared already, in t:2'),
    ("roles\n  x includes helpr", "9:14", 'unknown role "helpr"; did you mean "helper"?'),
    ("roles\n  x include helper", "9:5", 'did you mean "includes"?'),
    ("roles\n  x includes", "9:13", "expected a role, found the end of the line"),
    ("roles\n  x includes helper,", "9:21", "expected a role, found the end of the line"),
    ("roles\n  x includes y\n  y includes x", "9:3", "these roles include each other in a circle: x → y → x"),
    ("roles\n  and", "9:3", '"and" is a word of the language and cannot name a role'),
    ("roles\n  a.b", "9:3", '"a.b" is not a name for a role: letters, digits, - and _'),
    ("roles\n  apart keeper", "9:3", "apart needs at least two roles"),
    ("roles\n  apart keeper, helper", "9:3", 'role "keeper" holds keeper and helper, which this line keeps apart'),
    ("roles\n  x default\n  y default\n  apart x, y", "11:3", "every signed-in caller holds x and y by default, which"),
    ("groups\n  staff helper", "9:3", 'expected the name of a group between double quotes, found "staff"'),
    ('groups\n  "staff" helpers', "9:11", 'unknown role "helpers"; did you mean "helper"?'),
    ('groups\n  "a" helper\n  "a" keeper', "10:3", 'group "a" is declared already'),
    # permissions
    ("permissions\n  edit keeper", "9:3", 'expected a permission such as thing:verb, found "edit"'),
    ("permissions\n  lot:edit helper", "9:3", 'permission "lot:edit" is declared already, in t:5'),
    ("permissions\n  lot:*:x keeper", "9:3", "* can only be the last part"),
    ("permissions\n  lot.x:edit keeper", "9:3", "colons between its parts, not dots"),
    ("permissions\n  lot:sell keeper helper", "9:19", "grants have commas between them"),
    ("permissions\n  lot:sell keper", "9:12", 'unknown role "keper"; did you mean "keeper"?'),
    ("permissions\n  lot:sell keeper if helper", "9:22", '"helper" is a role; what follows "if" is a condition'),
    ("permissions\n  lot:sell keeper if owm", "9:22", 'unknown condition "owm"; did you mean "own"?'),
    # conditions
    ("conditions\n  keeper record.a == 1", "9:3", '"keeper" is the name of a role already'),
    ("conditions\n  own record.a == 1", "9:3", 'condition "own" is declared already, in t:7'),
    ("conditions\n  x y\n  y x", "9:3", "these conditions rest on each other in a circle: x → y → x"),
    ("conditions\n  x", "9:4", "expected something to compare or the name of a condition, found the end of the line"),
    ("conditions\n  x recrd.a == 1", "9:5", '"recrd" is nothing that can be asked; did you mean "record"?'),
    ("conditions\n  x thing.a == 1", "9:5", "a reference begins with caller, record, records, path, query or args"),
    ("conditions\n  x record == 1", "9:5", '"record" alone says nothing; write record.name'),
    ("conditions\n  x 3", "9:5", "a value alone is not a condition"),
    ("conditions\n  x [1, 2]", "9:5", "a value alone is not a condition"),
    ("conditions\n  x 1 == 2 == 3", "9:12", "comparisons do not chain"),
    ("conditions\n  x own == 1", "9:5", '"own" is the name of a condition and cannot be compared'),
    ("conditions\n  x (own) == 1", "9:5", None),
    ("conditions\n  x record.a not 1", "9:18", 'expected "in" after "not"'),
    ("conditions\n  x record.a in [1, 2", "9:17", "this bracket is not closed"),
    ("conditions\n  x (record.a == 1", "9:5", "this parenthesis is not closed"),
    ("conditions\n  x " + "(" * 60 + "own" + ")" * 60, None, "nested more than 40 deep"),
    ("conditions\n  x record.a == " + "1" * 50, "9:17", "a number has at most 40 digits"),
    # endpoints
    ("endpoints\n  get /a keeper", "9:3", '"get" is not a method; write GET'),
    ("endpoints\n  GTE /a keeper", "9:3", '"GTE" is no method that HTTP knows; did you mean "GET"?'),
    ("endpoints\n  GET, POST /a keeper", "9:6", "methods have blanks between them, not commas"),
    ("endpoints\n  GET GET /a keeper", "9:7", "GET is here twice"),
    ("endpoints\n  /a keeper", "9:3", 'expected a method such as GET, any or action, found "/a"'),
    ("endpoints\n  GET a keeper", "9:7", '"a" is not a method; methods are written in capitals'),
    ("endpoints\n  GET /a", "9:9", "expected a role, a permission or a condition, found the end of the line"),
    ("endpoints\n  GET /a curator", "9:10", 'unknown role or condition "curator"'),
    ("endpoints\n  GET /a Keeper", "9:10", 'unknown role "Keeper"; did you mean "keeper"?'),
    ("endpoints\n  GET /a lot:edti", "9:10", 'unknown permission "lot:edti"; did you mean "lot:edit"?'),
    ("endpoints\n  GET /a lot:*", "9:10", "* may only be granted"),
    ("endpoints\n  GET /a keeper helper", "9:17", 'did not expect "helper" here'),
    (
        "endpoints\n  GET /a keeper or",
        "9:19",
        "expected a role, a permission or a condition, found the end of the line",
    ),
    ("endpoints\n  GET /a keeper if own or helper", "9:24", "put what belongs together between parentheses"),
    ("endpoints\n  GET /a//b keeper", "9:7", "a path has no empty segment"),
    ("endpoints\n  GET /a/{b keeper", "9:7", "has no partner"),
    ("endpoints\n  GET /**/a keeper", "9:7", "** can only be the last segment"),
    ("endpoints\n  GET /{a}/{a} keeper", "9:7", "is in this path twice"),
    (
        "endpoints\n  GET /a keeper\n  POST GET /a/ helper",
        "10:12",
        "GET /a/ covers the same requests as the line in t:9",
    ),
    ("endpoints\n  GET /{a} keeper\n  GET /{b} helper", "10:7", "covers the same requests as the line in t:9"),
    ("endpoints\n  GET /a/{b} keeper if path.c == 1", "9:7", "this requires path.c, and the path has {b}"),
    ("endpoints\n  action 3 keeper", "9:10", "expected the name of an action"),
    ("endpoints\n  action a, b keeper\n  action b helper", "10:10", "action b has a line already, in t:9"),
    ('endpoints\n  GET /a keeper accept "b"', "9:24", "expected a finding"),
    ("endpoints\n  GET /a keeper accept b", "9:25", "expected why the finding is right between double quotes"),
    ('endpoints\n  GET /a keeper accept b " "', "9:26", "this says nothing; write why the finding is right here"),
    # always, denials, fields
    ("always\n  GET keeper", "9:7", '"keeper" is not a method'),
    ("denials\n  signed-out", "9:13", 'expected "status", "go" or "hide"'),
    ("denials\n  sigend-out hide", "9:3", 'unknown reason "sigend-out"; did you mean "signed-out"?'),
    ("denials\n  role status 200", "9:15", 'expected a status from 400 to 599, found "200"'),
    ("denials\n  role status x", "9:15", "expected a status from 400 to 599"),
    ("denials\n  role go there", "9:11", 'expected the page to go to, which begins with /, found "there"'),
    ("denials\n  role go /there", "9:3", "this leads to /there, which no line covers"),
    ("denials\n  role go /{a}", "9:11", "a redirect leads to one page"),
    ("denials\n  role hide\n  role status 403", "10:3", "the denial in t:9 answers the same refusals"),
    ('denials\n  role hide "x"', "9:13", 'did not expect "x" here'),
    ("fields lot\n  weight", "9:9", 'expected "read" or "change" and who may'),
    ("fields lot\n  weight change keeper read helper", "9:24", '"read" first and "change" after it'),
    ("fields lot\n  weight read keeper\n  weight read helper", "10:3", 'field "weight" has an entry already, in t:9'),
    ("fields lot\n  weight read keepr", "9:15", 'unknown role "keepr"; did you mean "keeper"?'),
)


class Mistakes(unittest.TestCase):
    def test_each_is_told_with_its_place(self) -> None:
        for text, place, message in MISTAKES:
            with self.subTest(text):
                own = "endpoints" in text or "t /" in text
                whole = HEAD + text + ("" if own else "\n" + END)
                if place is None and message is None:
                    bloodroot.parse(whole, "t")
                    continue
                with self.assertRaises(PolicyError) as caught:
                    bloodroot.parse(whole, "t")
                reported = [str(problem) for problem in caught.exception.problems]
                if place is not None:
                    self.assertTrue(any(each.startswith(f"t:{place}: ") for each in reported), reported)
                if message is not None:
                    self.assertTrue(any(message in each for each in reported), reported)
                    self.assertEqual(len(reported), 1, "one mistake, one message")

    def test_there_are_enough_of_them(self) -> None:
        self.assertGreater(len({text for text, _, message in MISTAKES if message}), 85)

    def test_several_in_one_text_are_all_told(self) -> None:
        text = "roles\n  a includes b\n  c %\nconditions\n  x record.a = 1\nendpoints\n  GET /a d\n  POST /b c if x\n  get /c a\n"
        with self.assertRaises(PolicyError) as caught:
            bloodroot.parse(text, "t")
        places = [f"{each.place.line}:{each.place.column}" for each in caught.exception.problems]
        self.assertEqual(places, ["2:14", "3:5", "5:14", "7:10", "9:3"])
        self.assertIn("    7 |   GET /a d\n      |          ^\n", str(caught.exception))
        self.assertTrue(str(caught.exception).endswith("5 problems in the policy"))

    def test_the_same_mistake_on_two_lines_is_told_twice(self) -> None:
        with self.assertRaises(PolicyError) as caught:
            bloodroot.parse("roles\n  keeper\nendpoints\n  GET /a keeper\n  GET /b keper\n  GET /c keper\n", "t")
        self.assertEqual([each.place.at for each in caught.exception.problems], ["t:5", "t:6"])

    def test_a_word_on_a_line_below_has_its_place_too(self) -> None:
        with self.assertRaises(PolicyError) as caught:
            bloodroot.parse("roles\n  keeper\nendpoints\n  GET /a keeper\n    or helper\n", "t")
        self.assertEqual(str(caught.exception.problems[0].place), "t:5:8")

    def test_redirects_that_lead_back_are_mistakes(self) -> None:
        for endpoints, denials, way in (
            ("GET /in keeper", "signed-out go /in", "when nobody is signed in: /in → /in"),
            (
                "GET /in signed-out\n  GET /desk keeper",
                "signed-in go /desk\n  role go /in",
                "when the caller is signed in",
            ),
            ("GET /a nobody\n  GET /b nobody", "/a any go /b\n  /b any go /a", "/b → /a → /b"),
            ("GET /a signed-in if own", "own go /a", "/a → /a"),
        ):
            with self.subTest(denials), self.assertRaisesRegex(PolicyError, f"goes in a circle .*{way}"):
                bloodroot.parse(f"{HEAD}endpoints\n  {endpoints}\ndenials\n  {denials}\n")
        bloodroot.parse(f"{HEAD}endpoints\n  GET /in signed-out\n  GET /desk signed-in\ndenials\n"
                        "  signed-out go /in\n  signed-in go /desk\n")  # fmt: skip


class Files(InFolder):
    def test_files_that_cannot_be_read(self) -> None:
        (self.folder / "latin.bloodroot").write_bytes('policy "caf\xe9"\n'.encode("latin-1"))
        (self.folder / "wide.bloodroot").write_bytes((HEAD + END).encode("utf-16"))
        (self.folder / "nul.bloodroot").write_bytes(b"roles\n  a\x00b\n" + END.encode())
        (self.folder / "folder").mkdir()
        self.write("empty.bloodroot", "")
        self.write("blank.bloodroot", "\n\n  \n# nothing\n")
        for name, message in (
            ("none.bloodroot", "none.bloodroot:1:1: there is no such file"),
            ("folder", "this is a folder, not a policy file"),
            ("latin.bloodroot", "latin.bloodroot:1:12: this is not UTF-8 text; save the file as UTF-8"),
            ("wide.bloodroot", "wide.bloodroot:1:1: this is not UTF-8 text"),
            ("nul.bloodroot", "nul.bloodroot:2:4: an invisible character, U+0000"),
            ("empty.bloodroot", "this policy has no endpoints"),
            ("blank.bloodroot", "this policy has no endpoints"),
            ("a\x00b", "this file cannot be read"),
        ):
            with self.subTest(name), self.assertRaises(PolicyError) as caught:
                bloodroot.load(self.folder / name)
            self.assertIn(message, str(caught.exception))
        locked = self.write("locked.bloodroot", END)
        locked.chmod(0)
        if os.geteuid():  # root reads every file
            with self.assertRaisesRegex(PolicyError, "this file cannot be read: Permission denied"):
                bloodroot.load(locked)

    def test_marks_and_line_ends_of_other_systems_do_not_matter(self) -> None:
        file = self.folder / "a.bloodroot"
        file.write_bytes(b"\xef\xbb\xbf" + (HEAD + END).replace("\n", "\r\n").encode())
        self.assertEqual(len(bloodroot.load(file).endpoints), 1)

    def test_includes(self) -> None:
        self.write("a.bloodroot", 'include "b/b.bloodroot"\nendpoints\n  GET / keeper\n')
        self.write("b/b.bloodroot", 'include "../c.bloodroot"\nendpoints\n  GET /b helper\n')
        self.write("c.bloodroot", 'include "d.bloodroot"\nroles\n  keeper includes helper\n')
        self.write("d.bloodroot", "roles\n  helper\n")
        policy = bloodroot.load(self.folder / "a.bloodroot")
        self.assertTrue(policy.decide(bloodroot.Caller(roles={"keeper"}), "GET", "/b").allowed)
        self.assertIn("b.bloodroot:3", policy.lookup.for_request("GET", "/b").place.at)
        outside = self.folder.parent / "outside.bloodroot"
        (self.folder / "link.bloodroot").symlink_to(outside)
        os.mkfifo(self.folder / "pipe")
        for name, text, message in (
            (
                "d.bloodroot",
                'include "a.bloodroot"\n',
                "include each other in a circle: a.bloodroot → b.bloodroot → c.bloodroot",
            ),
            ("d.bloodroot", 'include "d.bloodroot"\n', "in a circle: d.bloodroot → d.bloodroot"),
            ("d.bloodroot", 'include "../x.bloodroot"\n', "this leaves the folder"),
            ("d.bloodroot", 'include "/etc/passwd"\n', "this leaves the folder"),
            ("d.bloodroot", 'include "link.bloodroot"\n', "this leaves the folder"),
            ("d.bloodroot", 'include "none.bloodroot"\n', "there is no such file"),
            ("d.bloodroot", 'include "b"\n', "this is a folder"),
            ("d.bloodroot", 'include "pipe"\n', "this is a pipe or a device, and no file"),
            ("d.bloodroot", "roles\n  helpr\n", 'unknown role "helper"; did you mean "helpr"?'),
            ("c.bloodroot", 'include "d.bloodroot"\ninclude "d.bloodroot"\n', "this file is included already, in"),
        ):
            with self.subTest(text):
                kept = (self.folder / name).read_text()
                self.write(name, text)
                with self.assertRaises(PolicyError) as caught:
                    bloodroot.load(self.folder / "a.bloodroot")
                self.assertIn(message, str(caught.exception))
                self.write(name, kept)


WORDS = st.sampled_from(
    ['"', "(", ")", "[", "]", ",", "#", "\t", "  ", "\n", "\n  ", " or ", " and ", "not ", "if ", "/", "{", "*", ":", ".", "="]
    + ["é", "GET ", "any ", "action ", "includes ", "roles\n", "denials\n  ", "fields x\n  ", "\x00", "\ud800", "accept "]
)  # fmt: skip
PIECES = st.lists(
    st.tuples(st.integers(0, 10_000), st.integers(0, 12), WORDS | st.text(max_size=4)), min_size=1, max_size=6
)


class Fuzz(unittest.TestCase):
    @examples(250)
    @given(st.sampled_from([TEXT, UNTIDY, DEMO.read_text("utf-8")]), PIECES)
    def test_mangled_policies_give_problems_and_nothing_else(self, text, pieces) -> None:  # type: ignore[no-untyped-def]
        for start, length, put in pieces:
            at = start % (len(text) + 1)
            text = text[:at] + put + text[at + length :]
        try:
            policy = bloodroot.parse(text, "t")
        except PolicyError as error:
            self.assertTrue(all(problem.place.line >= 1 for problem in error.problems))
            str(error)
        else:
            policy.decide(None, "GET", "/lots/7").steps  # noqa: B018
        try:
            once = tidy(text)
        except PolicyError:
            return
        self.assertEqual(tidy(once), once)
