"""Searches of the decision service, records that it loads itself, certificates, and lines of actions."""

import datetime
import json
from typing import Any
from urllib.parse import quote

import httpx
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from tests.serving.serving import SECRETS, Serving, at, user

POLICY = """
policy "Kilns"
roles
  member
  keeper  includes member
conditions
  own    record.owner == caller.id  "Only its owner."
  draft  query.draft == "1"
permissions
  kiln:read   member if own, keeper
  kiln:edit   keeper
  kiln:fire   member if record.studio.lead == caller.id
endpoints
  GET     /kilns            member
  GET     /kilns/{kiln}     kiln:read
  PUT     /kilns/{kiln}     kiln:edit
  GET     /plans/{kiln}     keeper or (own and draft)
  any     /office/**        keeper
"""
MODELS = """
from sqlalchemy import ForeignKey
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

class Base(DeclarativeBase): ...

class Studio(Base):
    __tablename__ = "studios"
    id: Mapped[int] = mapped_column(primary_key=True)
    lead: Mapped[str]

class Kiln(Base):
    __tablename__ = "kilns"
    id: Mapped[int] = mapped_column(primary_key=True)
    owner: Mapped[str]
    studio_id: Mapped[int] = mapped_column(ForeignKey("studios.id"))
    studio: Mapped[Studio] = relationship()

def kiln(text):
    return {"7": {"owner": "ash"}}.get(text)
"""
MAKE = """
import models
from sqlalchemy import create_engine
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///kilns.db")
models.Base.metadata.create_all(engine)
with Session(engine) as session:
    session.add_all(models.Studio(id=n, lead="ash" if n == 1 else "fern") for n in (1, 2))
    session.add_all(models.Kiln(id=n, owner="ash" if n % 2 else "fern", studio_id=1 + n % 2) for n in range(1, 12))
    session.commit()
"""
SETTINGS = """
[identity]
from = "jwt"
key = "{env.TOKEN_KEY}"
roles = "roles"
scopes = "scope"

[identity.scope_names]
"kilns.read" = ["kiln:read"]

[serve]
database = "{env.KILNS}"
audit = "decisions.jsonl"

[serve.askers.desk]
token = "{env.DESK}"
believed = ["roles", "records"]
search = true

[serve.askers.other]
token = "{env.OTHER}"

[serve.actions]
can_read = "read"

[serve.records]
kiln = "models:kiln"

[serve.models]
kiln = "models:Kiln"
"""


