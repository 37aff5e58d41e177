"""Fields, flags, the audit log, the OpenAPI document, WebSockets, and what servers tell of paths."""

import asyncio
import dataclasses
import json
import logging
import subprocess
import sys
import unittest
from typing import Any

import fastapi
import flask
import sqlalchemy as sa
from pydantic import BaseModel
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column
from starlette.applications import Starlette
from starlette.responses import JSONResponse
from starlette.routing import Route, WebSocketRoute
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect

import bloodroot
from bloodroot import Caller, FieldsRefused
from bloodroot.enforce import Audit, JsonLines, asgi, current, guard, on_behalf_of, wsgi
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.enforce.stacks import BY_PATH, CALLERS, LOTS, POLICY, identify
from tests.servers import ask, serving, serving_wsgi

FIELDS = bloodroot.parse("""
roles
  helper  default
  keeper  includes helper
conditions
  own  record.brought_by == caller.id
endpoints
  PATCH /lots/{lot_id}  helper
fields lot
  place       read keeper or own  change keeper
  brought_by  read helper
  *           read helper         change helper if own
""")


@dataclasses.dataclass
class Lot:
    name: str
    place: str
    brought_by: int


class LotModel(BaseModel):
    name: str = ""
    place: str = ""
    brought_by: int = 0


class Base(DeclarativeBase):
    pass


class LotRow(Base):
    __tablename__ = "lots"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    place: Mapped[str]
    brought_by: Mapped[int]


class Fields(unittest.TestCase):
    def test_records_of_every_kind_are_masked(self) -> None:
        whole = {"name": "sedge", "place": "51.1", "brought_by": 3}
        engine = sa.create_engine("sqlite://")
        Base.metadata.create_all(engine)
        session = Session(engine)
        self.addCleanup(session.close)
        row = LotRow(**whole)
        session.add(row)
        session.commit()  # which leaves nothing loaded
        for record in (whole, Lot(**whole), LotModel(**whole), row):
            for caller, hidden in ((Caller(3), ()), (Caller(4), ("place",)), (Caller(5, {"keeper"}), ())):
                with self.subTest(f"{type(record).__name__} for {caller.id}"), on_behalf_of(caller, FIELDS) as acting:
                    expected = {name: value for name, value in whole.items() if name not in hidden}
                    found = acting.readable("lot", record)
                    found.pop("id", None)
                    self.assertEqual(found, expected)

    def test_changes_are_refused_by_name(self) -> None:
        record = Lot("sedge", "51.1", 3)
        for caller, changes, refused in (
            (Caller(3), {"name": "rush"}, None),
            (Caller(3), {"name": "rush", "place": "x", "brought_by": 4}, ("place", "brought_by")),
            (Caller(4), LotModel(name="rush"), ("name",)),
            (Caller(3), LotModel(name="rush"), None),
            (Caller(5, {"keeper"}), LotModel(place="x"), None),
            (Caller(3), Lot("rush", "x", 3), ("place", "brought_by")),
        ):
            with self.subTest(changes=changes), on_behalf_of(caller, FIELDS) as acting:
                if refused is None:
                    self.assertIn("rush" if caller.id != 5 else "x", acting.change("lot", record, changes).values())
                else:
                    with self.assertRaises(FieldsRefused) as caught:
                        acting.change("lot", record, changes)
                    self.assertEqual(caught.exception.fields, refused)
        with on_behalf_of(Caller(3), FIELDS) as acting, self.assertRaisesRegex(TypeError, "not str"):
            acting.change("lot", record, "name")

    def test_a_refused_change_becomes_an_answer_on_every_server(self) -> None:
        def change() -> None:
            current().change("lot", {"brought_by": 9}, {"place": "x", "name": "y"})

        def who(request: Any) -> Caller:
            return Caller(3)

        def endpoint(request: Any) -> Any:
            change()
            return JSONResponse("changed")

        starlette = Starlette(routes=[Route("/lots/{lot_id}", endpoint, methods=["PATCH"])])
        for_starlette.protect(starlette, FIELDS, identify=who)
        app = flask.Flask("tarn", static_folder=None)
        app.add_url_rule("/lots/<lot_id>", "lot", lambda lot_id: change() or "changed", methods=["PATCH"])
        for_flask.protect(app, FIELDS, identify=who)
        for server in (serving(starlette), serving_wsgi(app)):
            with server as port:
                status, headers, body = ask(port, "PATCH", "/lots/7", Accept="application/json")
                self.assertEqual((status, headers["content-type"]), (403, "application/problem+json"))
                self.assertEqual(json.loads(body)["detail"], "You may not change place, name.")


