"""Callers who are no people at a browser, over real HTTP: opaque tokens, keys, passwords, certificates, scopes."""

import base64
import contextlib
import datetime
import json
import os
import sqlite3
import time
import urllib.parse
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

import flask
import quart
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import NameOID

import bloodroot
from bloodroot.enforce import current
from bloodroot.enforce import flask as enforce_flask
from bloodroot.enforce import quart as enforce_quart
from bloodroot.identity import introspection, load
from bloodroot.identity.fetching import in_a_thread
from bloodroot.identity.stored_keys import hash_of
from bloodroot.settings import SettingsError
from tests import provider
from tests.identity.test_provider import application
from tests.program import InFolder
from tests.requests import Sent
from tests.servers import ask, serving, serving_wsgi

POLICY = """
roles
  member
  keeper  includes member
permissions
  reading:read   member
  reading:write  member
endpoints
  GET   /open    anyone
  GET   /kilns   member
  GET   /vault   keeper
"""
SEED = """
[[members]]
id = 1
login = "ash"
roles = ["member"]
password = "{env.ASH}"

[[members]]
id = 2
login = "hazel"
roles = [{ name = "keeper", until = 2020-01-01 }, "member"]
groups = [{ name = "day", until = 2099-01-01 }, { name = "night", until = 2020-01-01 }]
permissions = [{ name = "reading:read", until = 2020-01-01 }]

[[members]]
id = 3
login = "gone"
roles = ["keeper"]
status = "suspended"

[[groups]]
name = "day"
permissions = ["reading:write"]

[[groups]]
name = "night"
"""
DIRECTORY = '[directory]\nurl = "sqlite:///members.db"\ncache = 0\n'


def certificate(name: str, days: int = 1, **others: list[str]) -> x509.Certificate:
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name(
        [x509.NameAttribute(NameOID.COMMON_NAME, name), x509.NameAttribute(NameOID.ORGANIZATIONAL_UNIT_NAME, "keeper")]
    )
    now = datetime.datetime.now(datetime.UTC)
    made = x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
    made = made.serial_number(7).not_valid_before(now - datetime.timedelta(days=3))
    made = made.not_valid_after(now + datetime.timedelta(days=days))
    for kind, values in others.items():
        make = {"dns": x509.DNSName, "uri": x509.UniformResourceIdentifier}[kind]
        made = made.add_extension(x509.SubjectAlternativeName([make(value) for value in values]), critical=False)
    return made.sign(key, hashes.SHA256())