class Searching(Serving):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        self.write("models.py", MODELS)
        self.python(MAKE)

    def test_records_of_mapped_classes(self) -> None:
        kiln = {"type": "kiln", "id": "7"}
        with self.serving(KILNS="sqlite:///kilns.db") as client:
            for subject, action, resource, expected in (
                (user("ash", "member"), "can_read", kiln, True),
                (user("fern", "member"), "can_read", kiln, "own"),
                (user("fern", "member"), "can_read", {**kiln, "id": "07"}, 404),
                (user("fern", "member"), "can_read", {**kiln, "id": "99"}, 404),
                (user("fern", "member"), "can_read", {**kiln, "id": "9" * 30}, 404),
                (user("fern", "member"), "can_read", {**kiln, "id": "7; drop table kilns"}, 404),
                # What another record says, which belongs to this one.
                (user("fern", "member"), "fire", kiln, True),
                (user("ash", "member"), "fire", kiln, "condition"),
                # A token for less than its owner may do: its scopes are those of the settings.
                ({**user("ash"), "properties": {"roles": ["member"], "scopes": ["kilns.read"]}}, "read", kiln, True),
                ({**user("ash"), "properties": {"roles": ["member"], "scopes": ["kiln:read"]}}, "read", kiln, "role"),
                ({**user("ash"), "properties": {"roles": ["member"], "roles_in": 7}}, "read", kiln, 400),
                # One query, whether it is a part of the path or beside it.
                (user("ash", "member"), "GET", at("/plans/7?draft=1"), True),
                (user("ash", "member"), "GET", at("/plans/7"), "draft"),
            ):
                with self.subTest(subject=subject, action=action, resource=resource):
                    body = {"subject": subject, "action": {"name": action}, "resource": resource}
                    self.assert_answer(self.asked(client, body), expected)
            beside = {"subject": user("ash", "member"), "action": {"name": "GET"}, "resource": at("/plans/7")}
            self.assert_answer(self.asked(client, {**beside, "context": {"query": {"draft": "1"}}}), True)
            twice = {**beside, "resource": at("/plans/7?draft=1"), "context": {"query": {"draft": "1"}}}
            self.assertFalse(self.asked(client, twice).json()["decision"])
        first, *_, last = map(json.loads, (self.folder / "decisions.jsonl").read_text("utf-8").splitlines())
        self.assertEqual([first["asker"], first["resource"], first["path"]], ["desk", "kiln 7", None])
        self.assertEqual([last["path"], last["outcome"], last["reason"]], ["/plans/7", "deny", "draft"])
        # The log is one that other commands read.
        counted = json.loads(self.bloodroot("replay", "decisions.jsonl", "--format", "json", KILNS="x").out)
        self.assertEqual((counted["unread"], counted["requests"]), (0, 15))
        self.assertEqual({each["now"] for each in counted["differences"]}, {"depends"}, counted["differences"])
        self.assertEqual(self.bloodroot("tried", "decisions.jsonl", KILNS="x").status, 0)

    def assert_answer(self, response: httpx.Response, expected: object) -> None:
        answer = response.json()
        context = answer.get("context", {})
        found = answer["decision"] or context.get("reason") or context["error"]["status"]
        self.assertEqual(found, expected, answer)

    def pages(self, client: httpx.Client, of: str, body: dict[str, Any], limit: int = 3) -> list[str]:
        """All results of a search, by pages; each is asked once more as a question."""
        found: list[str] = []
        token = ""
        for _ in range(20):
            sent = {**body, "page": {"limit": limit, **({"token": token} if token else {})}}
            answer = self.asked(client, sent, of=f"search/{of}").json()
            self.assertLessEqual(len(answer["results"]), limit)
            for each in answer["results"]:
                again = self.asked(client, {**body, of: {**body.get(of, {}), **each}})
                self.assertEqual(again.json(), {"decision": True}, each)
            found += [each.get("id") or each["name"] for each in answer["results"]]
            token = answer["page"]["next_token"]
            if not token:
                return found
        raise AssertionError("the pages have no end")

    def test_resources_and_actions(self) -> None:
        reads = {"subject": user("ash", "member"), "action": {"name": "can_read"}, "resource": {"type": "kiln"}}
        with self.serving(KILNS="sqlite:///kilns.db") as client:
            metadata = client.get("/.well-known/authzen-configuration").json()
            self.assertEqual(
                [name for name in metadata if "search" in name],
                [
                    "search_resource_endpoint",
                    "search_action_endpoint",
                ],
            )
            for subject, action, expected in (
                (user("ash", "member"), "can_read", ["1", "3", "5", "7", "9", "11"]),
                (user("ash", "keeper"), "can_read", [str(number) for number in range(1, 12)]),
                (user("ash", "member"), "edit", []),
                (user("fern", "member"), "fire", ["1", "3", "5", "7", "9", "11"]),
                ({"type": "anonymous", "id": "-"}, "can_read", []),
            ):
                with self.subTest(subject=subject, action=action):
                    body = {**reads, "subject": subject, "action": {"name": action}}
                    self.assertEqual(self.pages(client, "resource", body), expected)
            for subject, resource, expected in (
                (user("ash", "member"), {"type": "kiln", "id": "1"}, ["can_read"]),
                (user("fern", "member"), {"type": "kiln", "id": "1"}, ["fire"]),
                (user("ash", "keeper"), {"type": "kiln", "id": "2"}, ["can_read", "edit", "fire"]),
                (user("ash", "member"), at("/kilns"), ["GET", "HEAD"]),
                (user("ash", "keeper"), at("/kilns/7"), ["GET", "HEAD", "PUT"]),
                (user("ash", "member"), at("//kilns"), []),
            ):
                with self.subTest(subject=subject, resource=resource):
                    body = {"subject": subject, "resource": resource, "action": {}}
                    self.assertEqual(self.pages(client, "action", body, 2), expected)
            for of, body, who, status in (
                ("resource", reads, "OTHER", 403),
                ("subject", reads, "DESK", 404),
                ("nothing", reads, "DESK", 404),
                ("resource", {**reads, "resource": {"type": "pot"}}, "DESK", 501),
                ("resource", {**reads, "action": {"name": "burn"}}, "DESK", 404),
                ("resource", {**reads, "page": {"limit": 0}}, "DESK", 400),
                ("resource", {**reads, "page": {"token": "!"}}, "DESK", 400),
                ("resource", {**reads, "page": {"token": "MDc="}}, "DESK", 400),
                ("resource", [], "DESK", 400),
                ("resource", {"action": {"name": "read"}}, "DESK", 400),
            ):
                with self.subTest(of=of, body=body, who=who):
                    self.assertEqual(self.asked(client, body, who, f"search/{of}").status_code, status)
            self.python("import sqlite3; sqlite3.connect('kilns.db').execute('alter table kilns rename to away')")
            gone = self.asked(client, {**reads, "resource": {"type": "kiln", "id": "7"}})
            self.assertEqual((gone.status_code, gone.headers.get("retry-after")), (503, "1"))

    def test_subjects(self) -> None:
        self.write("bloodroot.toml", SETTINGS + '\n[directory]\nurl = "sqlite:///members.db"\n')
        members = [
            f'[[members]]\nid = {n}\nlogin = "m{n}"\nroles = ["{role}"]\n'
            for n, role in enumerate(["member", "keeper", "member", "keeper", "keeper", "keeper", "member"], 1)
        ]
        members[3] += 'status = "suspended"\n'
        self.write("seed.toml", "\n".join(members))
        seeded = self.bloodroot("seed", "seed.toml", KILNS="sqlite:///kilns.db", **SECRETS)
        self.assertEqual(seeded.status, 0, seeded.err)
        with self.serving(KILNS="sqlite:///kilns.db") as client:
            for action, resource, expected in (
                ("edit", {"type": "kiln", "id": "1"}, ["2", "5", "6"]),
                ("GET", at("/kilns"), ["1", "2", "3", "5", "6", "7"]),
                ("DELETE", at("/kilns"), []),
            ):
                body = {"subject": {"type": "user"}, "action": {"name": action}, "resource": resource}
                with self.subTest(action=action):
                    self.assertEqual(self.pages(client, "subject", body, 2), expected)
            # A member has one id: 02 is not 2.
            alias = {"subject": user("02"), "action": {"name": "GET"}, "resource": at("/kilns")}
            self.assertFalse(self.asked(client, alias).json()["decision"])

    def test_askers_with_certificates(self) -> None:
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "shop")])
        key, now = ec.generate_private_key(ec.SECP256R1()), datetime.datetime.now(datetime.UTC)
        day = datetime.timedelta(days=1)
        certificate = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(subject)
            .public_key(key.public_key())
            .serial_number(7)
            .not_valid_before(now - day)
            .not_valid_after(now + day)
            .sign(key, hashes.SHA256())
        )
        pem = quote(certificate.public_bytes(serialization.Encoding.PEM).decode())
        body = {"subject": user("ash", "member"), "action": {"name": "GET"}, "resource": at("/kilns")}
        fingerprint = certificate.fingerprint(hashes.SHA256()).hex(":").upper()
        for written, status in (("CN=shop", 200), (fingerprint, 200), ("CN=other", 401)):
            more = f'\n[serve.askers.shop]\ncertificate = "{written}"\nbelieved = ["roles"]\n'
            self.write("bloodroot.toml", SETTINGS + more)
            with self.subTest(written), self.serving(KILNS="sqlite:///kilns.db") as client:
                for headers, expected in (
                    ({"Client-Cert": pem}, status),
                    ({"Client-Cert": "x"}, 401),
                    ({}, 401),
                    # Two askers in one request are none.
                    ({"Client-Cert": pem, "Authorization": f"Bearer {SECRETS['DESK']}"}, 401 if status == 200 else 200),
                ):
                    response = client.post("/access/v1/evaluation", json=body, headers=headers)
                    self.assertEqual(response.status_code, expected, headers.keys())
        self.write("bloodroot.toml", SETTINGS + '[serve.askers.a]\ncertificate = "CN=x"\ntoken = "{env.DESK}"\n')
        self.assertIn("an asker has one of token", self.bloodroot("serve", KILNS="sqlite://", **SECRETS).err)

    def test_lines_of_actions(self) -> None:
        application = """
        from starlette.applications import Starlette
        from starlette.responses import PlainTextResponse
        from starlette.routing import Route
        async def show(request): return PlainTextResponse("")
        app = Starlette(routes=[Route("/pots/{pot}", show, name="show")])
        """
        self.write("shop.py", application)
        self.write("access.bloodroot", "roles\n  member\nendpoints\n  action show  member\n")
        for settings, words in (
            (SETTINGS, 'write app = "module:name"'),
            ('app = "shop:app"\n' + SETTINGS, ""),
        ):
            self.write("bloodroot.toml", settings)
            if words:
                run = self.bloodroot("serve", KILNS="sqlite:///kilns.db", **SECRETS)
                self.assertEqual((run.status, words in run.err), (2, True), run.err)
                continue
            with self.serving(KILNS="sqlite:///kilns.db") as client:
                for path, role, decision in (
                    ("/pots/7", "member", True),
                    ("/pots/7", "x", False),
                    ("/x", "member", False),
                ):
                    body = {"subject": user("ash", role), "action": {"name": "GET"}, "resource": at(path)}
                    self.assertIs(self.asked(client, body).json()["decision"], decision, path)
                # A changed policy is bound as the first one was.
                changed = "roles\n  member\n  x\nendpoints\n  action show  x\n"
                self.write("beside", changed).replace(self.folder / "access.bloodroot")
                self.wait_until(
                    lambda: self.asked(
                        client, {"subject": user("ash", "x"), "action": {"name": "GET"}, "resource": at("/pots/7")}
                    ).json()["decision"]
                )
                self.assertEqual(json.loads(client.get("/ready").text)["policy"], "in force")
