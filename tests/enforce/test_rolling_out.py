"""An application that lives: what would be refused is only written down, on every stack; who acts for whom; counts."""

import http.client
import json
import logging
import tempfile
import time
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.responses import PlainTextResponse
from starlette.routing import Route
from starlette.testclient import TestClient

import bloodroot
from bloodroot import Caller, FieldsRefused
from bloodroot.enforce import Audit, JsonLines, Refusal, current, guard, on_behalf_of
from bloodroot.enforce import starlette as for_starlette
from tests.enforce.stacks import OnEveryStack, Small
from tests.program import InFolder

TEXT = """
policy "Tarn Bank"
roles
  helper
  keeper  includes helper
conditions
  own     record.owner == caller.id
endpoints
  GET    /open            anyone
  GET    /lots            keeper
  GET    /lots/{lot_id}   helper if own, keeper
  POST   /lots/{lot_id}   helper
  GET    /memos           guarded  accept guard-missing "found by its name"
  POST   /settled         own      accept record-not-settled "found by its name"
  POST   /forgotten       own      accept record-not-settled "the handler forgets"
  GET    /broken/{bad}    keeper
always
  /lots/**                helper
denials
  signed-out  go /open
  /lots/**  any  hide
fields lot
  *   change keeper
"""
POLICY = bloodroot.parse(TEXT.replace("helper if own, keeper", "(helper and own) or keeper"), "tarn.bloodroot")
CALLERS = {"wren": Caller(1, {"helper"}), "ash": Caller(2, {"keeper"})}
LOTS = {"1": {"owner": 1}, "2": {"owner": 9}}


def who(request: Any) -> Caller | None:
    environ = getattr(request, "environ", None) or getattr(request, "META", None)
    name = environ.get("HTTP_X_WHO") if environ is not None else request.headers.get("x-who")
    if name == "lost":
        raise ConnectionError("the directory is away")
    return CALLERS.get(name)


def load_broken(text: str) -> Any:
    raise ConnectionError("the database is away")


@guard("keeper", policy=POLICY)
def memos(**_: str) -> tuple[int, str]:
    return 200, "memos"


def plain(**values: str) -> tuple[int, str]:
    return 200, f"plain {values}"


def settled() -> tuple[int, str]:
    current().settle({"owner": 1})
    return 200, "settled"


def changed(lot_id: str) -> tuple[int, str]:
    current().change("lot", LOTS.get(lot_id, {}), {"name": "x"})
    with on_behalf_of(None, POLICY) as acting:
        acting.change("lot", {}, {"name": "x"})
    return 200, "changed"


ENDPOINTS = [
    ("GET", "/open", "open", plain),
    ("GET", "/lots", "lots", plain),
    ("GET", "/lots/{lot_id}", "lot", plain),
    ("POST", "/lots/{lot_id}", "change", changed),
    ("GET", "/memos", "memo_page", memos),
    ("POST", "/settled", "settled", settled),
    ("POST", "/forgotten", "forgotten", plain),
    ("GET", "/broken/{bad}", "broken", plain),
    ("GET", "/closed", "closed", plain),
]
RECORDS = {"lot_id": LOTS.get, "bad": load_broken}
SETTLES = ("POST /settled", "POST /forgotten", "GET /memos")
# What is written down for a signed-out caller, for one with the lesser role, for the other, and where identify fails.
OUTCOMES = (
    ("GET", "/open", "allow allow allow withheld"),
    ("GET", "/lots", "sign-in deny allow withheld"),
    ("GET", "/lots/1", "sign-in allow allow withheld"),
    ("GET", "/lots/2", "sign-in deny allow withheld"),
    ("GET", "/lots/7", "sign-in missing allow withheld"),
    ("POST", "/lots/1", "sign-in deny allow withheld"),
    ("GET", "/memos", "sign-in deny allow withheld"),
    ("POST", "/settled", "sign-in allow deny withheld"),
    ("POST", "/forgotten", "sign-in withheld withheld withheld"),
    ("GET", "/broken/1", "sign-in deny withheld withheld"),
    ("GET", "/closed", "deny deny deny withheld"),
)


class Written(logging.Handler):
    """Keeps what is written down, as it is in a file."""

    def __init__(self) -> None:
        super().__init__(logging.INFO)
        self.setFormatter(JsonLines())
        self.lines: list[dict[str, Any]] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.lines.append(json.loads(self.format(record)))