class Flags(unittest.TestCase):
    def test_a_link_is_shown_exactly_where_it_leads_somewhere(self) -> None:
        asked = [
            "GET /lots/new",
            "GET /lots/{id}",
            "PATCH /plots/{id}",
            "lot:read",
            "GET /sign-in",
            "GET /archive/2020",
        ]
        for name, caller in {**CALLERS, "nobody": None}.items():
            for record in (*LOTS.values(), {"id": 7, "grower_id": 3}, {"id": "x y/../z", "grower_id": 3}):
                flags = POLICY.flags(caller, asked, record=record)
                self.assertEqual(list(flags), asked)
                self.assertEqual(flags, POLICY.flags_of_each(caller, asked, [record])[0])
                number = record["id"] if isinstance(record, dict) else record.id
                with self.subTest(name, record=record):
                    for each in asked[:2] + asked[4:]:
                        method, path = each.replace("{id}", str(number)).split(" ", 1)
                        if "/.." not in path:
                            decided = POLICY.decide(caller, method, path, record=record).allowed
                            self.assertEqual(flags[each], decided, each)
                    self.assertEqual(flags["lot:read"], POLICY.may(caller, "lot:read", record=record))
        # Of an endpoint the standing rules are asked as well, of a permission they are not.
        asleep = POLICY.flags(CALLERS["asleep"], ["PATCH /plots/7", "plot:edit"], record={"grower_id": 3})
        self.assertEqual(asleep, {"PATCH /plots/7": False, "plot:edit": True})

    def test_a_slip_of_the_pen_is_told(self) -> None:
        for asked, record, message in (
            ("GET /lost/new", None, 'no line of the policy covers "GET /lost/new"'),
            ("lot:raed", None, 'unknown permission "lot:raed"; did you mean "lot:read"?'),
            ("GET /lots/{number}", {"id": 1}, "requires the number of a record, and there is none"),
            ("GET /lots/{id}", None, "requires the id of a record"),
        ):
            with self.subTest(asked), self.assertRaisesRegex(LookupError, message):
                POLICY.flags(CALLERS["new"], [asked], record=record)


