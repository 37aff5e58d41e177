"""bloodroot.toml: what may stand in it, and what is said of what may not."""

import os
import tomllib
from textwrap import dedent
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from bloodroot.settings import SettingsError, find_settings, read_settings
from bloodroot.settings.places import places_of
from bloodroot.writing import write_text
from tests.program import InFolder


class Reading(InFolder):
    def test_everything_has_its_place(self) -> None:
        self.write("keys.env", "# made up\nTARN_KEY = 'x'\n\nTARN_WORD=\"fern\"\n")
        file = self.write(
            "bloodroot.toml",
            """
            policy = "rules.bloodroot"
            environment = "keys.env"
            [personas.visitor]
            signed_in = false
            [personas.tess]
            roles = ["keeper"]
            groups = ["crew"]
            attributes = { id = 3, team = "north" }
            plot = 7
            [samples]
            lot_id = 12
            [samples.own]
            holds = { plot_id = "{persona.plot}" }
            fails = { plot_id = 8, mark = "secret" }
            [probe.sign_in]
            how = "json"
            path = "/in"
            for = "/api/**"
            token = "a.b"
            fields = { name = "{persona.name}", word = "{env.TARN_WORD}", team = "{persona.team}" }
            [bodies]
            "POST   /lots" = { form = { size = 3 } }
            """,
        )
        self.addCleanup(os.environ.pop, "TARN_WORD", None)
        self.addCleanup(os.environ.pop, "TARN_KEY", None)
        settings = read_settings(file)
        tess = settings.personas["tess"]
        self.assertEqual(settings.policy, self.folder / "rules.bloodroot")
        self.assertIsNone(settings.personas["visitor"].caller)
        self.assertEqual(
            (tess.caller.id, tess.caller.roles, dict(tess.caller.attributes)), (3, {"keeper"}, {"team": "north"})
        )
        self.assertEqual(settings.samples["own"].fails[0].mark, "secret")
        self.assertEqual(settings.bodies["POST /lots"][0].content, {"size": "3"})
        (way,) = settings.probe.sign_ins
        filled = {name: settings.fill(value, tess, name) for name, value in way.fields.items()}
        self.assertEqual(filled, {"name": "tess", "word": "fern", "team": "north"})

    def test_it_is_found_from_a_folder_below(self) -> None:
        below = self.folder / "a" / "b"
        below.mkdir(parents=True)
        self.write("pyproject.toml", "[tool.other]\nx = 1\n")
        self.assertNotEqual(find_settings(below), self.folder / "pyproject.toml")
        self.write("pyproject.toml", "[tool.bloodroot]\n")
        self.assertEqual(find_settings(below), self.folder / "pyproject.toml")
        self.write("a/bloodroot.toml", "")
        self.assertEqual(find_settings(below), self.folder / "a" / "bloodroot.toml")

    def test_mistakes(self) -> None:
        for text, message in (
            ("polcy = 'x'", 'bloodroot.toml:1: polcy: unknown key; did you mean "policy"?'),
            ("policy = 3", "policy: this must be a string"),
            ("app = ''", "app: this must be a string"),
            ("environment = 'none.env'", "environment: none.env cannot be read: No such file"),
            ("environment = 'bad.env'", "bad.env:2: this line is not NAME=value"),
            ("personas = 3", "personas: this must be a table"),
            ("[personas.a]\nroles = 'keeper'", "bloodroot.toml:2: personas.a.roles: this must be a list of names"),
            ("[personas.a]\nroles = [1]", "this must be a list of names"),
            ("[personas.a]\nsigned_in = 'no'", "personas.a.signed_in: this must be true or false"),
            ("[personas.a]\nsigned_in = false\nroles = ['x']", "has no roles and no attributes"),
            ("[personas.a]\nemail = 'x'", "personas.a.email: unknown key; nothing refers to {persona.email}"),
            ("[personas.a]\nattribute = {}", 'did you mean "attributes"?'),
            ("[personas.a]\nx = []\n[samples]\ny = '{persona.x}'", "personas.a.x: this must be a string or a number"),
            (
                "[personas.a]\nattributes = { house = 1 }\n[samples]\nx = '{persona.hous}'",
                'bloodroot.toml:4: samples.x: no persona has {persona.hous}; did you mean "house"?',
            ),
            (
                "[personas.a]\nroles_in = []",
                'personas.a.roles_in: this must be a table, such as { studio = { 7 = ["editor"] } }',
            ),
            ("[samples]\nx = true", "samples.x: this must be a string or a number"),
            ("[samples.own]\nhold = { a = 1 }", 'samples.own.hold: unknown key; did you mean "holds"?'),
            ("[samples.own]\nholds = { mark = 'x' }", "this needs the parameters of the path"),
            ("[probe]\nresets = 'x'", 'probe.resets: unknown key; did you mean "reset"?'),
            ("[probe]\nsign_in = 3", "probe.sign_in: this must be a table"),
            ("[probe.sign_in]\nhow = 'form'\npath = 'in'", "probe.sign_in.path: this must be the path"),
            (
                "[probe.sign_in]\nhow = 'form'\npath = '/in'\nfor = '/a//b'",
                "probe.sign_in.for: a path has no empty segment",
            ),
            ("[bodies]\n'POST /a' = { xml = 'x' }", "this must be { form = { ... } } or { json = ... }"),
            ("[bodies]\n'POST /a' = { form = [] }", "this must be a table"),
            ("x = ", "this is not TOML"),
        ):
            with self.subTest(text):
                self.write("bad.env", "A=1\nnothing\n")
                self.addCleanup(os.environ.pop, "A", None)
                with self.assertRaises(SettingsError) as caught:
                    read_settings(self.write("bloodroot.toml", dedent(text)))
                self.assertIn(message, str(caught.exception))

    def test_every_mistake_at_once_each_on_its_own_line(self) -> None:
        file = self.write(
            "bloodroot.toml",
            """
            polcy = "x"
            [personas.ash]
            roles = ["x"]
            [personas.fern]
            roles = "keeper"
            attributes = { id = 1 }
            [[identity]]
            from = "session"
            id = "member"
            [[identity]]
            from = "jwt"
            key = "fern"
            leeway = 900
            [samples]
            text = '''
            [personas.none]
            roles = 3
            '''
            [samples.own]
            holds = { plot_id = [1] }
            [[probe.sign_in]]
            how = "form"
            path = "/in"
            [[probe.sign_in]]
            how = "from"
            path = "in"
            """,
        )
        with self.assertRaises(SettingsError) as caught:
            read_settings(file)
        self.assertEqual(
            [each.split(": this")[0].split(": unknown")[0].split(": do not")[0] for each in caught.exception.problems],
            [
                "bloodroot.toml:1: polcy",
                "bloodroot.toml:5: personas.fern.roles",
                "bloodroot.toml:12: identity.key",
                "bloodroot.toml:13: identity.leeway",
                "bloodroot.toml:20: samples.own.holds.plot_id",
                "bloodroot.toml:25: probe.sign_in.how",
                "bloodroot.toml:26: probe.sign_in.path",
            ],
        )

    def test_lines_in_a_project_file(self) -> None:
        self.write(
            "pyproject.toml", "[project]\nname = 'x'\n\n[tool.bloodroot]\napp = 3\n[tool.bloodroot.probe]\nrset = 1\n"
        )
        with self.assertRaises(SettingsError) as caught:
            read_settings(self.folder / "pyproject.toml")
        self.assertEqual([each.split(":")[1] for each in caught.exception.problems], ["5", "7"])

    @given(st.text(alphabet="ab.=[]{}\"'# \n1,\\", max_size=40))
    def test_whatever_is_toml_has_its_lines_found(self, text: str) -> None:
        try:
            values = tomllib.loads(text)
        except ValueError:
            return
        places = places_of(text)
        self.assertEqual({path[0] for path in places}, set(values))
        lines = len(text.split("\n"))
        self.assertTrue(all(1 <= line <= lines for line in places.values()))


