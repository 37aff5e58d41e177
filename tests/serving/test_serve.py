"""The decision service: real processes, asked over HTTP."""

import asyncio
import contextlib
import json
import os
import re
import shutil
import socket
import sqlite3
import subprocess
import time
import unittest
from collections import Counter
from pathlib import Path
from typing import Any

import httpx
import jwt
from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot.serving.deciding import Decider
from bloodroot.serving.in_force import InForce, caller_of
from bloodroot.serving.questions import one
from bloodroot.serving.subjects import Subjects
from bloodroot.settings import Asker, ClaimNames, ServeRules
from tests.core.naive import CALLERS, METHODS, RECORDS, worlds
from tests.examples import examples
from tests.serving.serving import ANYONE, SECRETS, Serving, at, free_port, user

POLICY = """
policy "Kilns"
roles
  member
  keeper  includes member
conditions
  own  record.owner == caller.id  "Only its owner."
permissions
  kiln:read  member if own, keeper
  kiln:edit  keeper
endpoints
  GET       /kilns            member
  GET       /kilns/{kiln_id}  kiln:read
  PUT       /kilns/{kiln_id}  kiln:edit
  GET       /about            anyone
  GET POST  /sign-in          anyone
  any       /office/**        keeper
  any       /secret/**        keeper
  WEBSOCKET /live             member
  WEBSOCKET /chat             anyone
  GET       /chat             keeper
  any       /open/**          member
  GET       /open/vault       keeper
denials
  /office/** role  hide
  /secret/** any   hide
  /kilns/** signed-out  go /sign-in
"""
SETTINGS = """
[identity]
from = "jwt"
key = "{env.TOKEN_KEY}"
roles = "roles"

[serve.askers.desk]
token = "{env.DESK}"
believed = ["roles", "records"]

[serve.askers.other]
token = "{env.OTHER}"

[serve.actions]
can_read = "read"

[serve.records]
kiln_id = "data:kiln"
"""
DATA = 'def kiln(text):\n    return {"7": {"owner": "ash"}, "8": {"owner": "fern"}}.get(text)\n'


class ServingKilns(Serving):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        self.write("data.py", DATA)


