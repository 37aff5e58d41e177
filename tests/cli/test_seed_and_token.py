"""bloodroot seed, bloodroot token and bloodroot why --directory, as they are run."""

import json
import os
import pty
import re
import select
import time

import jwt

from tests.policies import TEXT
from tests.program import PROGRAM, InFolder

KEY = "a key for tests, and nothing else but tests"
SETTINGS = """
policy = "tarn.bloodroot"

[identity]
from = "jwt"
key = "{env.TARN_KEY}"
issuer = "tarn"
roles = "work.duties"
scopes = "scope"
separator = ","
drop_prefix = "TB_"
names = { "Head Keeper" = "keeper" }
attributes = { status = "status" }

[token]
development_key = "{env.TARN_KEY}"
minutes = 5

[personas.tess]
roles = ["grower", "clerk"]
attributes = { id = 7, status = "active" }

[personas.visitor]
signed_in = false

[personas.nobody]
roles = ["keeper"]
"""
DIRECTORY = """
[directory]
url = "sqlite:///members.db"
"""
SEED = """
[[groups]]
name = "field-staff"
permissions = ["memo:read", "lot:edit"]

[[members]]
id = 7
login = "tess"
roles = ["grower"]
groups = ["field-staff"]
password = "{env.TARN_WORD}"

[[members]]
login = "noor"
roles = ["clerk"]
status = "suspended"
"""