class Lines(logging.Handler):
    """Keeps what is logged, as JSON Lines would write it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFormatter(JsonLines())
        self.found: list[dict[str, Any]] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.found.append(json.loads(self.format(record)))


class AuditLog(unittest.TestCase):
    def logged(self, audit: Audit | None, *requests: tuple[str, str, str]) -> list[dict[str, Any]]:
        @guard("keeper")
        async def lots(send: Any) -> None:
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b""})

        async def application(scope: Any, receive: Any, send: Any) -> None:
            await (lots if scope["path"] == "/lots/9" else lots.__wrapped__)(send)

        app = asgi.AccessMiddleware(
            application, BY_PATH, identify=identify, records={"plot_id": {}.get}, audit=audit, settles=["/lots*"]
        )
        log, lines = logging.getLogger("bloodroot.audit"), Lines()
        log.addHandler(lines)
        log.setLevel(logging.INFO)
        logging.getLogger("bloodroot.enforce").disabled = True
        try:
            with serving(app) as port:
                for caller, method, target in requests:
                    ask(port, method, target, X_Caller=caller, Authorization="Bearer secret-token")
        finally:
            log.removeHandler(lines)
            log.setLevel(logging.NOTSET)
            logging.getLogger("bloodroot.enforce").disabled = False
        return lines.found

    REQUESTS = (
        ("new", "GET", "/lots?token=secret-query"),
        ("new", "GET", "/lots/new"),
        ("", "GET", "/lots"),
        ("asleep", "PATCH", "/plots/7"),
        ("grower", "PATCH", "/plots/7"),
        ("grower", "POST", "/beds/7/sow"),
        ("new", "GET", "/a%0ab"),
        ("both", "GET", "/lots"),
    )
    EXPECTED = (
        (1, "GET", "/lots", "tarn.bloodroot:32", "allow", None),
        (1, "GET", "/lots/new", "tarn.bloodroot:33", "deny", "role"),
        (None, "GET", "/lots", "tarn.bloodroot:32", "sign-in", "signed-out"),
        (3, "PATCH", "/plots/7", "tarn.bloodroot:37", "deny", "active"),
        (3, "PATCH", "/plots/7", "tarn.bloodroot:37", "missing", None),
        (3, "POST", "/beds/7/sow", "tarn.bloodroot:38", "withheld", None),
        (None, "GET", "/a%0Ab", None, "deny", "ambiguous-path"),
        (7, "GET", "/lots", "tarn.bloodroot:32", "deny", "apart"),
    )

    def test_one_record_a_decision(self) -> None:
        found = self.logged(Audit("all"), *self.REQUESTS)
        keys = ("caller", "method", "path", "line", "outcome", "reason")
        self.assertEqual([tuple(each[key] for key in keys) for each in found], list(self.EXPECTED))
        more = (
            "time",
            "request",
            "actor",
            "roles",
            "groups",
            "scopes",
            "scoped_roles",
            "granted",
            "things",
            "enforced",
            "seconds",
        )
        self.assertEqual({frozenset(each) for each in found}, {frozenset((*more, *keys))})
        self.assertEqual({(each["enforced"], each["actor"], each["scopes"]) for each in found}, {(True, None, None)})
        self.assertTrue(all(0 < each["seconds"] < 60 for each in found))
        self.assertEqual(len({each["request"] for each in found}), len(found))
        self.assertEqual(found[2]["roles"], None)
        self.assertEqual(found[-1]["roles"], sorted(found[-1]["roles"]))
        for each in found:
            self.assertRegex(each["time"], r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}\+00:00$")
        self.assertNotIn("secret", json.dumps(found))

    def test_what_a_guard_refuses_has_its_place(self) -> None:
        (found,) = self.logged(None, ("new", "GET", "/lots/9"))
        self.assertEqual((found["outcome"], found["reason"]), ("deny", "role"))
        self.assertRegex(found["line"], r"test_details\.py:\d+$")

    def test_refusals_alone_and_samples(self) -> None:
        refused = [each for each in self.EXPECTED if each[4] != "allow"]
        for audit in (None, Audit(), Audit("all", sample=0)):
            found = self.logged(audit, *self.REQUESTS)
            self.assertEqual(
                [(each["path"], each["outcome"]) for each in found], [(each[2], each[4]) for each in refused]
            )
        found = self.logged(Audit("all", sample=0.5), *[("new", "GET", "/lots")] * 200)
        self.assertGreater(len(found), 50)
        self.assertLess(len(found), 150)
        for wrong in ({"which": "some"}, {"sample": 2}):
            with self.assertRaises(ValueError):
                Audit(**wrong)


class Record:
    """A record whose connection is lost when its owner is read."""

    @property
    def owner(self) -> int:
        raise ConnectionError("the server closed the connection")


class RecordsThatCannotBeRead(unittest.TestCase):
    def test_is_a_fault_of_the_server_and_no_refusal(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /lots/{lot_id} signed-in if record.owner == 3\n")
        ran: list[str] = []

        async def lot(request: Any) -> JSONResponse:
            ran.append("starlette")
            return JSONResponse({})

        on_starlette = Starlette(routes=[Route("/lots/{lot_id}", lot)])
        on_flask = flask.Flask("lots")
        on_flask.get("/lots/<lot_id>")(lambda lot_id: ran.append("flask") or "lot")
        for kind, app, serve in ((for_starlette, on_starlette, serving), (for_flask, on_flask, serving_wsgi)):
            records = {"lot_id": lambda text: Record()}
            kind.protect(app, policy, identify=lambda request: Caller(3), records=records)
            with self.subTest(kind.__name__), self.assertLogs(level="ERROR") as logs, serve(app) as port:
                self.assertEqual(ask(port, "GET", "/lots/1")[0], 500)
            self.assertEqual(ran, [])
            text = "\n".join(logs.output)
            self.assertIn("a record could not be read for GET /lots/1", text)
            self.assertIn("the server closed the connection", text)


class AuditWithoutAHandler(unittest.TestCase):
    def test_it_is_told_once_how_to_see_the_records(self) -> None:
        code = (
            "import bloodroot; from bloodroot.enforce import asgi; "
            "policy = bloodroot.parse('endpoints\\n  GET / anyone\\n'); "
            "[asgi.AccessMiddleware(None, policy, identify=None) for _ in range(3)]"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stderr.count("decisions are written down in the log bloodroot.audit"), 1, done.stderr)
        quiet = code.replace("import bloodroot;", "import logging; logging.basicConfig(); import bloodroot;")
        done = subprocess.run([sys.executable, "-c", quiet], capture_output=True, text=True, check=True)
        self.assertEqual(done.stderr, "")


class OpenApi(unittest.TestCase):
    def test_the_document_tells_what_is_asked(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\n  clerk\npermissions\n  lot:re keeper\n  lot:read keeper, clerk\n  lot:edit keeper\nendpoints\n  GET /open anyone\n"
            '  GET /openapi.json anyone\n  GET /lots lot:read\n  PUT /lots/{lot_id} lot:edit if query.sure == "yes"\n'
            "  GET /staff/memos guarded\n  GET /labels clerk\n"
        )
        app = fastapi.FastAPI(docs_url=None, redoc_url=None)
        router = fastapi.APIRouter(prefix="/staff", dependencies=[for_fastapi.guard("keeper", policy=policy)])
        app.get("/open")(lambda: 1)
        app.get("/lots")(lambda: 1)
        app.put("/lots/{lot_id}")(lambda lot_id: 1)
        router.get("/memos")(lambda: 1)

        @app.get("/labels")
        @guard("lot:read or args.size == 1", policy=policy)
        async def labels(size: int) -> int:
            return size

        app.include_router(router)
        started = for_fastapi.protect(app, policy, identify=identify)
        self.assertEqual(started.idle, ())
        with serving(app) as port:
            document = json.loads(ask(port, "GET", "/openapi.json")[2])
            again = json.loads(ask(port, "GET", "/openapi.json")[2])
            for caller, target, status in (
                ("clerk", "/labels?size=2", 200),
                ("keeper", "/staff/memos", 200),
                ("clerk", "/staff/memos", 403),
                ("", "/staff/memos", 401),
            ):
                self.assertEqual(ask(port, "GET", target, X_Caller=caller)[0], status, target)
        self.assertEqual(document, again)
        paths = document["paths"]
        for method, path, asks, security in (
            ("get", "/open", "anyone", []),
            ("get", "/lots", "lot:read", [{"bearer": []}]),
            ("put", "/lots/{lot_id}", 'lot:edit and query.sure == "yes"', [{"bearer": []}]),
            ("get", "/staff/memos", "keeper", [{"bearer": []}]),
            ("get", "/labels", "clerk and (lot:read or args.size == 1)", [{"bearer": []}]),
        ):
            with self.subTest(path):
                operation = paths[path][method]
                self.assertEqual(operation["x-access"]["requirement"], asks)
                self.assertEqual(operation.get("security"), security)
                self.assertEqual("403" in operation["responses"], bool(security))
        self.assertEqual(paths["/labels"]["get"]["parameters"][0]["name"], "size")
        self.assertEqual(document["components"]["securitySchemes"], {"bearer": {"type": "http", "scheme": "bearer"}})

    def test_every_route_is_found_with_its_prefixes(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  GET / anyone\n")
        app, outer, inner = (
            fastapi.FastAPI(openapi_url=None),
            fastapi.APIRouter(prefix="/a"),
            fastapi.APIRouter(prefix="/b"),
        )
        asks = fastapi.APIRouter(dependencies=[for_fastapi.guard("keeper", policy=policy)])
        app.get("/{rest:path}", name="rest")(lambda rest: 1)
        inner.put("/c/{n:int}", name="put")(lambda n: 1)
        inner.websocket("/live", name="live")(lambda socket: None)
        asks.get("/asked", name="asked")(lambda: 1)
        inner.mount("/files", JSONResponse("files"), name="files")
        outer.include_router(inner)
        outer.include_router(asks)
        app.include_router(outer, prefix="/z")
        app.mount("/office", Starlette(routes=[Route("/deep/{x}", lambda request: None, name="deep")]))
        # Before 0.138 FastAPI leaves out what is mounted on a router that is included.
        version = tuple(map(int, fastapi.__version__.split(".")[:2]))
        # To what is mounted it gives the prefixes of other routers, and not that of its own.
        mounted = {("files", (), "/z/a/files/**", None)} if version >= (0, 138) else set()
        self.assertEqual(
            {(each.action, each.methods, each.path, each.guarded) for each in for_fastapi.routes(app)},
            mounted
            | {
                ("rest", ("GET",), "/**", False),
                ("put", ("PUT",), "/z/a/b/c/{n}", False),
                ("live", ("WEBSOCKET",), "/z/a/b/live", False),
                ("asked", ("GET",), "/z/a/asked", True),
                ("deep", ("GET",), "/office/deep/{x}", False),
            },
        )

    def test_a_dependency_sees_no_arguments(self) -> None:
        policy = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /x/{y} keeper\n")
        asks = for_fastapi.guard("keeper or args.y == 1", policy=policy).dependency
        with on_behalf_of(Caller(1), policy), self.assertRaisesRegex(TypeError, "a dependency and sees no arguments"):
            asyncio.run(asks(None))


class WebSockets(unittest.TestCase):
    def test_handshakes_are_decided(self) -> None:
        policy = bloodroot.parse(
            "roles\n  keeper\nconditions\n  own record.owner == caller.id\nendpoints\n  WEBSOCKET /live keeper\n"
            "  WEBSOCKET /open anyone\n  WEBSOCKET /beds/{bed_id} signed-in and own\n  WEBSOCKET /plots/{plot_id} signed-in and own\n"
        )
        records = {"plot_id": {"7": {"owner": 4}, "8": {"owner": 9}}.get}
        paths = ("/live", "/open", "/beds/{bed_id}", "/plots/{plot_id}", "/closed")

        async def talk(socket: Any) -> None:
            await socket.accept()
            caller = current().caller
            await socket.send_text(f"welcome {caller.id if caller else 'nobody'}")
            await socket.close()

        starlette = Starlette(routes=[WebSocketRoute(path, talk) for path in paths])
        for_starlette.protect(starlette, policy, identify=identify, records=records)
        api = fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None)
        for path in paths:

            async def endpoint(websocket: fastapi.WebSocket) -> None:
                await talk(websocket)

            api.websocket(path)(endpoint)
        for_fastapi.protect(api, policy, identify=identify, records=records)
        for app in (starlette, api):
            with serving(app) as port:
                for caller, path, expected in (
                    ("keeper", "/live", "welcome 4"),
                    ("clerk", "/live", None),
                    ("", "/live", None),
                    ("", "/open", "welcome nobody"),
                    ("keeper", "/plots/7", "welcome 4"),
                    ("keeper", "/plots/8", None),
                    ("keeper", "/plots/9", None),
                    ("keeper", "/beds/7", None),  # what is open cannot be settled any more
                    ("keeper", "/closed", None),
                    ("keeper", "/live/../live", None),
                ):
                    with self.subTest(f"{type(app).__name__} {path} as {caller or 'nobody'}"):
                        self.assertEqual(self.answered(port, path, caller), expected)

    def answered(self, port: int, path: str, caller: str) -> str | None:
        try:
            with connect(f"ws://127.0.0.1:{port}{path}", additional_headers={"X-Caller": caller}) as socket:
                return str(socket.recv(timeout=10))
        except InvalidStatus as error:
            self.assertEqual(error.response.status_code, 403)
            return None


class PathsOfServers(unittest.TestCase):
    def test_what_a_server_tells_of_a_path(self) -> None:
        for environ, path in (
            ({"PATH_INFO": "/lots"}, "/lots"),
            # The application's own path: no prefix, and whatever has been rewritten is what is served.
            ({"PATH_INFO": "/lots", "SCRIPT_NAME": "/app"}, "/lots"),
            ({"PATH_INFO": "", "SCRIPT_NAME": "/app"}, "/"),
            ({"PATH_INFO": "/l\xc3\xb6ts"}, "/l%C3%B6ts"),
            ({"PATH_INFO": "/a b%41"}, "/a%20b%2541"),
            ({"PATH_INFO": "/a", "REQUEST_URI": "http://tarn.example/a?b"}, "/a"),
            ({"PATH_INFO": "/b", "SCRIPT_NAME": "/a", "REQUEST_URI": "/a/b"}, "/b"),
            ({"PATH_INFO": "/b", "SCRIPT_NAME": "/a", "REQUEST_URI": "/b?c"}, "/b"),
            ({"PATH_INFO": "/admin", "REQUEST_URI": "/open"}, "/admin"),
            ({"PATH_INFO": "/\u20ac", "REQUEST_URI": "/%E2%82%AC"}, "/%E2%82%AC"),
            # What can be read in more than one way has no segments, and is refused.
            ({"PATH_INFO": "/a/b", "REQUEST_URI": "/a%2fb?x=1"}, None),
            ({"PATH_INFO": "/a/b", "RAW_URI": "/a%2Fb"}, None),
            ({"PATH_INFO": "/b/c", "SCRIPT_NAME": "/a", "REQUEST_URI": "/b%2fc"}, None),
            ({"PATH_INFO": "/lots", "REQUEST_URI": "//lots"}, None),
            ({"PATH_INFO": "/lots", "REQUEST_URI": "http://[/lots"}, None),
            ({"PATH_INFO": "/\xff"}, None),
            ({"PATH_INFO": "lots"}, None),
            ({"PATH_INFO": "/a\x85b"}, None),
        ):
            with self.subTest(environ):
                request = wsgi.Request({"REQUEST_METHOD": "GET", **environ})
                self.assertEqual(request.path if request.segments is not None else None, path)