class Behind(InFolder):
    @contextlib.contextmanager
    def served(self, settings: str) -> Iterator[int]:
        with serving(application(load(self.write("bloodroot.toml", settings)))) as port:
            yield port

    def seeded(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("seed.toml", SEED)
        self.write("bloodroot.toml", DIRECTORY)
        self.ran("seed", "seed.toml", ASH="a password that is made up")


class OpaqueTokens(Behind):
    def setUp(self) -> None:
        super().setUp()
        self.provider = self.enterContext(provider.running())
        self.enterContext(mock.patch.dict(os.environ, {"SERVICE": provider.SECRET}))
        self.source = (
            f'from = "introspection"\nissuer = "{self.provider.issuer}"\nclient = "service"\nsecret = "{{env.SERVICE}}"\n'
            'roles = ["realm_access.roles", "resource_access.kilnhouse.roles"]\n'
            'audience = "https://kilnhouse.example/opaque"\ncache = 1\n'
        )

    def test_the_provider_says_whether_they_hold(self) -> None:
        with self.served(f"[identity]\n{self.source}") as port:
            hazel = self.provider.token("hazel", "opaque")
            for path, token, expected in (
                ("/vault", hazel, (200, "")),
                ("/vault", self.provider.token("ash", "opaque"), (403, "")),
                ("/vault", hazel[:-1], (401, "does not hold")),
                ("/vault", "x" * 20_000, (401, "too long")),
            ):
                with self.subTest(token[:20]):
                    status, headers, _ = ask(port, "GET", path, Authorization=f"Bearer {token}")
                    self.assertEqual(status, expected[0])
                    self.assertIn(expected[1], headers.get("www-authenticate", ""))
            # Revoked, it is accepted no longer than what was said of it is remembered.
            with contextlib.suppress(json.JSONDecodeError):
                self.provider.asked("/token/revocation", token=hazel, client_id="desk")
            time.sleep(1.1)
            self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {hazel}")[0], 401)

    def test_a_provider_that_does_not_answer(self) -> None:
        short = mock.patch.object(in_a_thread, "__defaults__", (3.0,))
        with self.served(f"[identity]\n{self.source}") as port, short, mock.patch.object(introspection, "_PAUSE", 8):
            tokens = [self.provider.token("hazel", "opaque") for _ in range(12)]
            known = tokens.pop()
            self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {known}")[0], 200)
            self.provider.tell(mode="silent")
            began = time.monotonic()
            for token in tokens:
                status, headers, _ = ask(port, "GET", "/vault", Authorization=f"Bearer {token}")
                self.assertEqual(status, 401)
                # Nothing is known of the token: its client is not to throw it away.
                self.assertNotIn("invalid_token", headers["www-authenticate"])
            self.assertLess(time.monotonic() - began, 20)  # the first has waited, and hardly another
            self.assertEqual(ask(port, "GET", "/open")[0], 200)
            self.provider.tell(mode="well")
            time.sleep(8)
            self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {tokens[0]}")[0], 200)

    def test_beside_tokens_that_say_themselves_who_they_are_for(self) -> None:
        signed = (
            f'from = "jwt"\nissuer = "{self.provider.issuer}"\naudience = "https://kilnhouse.example/es"\n'
            'roles = "resource_access.kilnhouse.roles"\n'
        )
        with self.served(f"[[identity]]\n{signed}\n[[identity]]\n{self.source}") as port:
            for of, status in (("opaque", 200), ("es", 200), ("rs", 401)):
                token = self.provider.token("hazel", of)
                self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {token}")[0], status, of)

    def test_an_event_loop_serves_others_while_tokens_wait(self) -> None:
        signed = (
            f'from = "jwt"\nissuer = "{self.provider.issuer}"\naudience = "https://kilnhouse.example/es"\n'
            'roles = "resource_access.kilnhouse.roles"\n'
        )
        settings = self.write("bloodroot.toml", f"[[identity]]\n{signed}\n[[identity]]\n{self.source}")
        app = quart.Quart("waits")
        for path in ("/open", "/vault"):
            app.add_url_rule(path, path[1:], lambda: "seen")
        enforce_quart.protect(app, bloodroot.parse(POLICY), identify=load(settings))
        patient = (
            mock.patch.object(in_a_thread, "__defaults__", (12.0,)),
            mock.patch.object(introspection, "SECONDS", 12.0),
        )
        for each in patient:
            self.enterContext(each)
        for name, served in (("Quart", app), ("Starlette", application(load(settings)))):
            with self.subTest(name), serving(served) as port, ThreadPoolExecutor(20) as pool:
                known = self.provider.token("hazel")
                self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {known}")[0], 200)
                self.provider.tell(mode="silent")
                waiting = [
                    pool.submit(ask, port, "GET", "/vault", Authorization=f"Bearer opaque-{number}")
                    for number in range(20)
                ]
                time.sleep(0.3)
                began = time.monotonic()
                self.assertEqual(ask(port, "GET", "/open")[0], 200)
                self.assertEqual(ask(port, "GET", "/vault", Authorization=f"Bearer {known}")[0], 200)
                self.assertLess(time.monotonic() - began, 10)  # twelve seconds, if the loop waited
                self.provider.tell(mode="well")
                self.assertEqual({each.result()[0] for each in waiting}, {401})

    def test_machines_beside_members(self) -> None:
        # A machine is no member of the directory; its token says what it may.
        self.seeded()
        signed = f'from = "jwt"\nissuer = "{self.provider.issuer}"\naudience = "https://kilnhouse.example/es"\n'
        scoped = 'directory = false\nscopes = "scope"\nscope_names = { "orders" = ["role member"] }\nroles = "kind"\n'
        names = 'names = { "machine" = "keeper" }\n'
        for more, scope, statuses in (
            ("", "orders", {"/open": 200, "/kilns": 401, "/vault": 401}),
            (f"{scoped}{names}", "orders", {"/open": 200, "/kilns": 200, "/vault": 403}),
            (f"{scoped}{names}", "reading:write", {"/open": 200, "/kilns": 403, "/vault": 403}),
        ):
            with self.subTest(more=more, scope=scope), self.served(f"[identity]\n{signed}{more}{DIRECTORY}") as port:
                token = self.provider.machine_token(scope)
                for path, status in statuses.items():
                    self.assertEqual(ask(port, "GET", path, Authorization=f"Bearer {token}")[0], status, path)


class KeysAndPasswords(Behind):
    def setUp(self) -> None:
        super().setUp()
        self.seeded()

    def key(self, *words: str) -> str:
        return self.ran("token", "key", *words).strip()

    def test_keys_of_members(self) -> None:
        whole, some = self.key("ash"), self.key("ash", "--scope", "reading:read", "--name", "gauge")
        lines = self.key("ash", "--scope", "reading:read,role member")
        ended, gone = self.key("ash", "--until", "2020-01-01"), self.key("gone")
        kept = (self.folder / "members.db").read_bytes()
        for key in (whole, some, ended):
            self.assertNotIn(key.encode(), kept)
        with self.served(f'[identity]\nfrom = "key"\n{DIRECTORY}') as port:
            for key, statuses in (
                (whole, (200, 200, 403)),
                (some, (200, 403, 403)),
                (lines, (200, 200, 403)),
                (ended, (200, 401, 401)),
                (gone, (200, 401, 401)),
                (whole[:-1], (200, 401, 401)),
                ("", (200, 401, 401)),
            ):
                found = tuple(ask(port, "GET", path, X_Api_Key=key)[0] for path in ("/open", "/kilns", "/vault"))
                self.assertEqual(found, statuses, key)
            self.ran("token", "key", "ash", "--name", "gauge", "--end")
            self.assertEqual(ask(port, "GET", "/kilns", X_Api_Key=some)[0], 401)
        for words, message in (
            (("nobody",), "no member nobody"),
            (("ash", "--scope", "reeding:read"), 'did you mean "reading:read"?'),
            (("ash", "--until", "soon"), "--until must be a date"),
            (("ash", "--end", "--name", "gauge"), 'has no key "gauge"'),
        ):
            run = self.bloodroot("token", "key", *words)
            self.assertEqual((run.status, message in run.err), (2, True), run.err)

    def test_names_and_passwords(self) -> None:
        with self.served(f'[identity]\nfrom = "basic"\n{DIRECTORY}') as port:
            for login, password, status in (
                ("ash", "a password that is made up", 200),
                ("ash", "a password that is made up ", 401),
                ("ash", "", 401),
                ("hazel", "", 401),
                ("nobody", "x", 401),
            ):
                pair = base64.b64encode(f"{login}:{password}".encode()).decode()
                found, headers, _ = ask(port, "GET", "/kilns", Authorization=f"Basic {pair}")
                self.assertEqual(found, status, login)
                if status == 401:
                    self.assertTrue(headers["www-authenticate"].startswith("Basic realm="))
            self.assertEqual(ask(port, "GET", "/kilns", Authorization="Basic %%%")[0], 401)

    def test_what_has_ended_gives_nothing(self) -> None:
        directory = load(self.write("bloodroot.toml", f'[identity]\nfrom = "key"\n{DIRECTORY}')).directory
        self.addCleanup(directory.engine.dispose)
        hazel = directory.caller(2)
        self.assertEqual((hazel.roles, hazel.groups), ({"member"}, {"day"}))
        self.assertEqual(list(hazel.granted), ["reading:write"])
        # An earlier database has no column for the end; the next seed brings it up to date, and changes nothing else.
        with contextlib.closing(sqlite3.connect(self.folder / "members.db")) as database, database:
            for table in ("member_roles", "memberships", "member_grants"):
                database.execute(f"alter table bloodroot_{table} drop column until")
        self.ran("seed", "seed.toml", "--update", ASH="x")
        directory.forget()
        self.assertEqual(directory.caller(2), hazel)
        self.assertIn("members: 3 kept", self.ran("seed", "seed.toml", ASH="x"))

    def test_roles_of_a_token_and_of_the_directory(self) -> None:
        header = '[identity]\nfrom = "header"\nid = "X-Member"\nroles = "X-Roles"\nsenders = ["127.0.0.1"]\n'
        for which, status in (("directory", 403), ("both", 200)):
            with self.served(f'{header}{DIRECTORY}roles = "{which}"\n') as port:
                self.assertEqual(ask(port, "GET", "/vault", X_Member="1", X_Roles="keeper")[0], status)
                self.assertEqual(ask(port, "GET", "/vault", X_Member="9", X_Roles="keeper")[0], 401)

    def test_tables_of_an_application_with_keys_and_json(self) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "own.db")) as database, database:
            database.executescript(
                "create table staff (id integer, sites text); create table held (role text, ends text);"
                "create table keys (sha text, owner integer, scopes text, ends text);"
                "insert into staff values (1, '[\"north\", \"south\"]'), (2, '[broken');"
                "insert into held values ('member', '2099-01-01'), ('keeper', '2020-01-01');"
                f"insert into keys values ('{hash_of('one')}', 1, 'reading:read', null),"
                f"('{hash_of('two')}', 1, null, '2020-01-01'), ('{hash_of('three')}', 2, null, null);"
            )
        identify = load(
            self.write(
                "bloodroot.toml",
                """
                [identity]
                from = "key"

                [directory]
                url = "sqlite:///own.db"
                json = ["sites"]

                [directory.queries]
                member = "select id, 'active' as status, sites from staff where id = :id"
                roles = "select role, ends as until from held where :id = :id"
                key = "select owner as id, scopes, ends as until from keys where sha = :hash"
                """,
            )
        )
        self.addCleanup(identify.directory.engine.dispose)
        caller = identify(Sent(x_api_key="one"))
        self.assertEqual((caller.roles, caller.attributes["sites"]), ({"member"}, ("north", "south")))
        self.assertEqual((caller.scopes, caller.scoped_roles), ({"reading:read"}, frozenset()))
        for key, why in (("two", "the key has ended"), ("three", "cannot be read"), ("four", "no such key")):
            with self.assertRaisesRegex(bloodroot.Unidentified, why):
                identify(Sent(x_api_key=key))

    def test_who_acts_for_a_member_is_known_behind_a_directory(self) -> None:
        header = '[identity]\nfrom = "header"\nid = "X-Member"\nactor = "X-Acting"\nsenders = ["127.0.0.1"]\n'
        identify = load(self.write("bloodroot.toml", header + DIRECTORY))
        self.addCleanup(identify.directory.engine.dispose)
        policy = bloodroot.parse(
            "conditions\n  oneself  caller.actor == none\nendpoints\n  GET /x  signed-in and oneself\n"
        )
        app = flask.Flask("acting")
        app.add_url_rule("/x", "x", lambda: str(current().caller.id))
        enforce_flask.protect(app, policy, identify=lambda request: identify(request))
        with serving_wsgi(app) as port:
            self.assertEqual(ask(port, "GET", "/x", X_Member="1")[0], 401)  # joined headers are not believed
        caller = identify.directory.caller(1, bloodroot.Caller(1, actor=3))
        self.assertEqual((caller.actor, policy.decide(caller, "GET", "/x").allowed), (3, False))
        self.assertTrue(policy.decide(identify.directory.caller(1), "GET", "/x").allowed)