class Questions(ServingKilns):
    def test_one_question(self) -> None:
        kiln = {"type": "kiln", "id": "7"}
        own, others = ({**kiln, "properties": {"owner": owner}} for owner in ("ash", "fern"))
        denied = "You do not have access to this."
        with self.serving() as client:
            for subject, action, resource, who, expected in (
                (user("ash", "member"), "can_read", own, "DESK", {"decision": True}),
                (user("ash", "member"), "read", others, "DESK", {"reason": "own", "message": "Only its owner."}),
                (user("ash", "member"), "read", kiln, "DESK", {"reason": "depends"}),
                (user("ash", "keeper"), "read", kiln, "DESK", {"decision": True}),
                (user("ash", "member"), "fire", kiln, "DESK", {"error": 404}),
                (user("ash", "member"), "*", kiln, "DESK", {"error": 404}),
                (user("ash", "member"), "GET", at("/kilns/7"), "DESK", {"decision": True}),
                (
                    user("ash", "member"),
                    "GET",
                    at("/kilns/8"),
                    "DESK",
                    {"reason": "own", "line": "access.bloodroot:12"},
                ),
                (user("ash", "member"), "GET", at("/kilns/9"), "DESK", {"reason": "depends"}),
                (user("ash", "member"), "PUT", at("/kilns/7"), "DESK", {"reason": "role", "message": denied}),
                (user("ash", "member"), "GET", at("/kilns%2f7"), "DESK", {"reason": "ambiguous-path"}),
                (user("ash", "member"), "GET", at("//kilns"), "DESK", {"reason": "ambiguous-path"}),
                (user("ash", "member"), "get", at("/kilns"), "DESK", {"reason": "method"}),
                (user("ash", "member"), "GET", at("kilns"), "DESK", {"error": 400}),
                (ANYONE, "GET", at("/kilns"), "DESK", {"reason": "signed-out"}),
                (ANYONE, "GET", at("/kilns/7"), "DESK", {"location": "/sign-in"}),
                (ANYONE, "GET", at("/about"), "DESK", {"decision": True}),
                ({"type": "robot", "id": "r"}, "GET", at("/about"), "DESK", {"error": 404}),
                # Only some askers are believed.
                (user("ash", "keeper"), "read", kiln, "OTHER", {"error": 403}),
                (ANYONE, "GET", at("/about"), "OTHER", {"decision": True}),
                ({**user("ash"), "properties": {"roles": "keeper"}}, "read", kiln, "DESK", {"error": 400}),
            ):
                with self.subTest(action=action, resource=resource, subject=subject, who=who):
                    body = {"subject": subject, "action": {"name": action}, "resource": resource}
                    response = self.asked(client, body, who)
                    self.assertEqual(response.status_code, 200)
                    answer = response.json()
                    context = answer.get("context", {})
                    self.assertIs(answer["decision"], expected.get("decision", False))
                    for name, value in expected.items():
                        found = {**answer, **context, "error": context.get("error", {}).get("status")}
                        self.assertEqual(found.get(name), value, answer)

    def test_several_questions(self) -> None:
        common = {"subject": user("ash", "member"), "action": {"name": "GET"}}
        entries = [{"resource": at(path)} for path in ("/kilns", "/office/1", "/kilns/7", "/nowhere")]
        with self.serving() as client:
            for semantic, decisions in (
                (None, [True, False, True, False]),
                ("execute_all", [True, False, True, False]),
                ("deny_on_first_deny", [True, False]),
                ("permit_on_first_permit", [True]),
            ):
                options = {"options": {"evaluations_semantic": semantic}} if semantic else {}
                answer = self.asked(client, {**common, **options, "evaluations": entries}, of="evaluations").json()
                self.assertEqual([each["decision"] for each in answer["evaluations"]], decisions)
            # A member of an entry takes the place of the common one; one that is not complete fails alone.
            others = [
                {"subject": ANYONE, "resource": at("/kilns")},
                {"resource": {"type": "endpoint"}},
                {"resource": at("/kilns")},
            ]
            found = self.asked(client, {**common, "evaluations": others}, of="evaluations").json()["evaluations"]
            self.assertEqual([each["decision"] for each in found], [False, False, True])
            self.assertEqual(
                found[1]["context"]["error"], {"status": 400, "message": "resource.id is missing, or no string"}
            )
            for alone in ({}, {"evaluations": []}):
                answer = self.asked(client, {**common, "resource": at("/kilns"), **alone}, of="evaluations").json()
                self.assertEqual(answer, {"decision": True})
            many = self.asked(client, {**common, "evaluations": [{"resource": at("/kilns")}] * 1000}, of="evaluations")
            self.assertEqual(sum(each["decision"] for each in many.json()["evaluations"]), 1000)

    def test_questions_that_fail(self) -> None:
        whole = {"subject": ANYONE, "action": {"name": "GET"}, "resource": at("/about")}
        known = {"Authorization": f"Bearer {SECRETS['DESK']}", "Content-Type": "application/json"}
        with self.serving() as client:
            for body, headers, status in (
                (whole, {}, 200),
                (whole, {"Authorization": "Bearer x"}, 401),
                (whole, {"Authorization": ""}, 401),
                (whole, {"Authorization": f"Basic {SECRETS['DESK']}"}, 401),
                (whole, {"Content-Type": "text/plain"}, 415),
                ("{", {}, 400),
                ("[" * 100_000, {}, 400),
                ([], {}, 400),
                ({**whole, "subject": "ash"}, {}, 400),
                ({**whole, "subject": {"type": "user"}}, {}, 400),
                ({**whole, "action": {}}, {}, 400),
                ({**whole, "context": 7}, {}, 400),
                ({**whole, "more": {"ignored": True}}, {}, 200),
                ("x" * 1_100_000, {}, 413),
            ):
                content = body if isinstance(body, str) else json.dumps(body)
                with self.subTest(content[:40], headers=headers):
                    sent = {**known, "X-Request-ID": "r-17", **headers}
                    response = client.post("/access/v1/evaluation", content=content, headers=sent)
                    self.assertEqual((response.status_code, response.headers["x-request-id"]), (status, "r-17"))
                    # The answer to a POST that says nothing of caches is kept by none (RFC 9110, section 9.3.3).
                    self.assertEqual(response.headers.get("cache-control"), None if status == 200 else "no-store")
            # Text that is no Unicode is no question, wherever it is.
            odd = '"\\ud800"'
            for place in ('"ash"', '"GET"', '"/about"', '"x"', '"y"'):
                text = """{"subject": {"type": "user", "id": "ash", "properties": {"roles": ["x"]}},
                    "action": {"name": "GET"}, "resource": {"type": "endpoint", "id": "/about"},
                    "context": {"query": {"y": "x"}}}"""
                response = client.post("/access/v1/evaluation", content=text.replace(place, odd), headers=known)
                self.assertEqual(response.status_code, 400, place)
            too_many = {**whole, "evaluations": [{}] * 1001}
            for body in (
                too_many,
                {**whole, "evaluations": 7},
                {**whole, "evaluations": [{}], "options": {"evaluations_semantic": "x"}},
            ):
                self.assertEqual(self.asked(client, body, of="evaluations").status_code, 400)

    def test_subjects_of_a_directory(self) -> None:
        self.write(
            "seed.toml",
            '[[members]]\nid = 1\nlogin = "ash"\nroles = ["keeper"]\n[[members]]\nid = 2\nlogin = "gone"\n'
            'roles = ["keeper"]\nstatus = "suspended"\n',
        )
        self.write("bloodroot.toml", SETTINGS + '\n[directory]\nurl = "sqlite:///members.db"\ncache = 0\n')
        self.ran("seed", "seed.toml", **SECRETS)
        with self.serving() as client:
            for name, decision in (("1", True), ("01", False), ("2", False), ("3", False), ("ash", False)):
                body = {"subject": user(name), "action": {"name": "PUT"}, "resource": at("/kilns/7")}
                self.assertIs(self.asked(client, body, "OTHER").json()["decision"], decision, name)
            self.assertEqual(client.get("/ready").json(), {"policy": "in force", "directory": "well"})
            # Gone, it is refused, and well again without a restart.
            self.sql("alter table bloodroot_members rename to away")
            gone = self.asked(client, {"subject": user("1"), "action": {"name": "PUT"}, "resource": at("/kilns/7")})
            self.assertEqual((gone.status_code, gone.headers.get("retry-after")), (503, "1"))
            self.assertEqual(client.get("/ready").status_code, 503)
            self.sql("alter table away rename to bloodroot_members")
            body = {"subject": user("1"), "action": {"name": "PUT"}, "resource": at("/kilns/7")}
            self.assertTrue(self.asked(client, body).json()["decision"])
            self.assertEqual(client.get("/ready").status_code, 200)

    def sql(self, statement: str) -> None:
        with contextlib.closing(sqlite3.connect(self.folder / "members.db")) as database, database:
            database.execute(statement)

    def test_a_policy_that_changes_under_several_workers(self) -> None:
        question = {"subject": user("ash", "member"), "action": {"name": "GET"}, "resource": at("/kilns")}
        # A connection for each question, so that every worker is asked.
        limits = httpx.Limits(max_keepalive_connections=0)
        with self.serving("--workers", "2") as client, httpx.Client(base_url=client.base_url, limits=limits) as each:
            self.assertTrue(self.asked(client, question).json()["decision"])
            for text, decision, ready in (
                (POLICY.replace("/kilns            member", "/kilns            keeper"), False, 200),
                ("roles\n  membr membr\n", False, 503),
                (POLICY, True, 200),
            ):
                beside = self.write("beside", text)
                beside.replace(self.folder / "access.bloodroot")
                deadline = time.monotonic() + 60
                while time.monotonic() < deadline:
                    found = {
                        (self.asked(each, question).json()["decision"], each.get("/ready").status_code)
                        for _ in range(6)
                    }
                    if found == {(decision, ready)}:
                        break
                    time.sleep(0.2)
                self.assertEqual(found, {(decision, ready)})

    def test_who_may_ask_is_said(self) -> None:
        for settings, message in (
            ('policy = "access.bloodroot"\n', "no one may ask; write [serve.askers.NAME]"),
            ('[serve.askers.a]\ntoken = "hush"\n', "a secret is not in this file"),
            ('[serve.askers.a]\ntoken = "{env.SHORT}"\n', "a secret has 32 characters or more"),
            ('[serve.askers.a]\ntoken = "{env.BLANKS}"\n', "a secret has no blanks"),
            (
                '[serve.askers.a]\ntoken = "{env.DESK}"\n[serve.askers.b]\ntoken = "{env.DESK}"\n',
                "have the same secret",
            ),
            ('[serve.askers.a]\ntoken = "{env.DESK}"\nbelieved = ["role"]\n', '"role" is none of roles, records'),
            ('[serve]\nurl = "ftp://x"\n', "this must be what askers call the service"),
            ('[serve.askers.a]\ntoken = "{env.DESK}"\n[serve.records]\nkiln = "nowhere:kiln"\n', "serve.records.kiln"),
        ):
            with self.subTest(message):
                self.write("bloodroot.toml", settings)
                run = self.bloodroot("serve", SHORT="x", BLANKS="made up " * 9, **SECRETS)
                self.assertEqual((run.status, message in run.err), (2, True), run.err)