def written_down(test: Any) -> Written:
    """The audit log until a test ends."""
    log, handler = logging.getLogger("bloodroot.audit"), Written()
    log.addHandler(handler)
    before = log.level, logging.root.manager.disable
    log.setLevel(logging.INFO)
    logging.disable(logging.NOTSET)

    def undo() -> None:
        log.removeHandler(handler)
        log.setLevel(before[0])
        logging.disable(before[1])

    test.addCleanup(undo)
    return handler


class ReportOnly(OnEveryStack):
    small = Small(ENDPOINTS, POLICY, POLICY, who, RECORDS, None, SETTLES, {"audit": Audit("all"), "report_only": True})

    def test_nothing_is_refused_and_all_is_written_down(self) -> None:
        handler = written_down(self)
        logging.getLogger("bloodroot.enforce").setLevel(logging.CRITICAL + 1)
        self.addCleanup(logging.getLogger("bloodroot.enforce").setLevel, logging.NOTSET)
        for stack, port in self.ports.items():
            for method, path, outcomes in OUTCOMES:
                for name, outcome in zip((None, "wren", "ash", "lost"), outcomes.split(), strict=True):
                    with self.subTest(stack, name=name, asked=f"{method} {path}"):
                        handler.lines.clear()
                        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
                        connection.request(method, path, headers={"x-who": name} if name else {})
                        response = connection.getresponse()
                        body = response.read().decode()
                        connection.close()
                        self.assertEqual(
                            (response.status, body[:5] in ("plain", "memos", "settl", "chang")), (200, True)
                        )
                        kept = {each for each in response.headers if each.lower() in ("vary", "cache-control")}
                        self.assertEqual(kept, set())
                        (line,) = handler.lines
                        self.assertEqual((line["outcome"], line["enforced"]), (outcome, False))
            for odd in ("/lots//1", "/lots/%2e%2e/closed", "/nowhere"):
                connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
                connection.request("GET", odd, headers={"x-who": "wren"})
                response = connection.getresponse()
                connection.close()
                with self.subTest(stack, odd=odd):
                    self.assertIn(response.status, (200, 308, 404))


class Changing(OnEveryStack):
    """A file that changes while requests are served: each is decided by one policy, the old one or the new one."""

    # What opens and closes at once: a request that is decided by both, or by none, would show.
    CLOSED = (
        "roles\n  helper\n  keeper\npermissions\n  lot:read keeper\nendpoints\n  GET /a lot:read\n  GET /b helper\n"
    )
    OPENED = (
        "roles\n  keeper\n  helper\npermissions\n  lot:read helper\nendpoints\n  GET /a lot:read\n  GET /b keeper\n"
    )

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.file = Path(folder.name) / "access.bloodroot"
        cls.part = Path(folder.name) / "part.bloodroot"
        cls.part.write_text("roles\n  other\n")
        cls.replace(cls.CLOSED)
        watched = bloodroot.watched(cls.file)
        cls.small = Small([("GET", "/a", "a", plain), ("GET", "/b", "b", plain)], watched, watched, who, {})
        super().setUpClass()

    @classmethod
    def replace(cls, text: str) -> None:
        beside = cls.file.with_suffix(".new")
        beside.write_text(f'include "part.bloodroot"\n{text}')
        beside.replace(cls.file)

    def answers(self, port: int) -> tuple[int, int]:
        found = []
        for path in ("/a", "/b"):
            connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
            connection.request("GET", path, headers={"x-who": "wren"})
            found.append(connection.getresponse().status)
            connection.close()
        return found[0], found[1]

    def wait_for(self, expected: tuple[int, int]) -> float:
        began, left = time.monotonic(), dict(self.ports)
        while left and time.monotonic() - began < 20:
            left = {name: port for name, port in left.items() if self.answers(port) != expected}
        self.assertEqual(left, {})
        return time.monotonic() - began

    def test_changes_take_effect_whole_or_not_at_all(self) -> None:
        self.wait_for((403, 200))
        self.replace(self.OPENED)
        self.wait_for((200, 403))
        for broken in ("roles\n  helper\nendpoints\n  GET /a helpr\n", "endpoints\n  action nowhere anyone\n", ""):
            with self.subTest(broken):
                self.file.write_text(broken)
                time.sleep(1.2)
                for name, port in self.ports.items():
                    self.assertEqual(self.answers(port), (200, 403), name)
        self.replace(self.CLOSED)
        self.wait_for((403, 200))
        # What is included counts as much; what goes on being written is not read.
        self.part.write_text("endpoints\n  GET /c helper\n  GET /d nobdy\n")
        time.sleep(1.2)
        self.assertEqual({self.answers(port) for port in self.ports.values()}, {(403, 200)})
        self.part.write_text("roles\n  other\n")