class Writing(InFolder):
    def test_a_file_is_written_whole_or_not_at_all(self) -> None:
        file = self.write("a.csv", "old")
        file.chmod(0o640)
        write_text(file, "new")
        self.assertEqual((file.read_text(), file.stat().st_mode & 0o777), ("new", 0o640))
        with self.assertRaises(UnicodeEncodeError):
            write_text(file, "half \ud800")
        self.assertEqual(file.read_text(), "new")
        self.assertEqual([each.name for each in self.folder.iterdir()], ["a.csv"])
        with self.assertRaises(OSError):
            write_text(self.folder / "none" / "b.csv", "x")


class FromTheEnvironment(InFolder):
    def test_where_the_application_is_and_what_personas_have(self) -> None:
        text = 'url = "{env.TARN_AT}"\n[personas.ash]\ntoken = "{env.ASH_TOKEN}"\n[probe.sign_in]\nhow = "header"\n'
        found = read_settings(self.write("bloodroot.toml", text + 'fields = { X = "Bearer {persona.token}" }\n'))
        ash = found.personas["ash"]
        with self.assertRaisesRegex(SettingsError, "url requires {env.TARN_AT}, and TARN_AT is not set"):
            found.address()
        with self.assertRaisesRegex(SettingsError, "{env.ASH_TOKEN}, and ASH_TOKEN is not set"):
            found.fill("Bearer {persona.token}", ash, "fields")
        with mock.patch.dict(os.environ, {"TARN_AT": "http://127.0.0.1:8000/", "ASH_TOKEN": "a secret"}):
            self.assertEqual(found.address(), "http://127.0.0.1:8000")
            self.assertEqual(found.fill("Bearer {persona.token}", ash, "fields"), "Bearer a secret")
            # What is shown keeps the name.
            self.assertEqual(found.fill_in("Bearer {persona.token}", ash), "Bearer {env.ASH_TOKEN}")