class UnderLoad(ServingKilns):
    def test_a_policy_that_changes_all_the_time(self) -> None:
        """Three workers, 64 connections: each answer is that of one whole policy, and none fails."""
        lines = "  GET  /one  {}\n  GET  /two  {}\n"
        texts = ["roles\n  member\n  other\nendpoints\n" + lines.format(*pair) for pair in
                 (("member", "other"), ("other", "member"))]  # fmt: skip
        wholes, asked = [[True, False], [False, True]], Counter[str]()
        self.write("access.bloodroot", texts[0])
        body = {
            "subject": user("ash", "member"),
            "action": {"name": "GET"},
            "evaluations": [{"resource": at("/one")}, {"resource": at("/two")}] * 20,
        }

        async def ask(client: httpx.AsyncClient, ended: asyncio.Event) -> None:
            headers = {"Authorization": f"Bearer {SECRETS['DESK']}"}
            while not ended.is_set():
                response = await client.post("/access/v1/evaluations", json=body, headers=headers)
                self.assertEqual(response.status_code, 200)
                found = [each["decision"] for each in response.json()["evaluations"]]
                self.assertIn(found[:2], wholes)
                self.assertEqual(found, found[:2] * 20)
                asked[str(found[:2])] += 1

        async def all_of_it(base: str) -> None:
            ended = asyncio.Event()
            limits = httpx.Limits(max_connections=64, max_keepalive_connections=64)
            async with httpx.AsyncClient(base_url=base, limits=limits, timeout=60, trust_env=False) as client:
                asking = [asyncio.create_task(ask(client, ended)) for _ in range(64)]
                # What changes again within 0.3 seconds is not read before that ends.
                for change in range(100 if os.environ.get("EXPLORE") else 6):
                    text = texts[change % 4 // 2] if change % 5 else "roles\n  membr membr\n"
                    self.write("beside", text).replace(self.folder / "access.bloodroot")
                    await asyncio.sleep(0.8)
                ended.set()
                await asyncio.gather(*asking)

        with self.serving("--workers", "3") as client:
            asyncio.run(all_of_it(str(client.base_url)))
        self.assertEqual(set(asked), {str(each) for each in wholes}, asked)

    def test_connections(self) -> None:
        self.write("bloodroot.toml", SETTINGS.replace("[serve.actions]", "[serve]\ntimeout = 0.5\n[serve.actions]"))
        question = b"GET /health HTTP/1.1\r\nHost: x\r\n\r\n"
        with self.serving() as client, contextlib.ExitStack() as stack:
            address = (client.base_url.host, client.base_url.port)
            kept = [stack.enter_context(socket.create_connection(address, 30)) for _ in range(400)]
            self.all_answer(kept, question)
            # Those that have asked are kept for longer than what does not arrive.
            for begun in (b"", b"GET /hea", b"POST /access/v1/evaluation HTTP/1.1\r\nHost: x\r\n"):
                with self.subTest(begun), socket.create_connection(address, 30) as slow:
                    slow.sendall(begun)
                    began = time.monotonic()
                    while slow.recv(4096):
                        self.assertLess(time.monotonic() - began, 20)
            self.all_answer(kept, question)
            head = f"POST /access/v1/evaluation HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {SECRETS['DESK']}\r\n"
            head += "Content-Type: application/json\r\nContent-Length: 900\r\n\r\n{"
            with socket.create_connection(address, 30) as slow:
                slow.sendall(head.encode())
                self.assertIn(b" 408 ", slow.recv(4096))

    def all_answer(self, kept: list[socket.socket], question: bytes) -> None:
        for each in kept:
            each.sendall(question)
        for each in kept:
            answer = b""
            while not answer.endswith(b"well\n"):
                more = each.recv(4096)
                self.assertTrue(more, answer)
                answer += more


class Proxies(ServingKilns):
    def test_checks_of_requests(self) -> None:
        token = jwt.encode({"sub": "ash", "roles": ["member"], "exp": time.time() + 600}, SECRETS["TOKEN_KEY"])
        known = {"Authorization": f"Bearer {token}"}
        audited = SETTINGS.replace("[serve.actions]", '[serve]\naudit = "decisions.jsonl"\n[serve.actions]')
        self.write("bloodroot.toml", audited)
        with self.serving() as client:
            for method, target, headers, status, more in (
                ("GET", "/kilns?sort=name", {**known, "X-Request-ID": "r-1"}, 200, {"x-caller": "ash"}),
                ("GET", "/kilns", {}, 401, {"x-access-status": "401"}),
                ("GET", "/kilns/7", {"Accept": "text/html"}, 401, {"location": "/sign-in?next=/kilns/7"}),
                ("GET", "/kilns/7", known, 200, {}),
                ("GET", "/kilns/8", known, 403, {"x-access-status": "403"}),
                ("GET", "/kilns/9", known, 403, {}),
                ("PUT", "/kilns/7", known, 403, {}),
                ("GET", "/office/1", known, 403, {"x-access-status": "404"}),
                ("GET", "/offic%65/1", known, 403, {}),
                ("GET", "//kilns", known, 403, {"x-access-status": "400"}),
                ("GET", "/x/../kilns", known, 403, {}),
                ("GET", "/kilns%2f7", known, 403, {}),
                ("GET", "kilns", known, 403, {}),
                ("get", "/kilns", known, 403, {}),
                ("GET", "/live", known, 403, {}),
                ("GET", "/live", {**known, "Upgrade": "websocket"}, 200, {}),
                # An application may answer an offer of a WebSocket as any GET: it is let in where that is.
                ("GET", "/open/vault", {**known, "Upgrade": "websocket"}, 403, {}),
                ("GET", "/open/hall", {**known, "Upgrade": "websocket"}, 200, {}),
                ("GET", "/chat", {**known, "Upgrade": "websocket"}, 403, {}),
                ("GET", "/kilns", {**known, "Upgrade": "websocket"}, 403, {}),
                ("GET", "/nowhere", known, 403, {}),
                # Hidden from all but keepers: no one is asked to sign in.
                ("GET", "/secret/1", {}, 403, {"x-access-status": "404", "location": None}),
                ("GET", "/about", {}, 200, {}),
                ("GET", "/kilns", {"Authorization": f"Bearer {token}x"}, 401, {}),
                ("GET", "/kilns", {**known, "X-Forwarded-Uri": "/about"}, 403, {}),
            ):
                with self.subTest(f"{method} {target}", headers=headers):
                    sent = {"X-Original-URI": target, "X-Original-Method": method, **headers}
                    response = client.get("/check", headers=sent)
                    self.assertEqual(response.status_code, status, response.text)
                    self.assertEqual({name: response.headers.get(name) for name in more}, more)
            self.assertEqual(client.get("/check", headers=known).status_code, 403)
            metadata = client.get("/.well-known/authzen-configuration").json()
            self.assertEqual(metadata["policy_decision_point"], str(client.base_url).rstrip("/"))
            counts = client.get("/counts").text
            self.assertIn('bloodroot_decisions_total{kind="check",decision="allow"} 5', counts)
        written = [json.loads(line) for line in (self.folder / "decisions.jsonl").read_text("utf-8").splitlines()]
        self.assertEqual(Counter(each["outcome"] for each in written)["allow"], 8)
        first = {name: written[0][name] for name in ("request", "caller", "roles", "method", "path", "outcome")}
        expected = {"caller": "ash", "roles": ["member"], "method": "GET", "path": "/kilns", "outcome": "allow"}
        self.assertEqual(first, {"request": "r-1", **expected})
        self.write(
            "bloodroot.toml", SETTINGS.replace("[serve.actions]", '[serve]\nsenders = ["192.0.2.1"]\n[serve.actions]')
        )
        with self.serving() as client:
            sent = {"X-Original-URI": "/about", "X-Original-Method": "GET"}
            self.assertEqual(client.get("/check", headers=sent).status_code, 403)


class BehindNginx(ServingKilns):
    """The recipe of docs/serve.md as it is written, with other ports: nginx before an application on Node."""

    def test_what_is_refused_never_reaches_the_application(self) -> None:
        for needed in ("nginx", "node"):
            if shutil.which(needed) is None:
                self.skipTest(f"{needed} is not installed; scripts/system-packages installs it")
        program = Path(__file__).parents[1] / "data" / "serving_app.mjs"
        application = subprocess.Popen(["node", program], stdout=subprocess.PIPE, text=True)
        self.addCleanup(application.communicate)
        self.addCleanup(application.terminate)
        assert application.stdout is not None
        node = int(application.stdout.readline())
        page = (Path(__file__).parents[2] / "docs" / "serve.md").read_text("utf-8")
        recipe = re.findall(r"```nginx\n(.*?)```", page, re.S)[0]
        port = free_port()
        token = jwt.encode({"sub": "ash", "roles": ["member"], "exp": time.time() + 600}, SECRETS["TOKEN_KEY"])
        with self.serving() as client:
            recipe = recipe.replace("127.0.0.1:8180", str(client.base_url.netloc, "ascii"))
            recipe = recipe.replace("127.0.0.1:3000", f"127.0.0.1:{node}")
            temporary = "".join(
                f"{kind}_temp_path {self.folder}/{kind};"
                for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
            )
            server = f"server {{ listen 127.0.0.1:{port}; {recipe} }}"
            self.write(
                "nginx.conf",
                f"daemon off; pid {self.folder}/pid; error_log {self.folder}/errors;"
                f"events {{}} http {{ access_log off; {temporary} {server} }}",
            )
            nginx = subprocess.Popen(
                ["nginx", "-c", str(self.folder / "nginx.conf"), "-e", str(self.folder / "errors")],
                stderr=subprocess.DEVNULL,
            )
            try:
                self.ask_all(port, token, f"http://127.0.0.1:{node}/seen")
            finally:
                nginx.terminate()
                nginx.wait(20)

    def raw(self, port: int, method: str, target: str, *headers: str) -> tuple[int, str]:
        """A request as it is written, and its status with where it leads."""
        for _ in range(600):
            with contextlib.suppress(ConnectionRefusedError), socket.create_connection(("127.0.0.1", port), 10) as sent:
                lines = (f"{method} {target} HTTP/1.1", "Host: kilns.example", *headers, "", "")
                sent.sendall("\r\n".join(lines).encode())
                answer = ""
                while "\r\n\r\n" not in answer:
                    more = sent.recv(65_536)
                    self.assertTrue(more, answer)
                    answer += more.decode("latin-1")
                leads = re.search(r"(?i)\nlocation: (\S+)", answer)
                return int(answer.split(" ")[1]), leads[1] if leads is not None else ""
            time.sleep(0.05)
        raise AssertionError("nginx does not answer")

    def ask_all(self, port: int, token: str, seen: str) -> None:
        known = f"Authorization: Bearer {token}"
        socket_opened = ("Upgrade: websocket", "Connection: Upgrade", "Sec-WebSocket-Version: 13")
        for method, target, headers, expected, reached in (
            ("GET", "/kilns", (known,), (200, ""), "GET /kilns ash"),
            ("GET", "/kilns?sort=name", (known,), (200, ""), "GET /kilns?sort=name ash"),
            ("GET", "/about", (), (200, ""), "GET /about "),
            ("GET", "/about", ("X-Caller: hazel",), (200, ""), "GET /about "),
            ("GET", "/kilns", (), (401, ""), None),
            ("GET", "/kilns/7", ("Accept: text/html",), (303, "/sign-in?next=/kilns/7"), None),
            ("PUT", "/kilns/7", (known, "Content-Length: 0"), (403, ""), None),
            ("GET", "/office/1", (known,), (403, ""), None),
            ("GET", "/live", (known, *socket_opened), (101, ""), "UPGRADE /live ash"),
            ("GET", "/live", socket_opened, (401, ""), None),
            ("GET", "/live", (known,), (403, ""), None),
            ("GET", "/kilns", (known, *socket_opened), (403, ""), None),
            ("GET", "/open/vault", (known, *socket_opened), (403, ""), None),
            ("GET", "/open/hall", (known,), (200, ""), "GET /open/hall ash"),
            *(
                ("GET", target, (known,), None, None)
                for target in (
                    "//office/1",
                    "/offic%65/1",
                    "/x/../office/1",
                    "/office%2f1",
                    "/OFFICE/1",
                    "/./office/1",
                    "/kilns/../office/1",
                    "/office/1;x",
                    "/%6fffice/1",
                    "/kilns/%2e%2e/office/1",
                    "http://kilns.example/office/1",
                    "/office/1?/../kilns",
                    "/about/../office/1",
                    "/about%00/office/1",
                    "/office/1#/about",
                )
            ),
            ("GET", "/office/1", (known, "X-Original-URI: /about"), None, None),
            ("GET", "/office/1", (known, "X-Forwarded-Uri: /about", "X-Forwarded-Method: GET"), None, None),
            ("PUT", "/kilns/7", (known, "X-Original-Method: GET", "X-HTTP-Method-Override: GET"), None, None),
        ):
            with self.subTest(f"{method} {target}", headers=headers):
                found = self.raw(port, method, target, *headers)
                if expected is not None:
                    self.assertEqual(found[0], expected[0])
                    self.assertTrue(found[1].endswith(expected[1]), found)
                else:
                    self.assertGreaterEqual(found[0], 400)
                reports = httpx.get(seen, headers={"Host": "tests"}, trust_env=False).json()
                self.assertEqual(reports, [reached] if reached else [])


class SameDecisions(unittest.TestCase):
    def test_as_in_process(self) -> None:
        asker = Asker("desk", believed=("roles", "records"))

        @examples(60)
        @given(worlds(), st.sampled_from(METHODS), st.sampled_from(RECORDS))
        def same(world: Any, method: str, record: dict[str, Any]) -> None:
            policy = bloodroot.parse(world.text())
            in_force = InForce(policy, lambda given: given, caller_of, {})
            subjects = Subjects(None, ClaimNames(("sub",)))
            decider = Decider(in_force, ServeRules(), subjects, {}, {})
            for caller in CALLERS:
                if caller is not None and (caller.granted or caller.scoped_roles is not None):
                    continue  # what no asker can say
                subject: dict[str, Any] = {"type": "anonymous", "id": "-"}
                if caller is not None:
                    said = {**caller.attributes, "roles": sorted(caller.roles)}
                    said |= {"scopes": sorted(caller.scopes)} if caller.scopes is not None else {}
                    subject = {"type": "user", "id": str(caller.id), "properties": said}
                known = asyncio.run(
                    subjects.caller_of(
                        one({"subject": subject, "action": {"name": "x"}, "resource": at("/x")}).subject, asker
                    )
                )
                resource = {"type": "endpoint", "id": "/x", "properties": record}
                question = one({"subject": subject, "action": {"name": method}, "resource": resource})
                answer = asyncio.run(decider.one(question, asker, "r"))
                decision = policy.decide(known, method, "/x", record=record or None, query={})
                self.assertIs(answer["decision"], decision.allowed, f"{caller} {method}\n{world.text()}")
                for name in world.grants:
                    thing, verb = name.split(":")
                    about = {"type": thing, "id": "1", "properties": record}
                    question = one({"subject": subject, "action": {"name": verb}, "resource": about})
                    found = asyncio.run(decider.one(question, asker, "r"))["decision"]
                    self.assertIs(found, policy.may(known, name, record=record or None), name)

        same()