class InParts(InFolder):
    def client(self, **how: Any) -> TestClient:
        async def page(request: Any) -> PlainTextResponse:
            return PlainTextResponse("here")

        paths = ("/open", "/lots", "/lots/{lot_id}", "/closed")
        app = Starlette(routes=[Route(path, page, methods=["GET", "POST"]) for path in paths])
        text = "\n".join(
            line
            for line in TEXT.splitlines()
            if not any(f"/{word}" in line for word in ("memos", "settled", "forgotten", "broken"))
        )
        policy = bloodroot.parse(text.replace("helper if own, keeper", "(helper and own) or keeper"), "tarn.bloodroot")
        for_starlette.protect(app, policy, identify=who, records={"lot_id": LOTS.get}, **how)
        return TestClient(app, follow_redirects=False)

    def test_some_paths_only(self) -> None:
        with self.assertLogs("bloodroot.enforce", "WARNING") as logs:
            client = self.client(report_only=["/lots/**"])
        self.assertIn("report only: at /lots/** nothing is enforced", "\n".join(logs.output))
        wren = {"x-who": "wren"}
        for path, status in (("/lots/2", 200), ("/lots", 200), ("/closed", 403), ("/lots%2f2", 400), ("/open", 200)):
            self.assertEqual(client.get(path, headers=wren).status_code, status, path)
        with self.assertRaisesRegex(TypeError, "report_only is True, or a list"):
            self.client(report_only="/lots/**")

    def test_ids_counts_and_who_acts(self) -> None:
        counted: list[tuple[str, str, str]] = []
        log = written_down(self)
        CALLERS["seen"] = Caller(1, {"helper"}, actor=Caller(7, {"keeper"}), scopes=["lot:read"])
        self.addCleanup(CALLERS.pop, "seen")
        client = self.client(
            audit=Audit(count=lambda access, outcome, s: counted.append((access.path, outcome, type(s))))
        )
        for name, path in (("wren", "/lots"), ("wren", "/open"), ("seen", "/lots/2")):
            client.get(path, headers={"x-who": name, "x-request-id": "a-1" if path != "/lots/2" else 'a"b'})
        self.assertEqual(counted, [("/lots", "deny", float), ("/open", "allow", float), ("/lots/2", "deny", float)])
        first, last = log.lines
        self.assertEqual((first["request"], first["actor"]), ("a-1", None))
        self.assertRegex(last["request"], "^[0-9a-f]{32}$")
        self.assertEqual(
            (last["caller"], last["actor"], last["scopes"], last["roles"]), (1, 7, ["lot:read"], ["helper"])
        )

    def test_conditions_on_who_acts(self) -> None:
        policy = bloodroot.parse(
            "roles\n  helper\nconditions\n  alone  caller.actor? == none\n  by-staff  caller.actor? == 7\nendpoints\n"
            "  POST  /password  helper and alone\n  GET  /seen  helper and by-staff\n",
            "t",
        )
        for actor, allowed in ((None, (True, False)), (7, (False, True)), (8, (False, False))):
            caller = Caller(1, {"helper"}, actor=actor)
            found = [policy.decide(caller, *each).allowed for each in (("POST", "/password"), ("GET", "/seen"))]
            self.assertEqual(tuple(found), allowed)
        with on_behalf_of(Caller(1, {"helper"}), policy, actor=7) as acting:
            self.assertEqual(acting.caller.actor, 7)
        self.assertTrue(policy.decide(Caller(1, {"helper"}, attributes={"actor": 7}), "GET", "/seen").allowed)

    def test_refusals_stand_where_it_is_enforced(self) -> None:
        with on_behalf_of(Caller(1, {"helper"}), POLICY) as acting:
            with self.assertRaises(FieldsRefused):
                acting.change("lot", {}, {"name": "x"})
            with self.assertRaises(Refusal):
                memos()