class Callers(InFolder):
    def test_mistakes(self) -> None:
        jwt, header = "[identity]\nfrom = 'jwt'\n", "[identity]\nfrom = 'header'\nid = 'X-Member'\n"
        session = "[identity]\nfrom = 'session'\nid = 'member'\n"
        member = "member = 'select id from staff where id = :id'\n"
        database = "[directory]\nurl = 'sqlite:///x.db'\n"
        for text, message in (
            ("identity = 3", "identity: this must be a table, or several with [[identity]]"),
            (
                "[identity]\n",
                "identity.from: this must be one of jwt, introspection, key, basic, certificate, session, header, directory",
            ),
            ("[identity]\nfrom = 'jwtt'", 'did you mean "jwt"?'),
            (jwt + "rolse = 'a'", 'identity.rolse: unknown key; did you mean "roles"?'),
            (jwt, "there is no key to check tokens with; write one of key"),
            (jwt + "key = 'fern'", "identity.key: do not put a secret in this file; write key = "),
            (jwt + "key = 'fern{env.KEY}'", "do not put a secret in this file"),
            (jwt + "key = '{env.KEY}'\nkey_file = 'x.pem'", "key and key_file are all given"),
            (jwt + "key_file = 'x.pem'", "algorithm is missing; tokens do not choose it"),
            (jwt + "algorithm = 'none'\nkey = '{env.KEY}'", "a token without a signature proves nothing"),
            (jwt + "algorithm = 'None'\nkey = '{env.KEY}'", "a token without a signature proves nothing"),
            (
                jwt + "algorithm = 'HS265'\nkey = '{env.KEY}'",
                "this must be one of HS256, RS256, RS384, RS512, PS256, PS384, PS512, ES256, ES384, ES512, EdDSA; did",
            ),
            (jwt + "algorithm = 'HS256'\nkey_file = 'x.pem'", "HS256 signs with a secret"),
            (jwt + "key = '{env.KEY}'\nleeway = 900", "this must be a number of seconds from 0 to 300"),
            (jwt + "key = '{env.KEY}'\nroles = 'https://a.example/r'", "goes in quotes"),
            (jwt + "key = '{env.KEY}'\nattributes = { site = 'a..b' }", "identity.attributes.site: this must be names"),
            (jwt + "key = '{env.KEY}'\nnames = { A = 3 }", "this must be a string"),
            (jwt + "key = '{env.KEY}'\nfor = 'api'", "identity.for"),
            (
                session + "issuer = 'x'",
                'this belongs to from = "jwt" or from = "introspection", and here from = "session"',
            ),
            ("[identity]\nfrom = 'session'", "id is missing: where is the caller's id? Write the name"),
            ("[identity]\nfrom = 'directory'\nid = 'x'\nroles = 'y'", 'here from = "directory"'),
            (header, "senders is missing: anyone can send a header"),
            (header + "senders = ['proxy']", '"proxy" is no address and no network'),
            (header + "senders = ['10.1.2.3/8']", "is no address and no network"),
            ("[directory]\n", "directory: url is missing"),
            ("[directory]\nurl = 'postgresql://ash:fern@db/x'", "do not put a password in this file"),
            (database + "cache = -1", "this must be a number of seconds from 0 to 3600"),
            (database + "keep_suspended = 'yes'", "this must be true or false"),
            (database + "cash = 1", 'did you mean "cache"?'),
            (database + "[directory.queries]\nroles = 'select a from b where c = :id'", "member is missing: the query"),
            (database + "[directory.queries]\n" + member + "role = 'select 1 where :id'", 'did you mean "roles"?'),
            (database + "[directory.queries]\n" + member + "roles = 'select 1'", "whose id is written as :id"),
            (database + "[directory.queries]\n" + member + "roles = 'select :id + :x'", "it has :x"),
            (database + "[directory.queries]\n" + member + "members = 'select :id'", "lists the ids of all members"),
            (
                database + "[directory.queries]\nmember = 'delete from staff where id = :id'",
                "begins with select or with",
            ),
            ("[token]\n", "write one of development_key"),
            ("[token]\ndevelopment_key = '{env.K}'\nminutes = 600", "a number of minutes from 0.1 to 60"),
        ):
            with self.subTest(text=text), self.assertRaises(SettingsError) as caught:
                read_settings(self.write("bloodroot.toml", text))
            self.assertIn(message, str(caught.exception))
            self.assertTrue(str(caught.exception).startswith("bloodroot.toml"), str(caught.exception))

    def test_a_password_by_name_is_no_password_in_the_file(self) -> None:
        url = "postgresql://ash:{env.TARN_WORD}@db/x"
        settings = read_settings(self.write("bloodroot.toml", f"[directory]\nurl = '{url}'\n"))
        self.assertEqual(settings.directory.url, url)