class Tarn(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("tarn.bloodroot", TEXT)
        self.write("bloodroot.toml", SETTINGS + DIRECTORY)
        self.write("seed.toml", SEED)

    def run_as_set(self, *words: str, status: int = 0, stdin: str | None = None) -> str:
        run = self.bloodroot(*words, stdin=stdin or "", TARN_KEY=KEY, TARN_WORD="fern and sedge")
        self.assertEqual(run.status, status, run.out + run.err)
        for secret in (KEY, "fern and sedge"):
            self.assertNotIn(secret, run.out + run.err)
        return run.out + run.err


class Seed(Tarn):
    def test_made_kept_differs_updated(self) -> None:
        for words, head, member, status, after in (
            (
                ("--dry-run",),
                "Tried, nothing written: members: 2 made; roles: 5 made; groups: 1 made",
                "+ made",
                0,
                "Next: the same without",
            ),
            ((), "members: 2 made; roles: 5 made; groups: 1 made", "+ made", 0, "Next: `bloodroot members`"),
            ((), "members: 2 kept; roles: 5 kept; groups: 1 kept", "= kept", 0, "Next: `bloodroot members`"),
        ):
            answered = self.run_as_set("seed", "seed.toml", *words, status=status)
            self.assertEqual(answered.splitlines()[0], head)
            self.assertRegex(answered, rf"(?m)^{re.escape(member)} +member  tess")
            self.assertIn(after, answered)
        self.write("seed.toml", SEED.replace('"grower"', '"keeper"'))
        answered = self.run_as_set("seed", "seed.toml", status=1)
        self.assertIn("members: 1 kept, 1 differs", answered)
        self.assertRegex(answered, r"≠ differs  member  tess: roles are grower, in the file keeper")
        self.assertIn("seed with --update brings it in line", answered)
        answered = json.loads(self.run_as_set("seed", "seed.toml", "--update", "--format", "json"))
        self.assertIn(
            {
                "kind": "member",
                "name": "tess",
                "verdict": "updated",
                "differences": ["roles are grower, in the file keeper"],
            },
            answered["rows"],
        )
        listed = self.run_as_set("members")
        self.assertEqual(listed.splitlines()[0], "2 members, 3 things held")
        self.assertRegex(listed, r"(?m)^tess    active     role keeper \(helper, grower\) ")
        self.assertRegex(listed, r"(?m)^ +group field-staff \(helper, grower, lot:edit, memo:read\)")
        self.assertRegex(listed, r"(?m)^noor    suspended  role clerk \(helper\) ")

    def test_csv(self) -> None:
        self.write(
            "seed.csv",
            'login,name,roles,groups,attributes.site,id\ntess,"Tess, of the fern",grower;clerk,field-staff,north,9\nnoor,,,,,\n\n',
        )
        self.assertIn("members: 2 made", self.run_as_set("seed", "seed.csv"))
        found = json.loads(self.run_as_set("members", "--format", "json"))["members"]
        held = [(each["id"], [each["name"] for each in each["holdings"]]) for each in found]
        self.assertEqual(held, [(9, ["clerk", "grower", "field-staff"]), (10, [])])

    def test_a_role_that_the_policy_lost_is_marked(self) -> None:
        self.run_as_set("seed", "seed.toml")
        self.write("tarn.bloodroot", TEXT.replace("clerk", "registrar"))
        self.assertIn("role clerk, which the policy does not know", self.run_as_set("members"))

    def test_the_password_is_asked_for_in_a_terminal(self) -> None:
        self.write("seed.toml", '[[members]]\nlogin = "tess"\npassword = "prompt"\n')
        self.assertIn(
            "must be typed in, and standard input is not a terminal", self.run_as_set("seed", "seed.toml", status=2)
        )
        self.assertFalse((self.folder / "members.db").exists())
        process, terminal = pty.fork()
        if process == 0:
            os.chdir(self.folder)
            os.execv(PROGRAM, [str(PROGRAM), "seed", "seed.toml"])
        shown = b""
        typed = [(b"Password for tess: ", b"moss and fern\n"), (b"The same again: ", b"moss and fern\n")]
        ends = time.monotonic() + 60
        while time.monotonic() < ends:
            if select.select([terminal], [], [], 0.2)[0]:
                try:
                    shown += os.read(terminal, 4096)
                except OSError:
                    break
            if typed and typed[0][0] in shown:
                time.sleep(0.2)  # until the terminal no longer echoes
                os.write(terminal, typed.pop(0)[1])
        _, status = os.waitpid(process, 0)
        self.assertEqual(os.waitstatus_to_exitcode(status), 0, shown)
        self.assertIn(b"members: 1 made", shown)
        self.assertNotIn(b"moss and fern", shown)

    def test_mistakes_change_nothing_and_are_told_together(self) -> None:
        for text, messages in (
            ("[[members]]\nname = 'x'", ["seed.toml:1: this member has no login"]),
            ("[[members]]\nlogin = 'a'\npassword = 'fern'", ["a password does not belong into a file"]),
            ("[[members]]\nlogin = 'a'\nroles = 'keeper'", ["seed.toml:1: roles must be a list of names"]),
            ("[[members]]\nlogin = 'a'\nrole = []", ['unknown key members.role; did you mean "roles"?']),
            ("[[member]]\nlogin = 'a'", ['unknown key member; did you mean "members"?']),
            ("[[members]]\nlogin = 'a'\nid = '7'", ["id must be a whole number"]),
            ("[[members]]\nlogin = 'a'\nid = 0", ["id must be a number from 1"]),
            (
                "[[members]]\nlogin = 'a'\n\n[[members]]\nlogin = 'a'",
                ["seed.toml:4: the login a is in seed.toml:1 already"],
            ),
            ("[[members]]\nlogin = 'a'\nattributes = { status = 'x' }", ["attributes may not have status"]),
            ("[[groups]]\npermissions = []", ["this group has no name"]),
            ("members = 3", ["members must be written as [[members]]"]),
            ("[[", ["seed.toml: this is not TOML"]),
            (
                "[[members]]\nlogin = 'a'\nroles = ['keper', 'clerk', 'reviewer']\ngroups = ['x']",
                [
                    '"keper"; did you mean "keeper"?',
                    'no group "x"; known are field-staff',
                    "a would hold clerk and reviewer",
                ],
            ),
        ):
            with self.subTest(text=text):
                self.write("seed.toml", text)
                answered = self.run_as_set("seed", "seed.toml", status=2)
                for message in messages:
                    self.assertIn(message, answered)
                self.assertFalse((self.folder / "members.db").exists())
        for name, text, message in (
            ("a.csv", "name\nx\n", "a.csv:1: the first line names the columns, each once, and login among them"),
            ("a.csv", "login,role\nx,y\n", 'unknown column role; did you mean "roles"?'),
            ("a.csv", "login\nx,y\n", "a.csv:2: this line has 2 values, and there are 1 columns"),
            ("a.csv", 'login\n"x\n', "this is not CSV"),
            ("a.txt", "", "a seed is TOML, CSV"),
            ("missing.toml", None, "missing.toml: there is no such file"),
        ):
            if text is not None:
                self.write(name, text)
            self.assertIn(message, self.run_as_set("seed", name, status=2))
        self.write("seed.toml", SEED)
        run = self.bloodroot("seed", "seed.toml", TARN_WORD="")
        self.assertEqual(run.status, 2)
        self.assertIn("tess gets its password from TARN_WORD, which is not set", run.err)
        self.assertIn("bloodroot seed FILE makes it", self.run_as_set("members", status=2))
        self.write("bloodroot.toml", SETTINGS)
        self.assertIn("there is no directory; write [directory]", self.run_as_set("members", status=2))


class Token(Tarn):
    def made(self, *words: str) -> str:
        return self.run_as_set("token", "make", *words).split("\n")[0]

    def test_made_and_read(self) -> None:
        self.write("bloodroot.toml", SETTINGS)
        # Once with processes of their own, as a pipe has them.
        run = self.bloodroot("token", "make", "tess", TARN_KEY=KEY)
        self.assertEqual(run.out.count("\n"), 1, "a pipe gets the token alone")
        piped = self.bloodroot("token", "read", "-", stdin=run.out, TARN_KEY=KEY)
        self.assertEqual((run.status, piped.status), (0, 0), piped.err)
        answered = self.run_as_set("token", "make", "tess")
        self.assertIn("for development alone: tess, id 7, clerk, grower; valid for 5 minutes", answered)
        token = answered.split("\n")[0]
        for sent in (token, "-"):
            read = self.run_as_set("token", "read", sent, stdin=f"Bearer {token}\n")
            self.assertRegex(read.splitlines()[0], r"^Valid for 5 minutes more: caller 7 with helper, grower, clerk$")
            self.assertIn('work    {"duties": "TB_clerk,TB_grower"}', read)
            self.assertRegex(read, r"(?m)^✓  roles +work.duties gives clerk, grower$")
            self.assertIn("token has no scope, so no scopes come from it", read)
            self.assertNotIn(token.split(".")[2], read)
        scoped = self.made("tess", "--scope", "plot:edit,parcel:*", "--minutes", "30")
        read = self.run_as_set("token", "read", scoped)
        self.assertIn("Valid for 30 minutes more", read)
        self.assertRegex(read, r"(?m)^may +plot:edit if own-plot, parcel:weigh, parcel:send$")
        self.assertRegex(read, r"(?m)^may not +lot:read, lot:edit, memo:read$")
        data = json.loads(self.run_as_set("token", "read", scoped, "--format", "json"))
        permissions = {each["name"]: each["remainder"] for each in data["permissions"]}
        self.assertEqual(permissions, {"plot:edit": "own-plot", "parcel:weigh": None, "parcel:send": None})
        caller = data["caller"]
        self.assertEqual(
            (data["valid"], caller["roles"], caller["included_roles"]), (True, ["grower", "clerk"], ["helper"])
        )
        self.assertEqual(caller["scopes"], ["parcel:*", "plot:edit"])

    def test_several_sources_and_names_that_look_like_signs(self) -> None:
        self.write(
            "access.bloodroot",
            "roles\n  user\npermissions\n  vault:key:read  user\nendpoints\n  GET /x  vault:key:read\n",
        )
        one = '[[identity]]\nfrom = "jwt"\nkey = "{{env.{1}}}"\nissuer = "{0}"\nfor = "/{0}/**"\nroles = "{0}"\n'
        self.write("bloodroot.toml", one.format("a", "TARN_KEY") + one.format("b", "TARN_OTHER_KEY"))
        claims = {"sub": "7", "a": ["user"], "b": [], "exp": time.time() + 60}
        for issuer, words, status, shown in (
            ("a", (), 0, "may  vault:key:read"),
            ("b", (), 0, "may not  vault:key:read"),
            ("a", ("--path", "/a/x"), 0, "may  vault:key:read"),
            ("b", ("--path", "/a/x"), 1, "was not signed with the key that counts here"),
            ("c", (), 2, "name a path that it is sent to"),
            ("a", ("--path", "/c"), 2, "no source takes tokens on /c"),
        ):
            with self.subTest(issuer=issuer, words=words):
                token = jwt.encode({**claims, "iss": issuer}, KEY[::-1] if issuer == "b" else KEY)
                run = self.bloodroot("token", "read", token, *words, TARN_KEY=KEY, TARN_OTHER_KEY=KEY[::-1])
                self.assertEqual(run.status, status, run.out + run.err)
                self.assertIn(shown, run.out + run.err)

    def test_with_a_directory_its_roles_count(self) -> None:
        self.run_as_set("seed", "seed.toml")
        token = self.made("tess")
        read = self.run_as_set("token", "read", token)
        self.assertIn("caller 7 with helper, grower", read.splitlines()[0])
        self.assertIn("the directory does not say clerk of this member, whatever the sign-in says", read)
        self.assertIn("lot:edit by the directory, to group field-staff", read)
        self.assertIn("this caller is not a member there", self.run_as_set("token", "make", "keeper"))
        stranger = self.run_as_set("token", "read", self.made("keeper"), status=1)
        self.assertIn("Not valid: the directory has no member development-keeper.", stranger)

    def test_why_not(self) -> None:
        self.write("bloodroot.toml", SETTINGS)
        past, ends = int(time.time()) - 60, int(time.time()) + 60
        for claims, key, status, messages in (
            (
                {"exp": past},
                KEY,
                1,
                ["Not valid: the token has expired. A caller who sends it is treated as signed out."],
            ),
            (
                {"exp": ends},
                KEY[::-1],
                1,
                ["not signed with the key that counts here", "✓  roles", "It says keeper, and that"],
            ),
            ({"exp": ends, "iss": "fern"}, KEY, 1, ["the token does not come from tarn"]),
            ({"exp": ends, "work": {}}, KEY, 0, ["roles   work.duties gives nothing", "has no work.duties"]),
            (
                {"exp": ends, "work": {"duties": "keeper,TB_Clerk"}},
                KEY,
                0,
                ["which does not begin with TB_", '"Clerk" = "clerk"'],
            ),
            (
                {"exp": ends, "work": {"duties": "TB_clerk,TB_reviewer"}},
                KEY,
                0,
                ["kept apart, so everything is refused"],
            ),
            ({"exp": ends, "sub": None}, KEY, 1, ["Not valid:"]),
        ):
            said = {"sub": "7", "iss": "tarn", "work": {"duties": ["Head Keeper"]}, **claims}
            token = jwt.encode({name: value for name, value in said.items() if value is not None}, key, "HS256")
            with self.subTest(claims=claims):
                read = self.run_as_set("token", "read", token, status=status)
                for message in messages:
                    self.assertIn(message, read)
                self.assertNotIn(token.split(".")[2], read)

    def test_claims_that_json_and_utf_8_have_no_word_for(self) -> None:
        self.write("bloodroot.toml", SETTINGS)
        good = {"sub": "7", "iss": "tarn", "exp": int(time.time()) + 60, "work": {"duties": "TB_clerk"}}
        for odd, shown in ((float("nan"), '"nan"'), ("half \ud800", '"half \\ud800"')):
            token = jwt.encode({**good, "odd": odd}, KEY, "HS256")
            found = self.bloodroot("token", "read", token, "--format", "json", TARN_KEY=KEY)
            self.assertIn(f'"odd": {shown}', found.out)
            json.loads(found.out, parse_constant=self.fail)
            self.assertIn("odd ", self.bloodroot("token", "read", token, TARN_KEY=KEY).out)

    def test_a_token_in_a_file_is_for_its_owner_alone(self) -> None:
        run = self.bloodroot("token", "make", "tess", "--out", "token.txt", TARN_KEY=KEY)
        self.assertEqual((run.status, run.out), (0, ""), run.err)
        self.assertEqual((self.folder / "token.txt").stat().st_mode & 0o777, 0o600)

    def test_mistakes(self) -> None:
        for settings, words, message in (
            (SETTINGS, ("read", "curator"), "not a token: a JSON Web Token is three parts"),
            (SETTINGS, ("read", ""), "not a token"),
            (SETTINGS, ("make", "kepper"), 'unknown persona or role "kepper"; did you mean "keeper"?'),
            (SETTINGS, ("make", "visitor"), "visitor is not signed in, and has no token"),
            (SETTINGS, ("make", "nobody"), 'persona "nobody" has no id; write attributes = { id = 1 }'),
            (SETTINGS, ("make", "tess", "--minutes", "90"), "--minutes must be a number from 0.1 to 60"),
            (SETTINGS, ("make", "tess", "--scope", "lot:raed"), 'no permission "lot:raed"; did you mean "lot:read"?'),
            (
                SETTINGS.replace("scopes =", "groups ="),
                ("make", "tess", "--scope", "lot:read"),
                'write scopes = "scope"',
            ),
            (
                SETTINGS.split("[token]")[0] + "[personas.tess]\n",
                ("make", "tess"),
                "there is no key to sign with; write [token]",
            ),
            (
                SETTINGS.replace("development_key", "development_kye"),
                ("make", "tess"),
                'did you mean "development_key"?',
            ),
            (
                SETTINGS.replace('development_key = "{env.TARN_KEY}"', 'development_key = "fern"'),
                ("make", "tess"),
                "do not put a secret",
            ),
            (
                SETTINGS.replace('_key = "{env.TARN_KEY}"', '_key = "{env.PATH}"'),
                ("make", "tess"),
                "would be refused: the token was not signed",
            ),
            ('policy = "tarn.bloodroot"\n', ("make", "helper"), "nothing says how tokens are read"),
        ):
            with self.subTest(message=message):
                self.write("bloodroot.toml", settings)
                self.assertIn(message, self.run_as_set("token", *words, status=2))


class WhyFromTheDirectory(Tarn):
    def test_a_grant_is_told_with_where_it_came_from(self) -> None:
        self.run_as_set("seed", "seed.toml")
        for who, path, messages in (
            ("tess", "/lots/new", ["as tess: allow", "lot:edit was granted by the directory, to group field-staff"]),
            ("7", "/lots/new", ["as 7: allow"]),
            ("8", "/lots", ["as 8, who is treated as signed out: member 8 is suspended: sign-in"]),
            ("99", "/lots", ["signed out: the directory has no member 99"]),
            ("7", "/parcels/weigh", ["deny (closed)"]),
        ):
            answered = self.run_as_set("why", "--directory", who, "GET", path)
            for message in messages:
                self.assertIn(message, answered)
        answered = self.run_as_set("why", "tess", "GET", "/lots/new")
        self.assertIn("deny (role)", answered)

    def test_personas_that_are_members_hold_what_the_directory_says(self) -> None:
        members = (
            '\n[personas.ivy]\nmember = "tess"\nattributes = { status = "away" }\n[personas.gone]\nmember = "noor"\n'
        )
        self.write("bloodroot.toml", SETTINGS + members + DIRECTORY)
        self.assertIn("there is no database members.db yet", self.run_as_set("why", "ivy", "GET", "/lots", status=2))
        # Whoever needs no persona needs no directory.
        self.assertIn("as keeper: allow", self.run_as_set("why", "keeper", "GET", "/lots"))
        self.run_as_set("seed", "seed.toml")
        answered = self.run_as_set("why", "ivy", "GET", "/lots/new")
        self.assertIn("ivy holds grower, helper", answered)
        self.assertIn("lot:edit was granted by the directory, to group field-staff", answered)
        answered = json.loads(self.run_as_set("why", "ivy,keeper", "POST", "/parcels", "--format", "json"))
        self.assertEqual(answered["caller"]["roles"], ["grower", "keeper"])
        self.assertEqual(answered["caller"]["id"], 7)
        self.assertIn("active is false", answered["steps"][-1]["text"], "attributes of the settings come first")
        self.assertIn("gone: sign-in", self.run_as_set("why", "gone", "GET", "/lots"), "a suspended member may not act")
        self.assertIn("tess", self.run_as_set("token", "make", "ivy") and self.run_as_set("members"))
        self.write("bloodroot.toml", SETTINGS + members.replace('"noor"', '"nor"') + DIRECTORY)
        answered = self.run_as_set("matrix", "--personas", status=2)
        self.assertIn('persona "gone": the directory has no member nor; bloodroot seed FILE makes it', answered)
        self.write(
            "bloodroot.toml", SETTINGS + members.replace("attributes =", 'roles = ["keeper"]\nattributes =') + DIRECTORY
        )
        answered = self.run_as_set("why", "ivy", "GET", "/lots", status=2)
        self.assertIn("the directory says what this member holds; leave roles, groups and permissions out", answered)