class Scopes(InFolder):
    def test_what_scopes_give_on_the_command_line(self) -> None:
        policy = "roles\n  user\nconditions\n  own  record.owner == caller.id\npermissions\n  reading:read  user\n"
        policy += (
            "endpoints\n  GET  /readings  reading:read\n  POST  /orders  user\n  PUT  /x  own\n  GET  /about  anyone\n"
        )
        self.write("access.bloodroot", policy)
        settings = '[identity]\nfrom = "jwt"\nkey = "{env.K}"\nroles = "duties"\nscopes = "scope"\n'
        persona = '[personas.gauge]\nroles = ["user"]\nscopes = ["reading:read"]\nattributes = { id = 4 }\n'
        self.write("bloodroot.toml", settings + persona)
        self.assertIn("POST /orders user", self.ran("check", "--only", "scoped-token-passes-role", status=1))
        self.assertIn("allow", self.ran("why", "gauge", "POST", "/orders").splitlines()[0])
        names = 'scope_names = { "readings" = ["reading:read"], "orders" = ["role user"], "openid" = ["*"] }\n'
        self.write("bloodroot.toml", settings + names + persona.replace('"reading:read"', '"readings"'))
        self.ran("check", "--only", "scoped-token-passes-role")
        for who, words, opened in (
            ("gauge", (), {"/readings", "/about"}),
            ("user", ("--scope", "orders"), {"/orders", "/about"}),
            ("user", ("--scope", "orders,openid"), {"/readings", "/orders", "/x", "/about"}),
        ):
            record = ("--caller", '{"id": 4}', "--record", '{"owner": 4}')
            lines = (("GET", "/readings"), ("POST", "/orders"), ("PUT", "/x"), ("GET", "/about"))
            found = {path for method, path in lines if ": allow" in self.ran("why", who, method, path, *record, *words)}
            self.assertEqual(found, opened, who)
        for words, message in (
            (("why", "user", "GET", "/x", "--scope", "orderz"), 'has no scope "orderz"; did you mean "orders"?'),
            (("why", "signed-out", "GET", "/x", "--scope", "orders"), "a signed-out caller has no token"),
        ):
            self.assertIn(message, self.bloodroot(*words).err)
        for wrong, message in (('"reding:read"', 'no permission "reding:read"'), ('"role usr"', 'no role "usr"')):
            self.write("bloodroot.toml", settings + f'scope_names = {{ "a" = [{wrong}] }}\n')
            self.assertIn(message, self.bloodroot("check").err)


class Certificates(Behind):
    SOURCE = '[identity]\nfrom = "certificate"\nid = "cn"\nroles = "ou"\nsenders = ["127.0.0.1"]\n'

    def said(self, made: x509.Certificate) -> dict[str, str]:
        pem = made.public_bytes(Encoding.PEM).decode()
        return {
            "RFC 9440": f":{base64.b64encode(made.public_bytes(Encoding.DER)).decode()}:",
            "PEM, encoded": urllib.parse.quote(pem),
            "PEM in one line": " ".join(pem.split("\n")).strip(),
        }

    def test_what_a_proxy_passes_on(self) -> None:
        good, old = certificate("gauge-7"), certificate("gauge-8", days=-1)
        with self.served(self.SOURCE) as port:
            for how, value in self.said(good).items():
                self.assertEqual(ask(port, "GET", "/vault", Client_Cert=value)[0], 200, how)
            for value in (self.said(old)["RFC 9440"], "gauge-7", ":x:", f"{self.said(good)['PEM, encoded']}, x"):
                self.assertEqual(ask(port, "GET", "/vault", Client_Cert=value)[0], 401, value[:20])
            self.assertEqual(ask(port, "GET", "/open", Client_Cert="")[0], 200)
        with self.served(self.SOURCE.replace("127.0.0.1", "10.0.0.1")) as port:
            self.assertEqual(ask(port, "GET", "/vault", Client_Cert=self.said(good)["RFC 9440"])[0], 401)

    def test_under_wsgi(self) -> None:
        app = flask.Flask("certificates")
        app.add_url_rule("/vault", "vault", lambda: "seen")
        policy = bloodroot.parse(POLICY)
        with self.assertRaisesRegex(SettingsError, 'header = "ClientCert"'):
            enforce_flask.protect(app, policy, identify=load(self.write("bloodroot.toml", self.SOURCE)))
        source = f'{self.SOURCE}header = "ClientCert"\n'
        enforce_flask.protect(app, policy, identify=load(self.write("bloodroot.toml", source)))
        with serving_wsgi(app) as port:
            for value in self.said(certificate("gauge-7")).values():
                self.assertEqual(ask(port, "GET", "/vault", ClientCert=value)[0], 200)
                self.assertEqual(ask(port, "GET", "/vault", ClientCert=f"{value},{value}")[0], 401)

    def test_names_beside_the_subject(self) -> None:
        from bloodroot.identity.certificates import claims_of_certificate

        claims: dict[str, Any] = claims_of_certificate(certificate("g", uri=["spiffe://kilnhouse.example/gauge"]))
        self.assertEqual(
            (claims["uri"], claims["cn"], claims["serial"]), ("spiffe://kilnhouse.example/gauge", "g", "7")
        )
        self.assertEqual(claims["subject"], "OU=keeper,CN=g")
        several = claims_of_certificate(certificate("g", dns=["a.example", "b.example"]))
        self.assertEqual(several["dns"], ["a.example", "b.example"])
