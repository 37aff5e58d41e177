"""Surveys: what each source gives, what is held together, and what no line covers."""

import csv
import gzip
import io
import json
import random

from bloodroot.survey import logs
from bloodroot.survey.documents import survey_openapi
from bloodroot.survey.endpoints import SurveyError
from bloodroot.survey.log_lines import parts_of
from bloodroot.survey.logs import survey_log
from bloodroot.survey.requests import Observed
from tests.cli.test_demo import RESULT
from tests.program import InFolder

POLICY = """
policy "Tarn Bank"
roles
  helper  default
  keeper
conditions
  awake  caller.status == "awake"
endpoints
  GET     /              anyone
  GET     /lots          helper
  GET     /lots/{lot}    helper
  DELETE  /lots/{lot}    keeper
  GET     /ghosts        keeper
  any     /open/**       guarded
always
  DELETE  /**            awake
"""
STARLETTE = """
from starlette.applications import Starlette
from starlette.endpoints import HTTPEndpoint
from starlette.responses import PlainTextResponse
from starlette.routing import Host, Mount, Route, Router, WebSocketRoute
from starlette.staticfiles import StaticFiles
from bloodroot.enforce import guard

async def lots(request):
    "Every lot."
    return PlainTextResponse("")

@guard("keeper or args.request == none")
async def open_lot(request):
    return PlainTextResponse("")

class Lot(HTTPEndpoint):
    async def get(self, request): ...
    async def delete(self, request): ...

async def talk(socket): ...
async def asgi(scope, receive, send): ...

app = Starlette(routes=[
    Route("/lots", lots),
    Route("/lots/{lot:int}", Lot, name="lot"),
    Mount("/open", routes=[Route("/{rest:path}", open_lot, methods=["POST"])]),
    WebSocketRoute("/talk", talk),
    Mount("/assets", StaticFiles(directory="."), name="assets"),
    Mount("/other", asgi),
    Host("api.example", Router(routes=[Route("/me", lots, name="me")])),
])

def create():
    return app

class Layer:
    def __init__(self, app):
        self.app = app

wrapped = Layer(Layer(app))
unknown = Layer(asgi)
"""
FLASK = """
import flask
from flask.views import MethodView

app = flask.Flask(__name__)

@app.route("/lots/<int:lot>", methods=["GET", "DELETE"])
def lot(lot):
    return ""

class Plots(MethodView):
    def get(self): ...
    def post(self): ...

things = flask.Blueprint("things", __name__, url_prefix="/things")
things.add_url_rule("/plots", view_func=Plots.as_view("plots"))
things.add_url_rule("/old", redirect_to="/lots", endpoint="old")
app.register_blueprint(things)
inner = app.wsgi_app
"""
FASTAPI = """
import fastapi
from bloodroot.enforce import fastapi as enforce

router = fastapi.APIRouter(prefix="/lots")

@router.get("/{lot}", dependencies=[enforce.guard("keeper")])
async def lot(lot: int):
    "One lot."

app = fastapi.FastAPI()
app.include_router(router, prefix="/api")
"""
OPENAPI = """
openapi: 3.1.0
info: {title: Tarn, version: "1"}
servers:
  - url: https://tarn.example/{stage}/
    variables: {stage: {default: v1}}
security: [{bearer: [read]}]
paths:
  /lots:
    get: {operationId: lots, summary: Every lot., tags: [lots]}
    post: {security: []}
  /lots/{lot}:
    $ref: "parts/lot.yaml#/lot"
  /odd/{a}-{b}:
    parameters: [{name: a, in: path, required: true}]
    get: {security: [{key: []}, {bearer: [], session: []}]}
webhooks:
  sent: {post: {}}
"""


class Applications(InFolder):
    def surveyed(self, *words: str, status: int = 1) -> dict[tuple[str, str], dict]:
        run = self.bloodroot("survey", *words, "--format", "json")
        self.assertEqual(run.status, status, run.err)
        result = json.loads(run.out)
        RESULT.validate(result)
        self.result = result
        return {(each["method"], each["template"]): each for each in result["endpoints"]}

    def test_starlette(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("tarn.py", STARLETTE)
        found = self.surveyed("tarn:app")
        kinds = {key: (each["kind"], each["action"]) for key, each in found.items()}
        self.assertEqual(
            kinds,
            {
                ("GET", "/lots"): ("endpoint", "lots"),
                ("GET", "/lots/{lot}"): ("endpoint", "lot.get"),
                ("DELETE", "/lots/{lot}"): ("endpoint", "lot.delete"),
                ("POST", "/open/**"): ("endpoint", "open_lot"),
                ("WEBSOCKET", "/talk"): ("websocket", "talk"),
                ("any", "/assets/**"): ("static", "assets"),
                ("any", "/other/**"): ("mount", "/other"),
                ("GET", "/me"): ("endpoint", "me"),
            },
        )
        self.assertEqual(found["POST", "/open/**"]["guards"][0]["text"], "keeper or args.request == none")
        self.assertEqual(
            (found["GET", "/lots"]["summary"], found["GET", "/lots"]["requirement"]), ("Every lot.", "helper")
        )
        self.assertRegex(found["GET", "/lots"]["found"], r"^tarn\.py:\d+$")
        self.assertEqual([each["text"] for each in found["DELETE", "/lots/{lot}"]["rules"]], ["DELETE /** awake"])
        without = {key for key, each in found.items() if each["line"] is None}
        self.assertEqual(without, {("WEBSOCKET", "/talk"), ("any", "/assets/**"), ("any", "/other/**"), ("GET", "/me")})
        self.assertEqual([each["text"] for each in self.result["idle"]], ["GET / anyone", "GET /ghosts keeper"])
        for name in ("tarn:wrapped", "tarn:create()"):
            self.assertEqual(set(self.surveyed(name)), set(found))
        run = self.bloodroot("survey", "tarn:unknown")
        self.assertEqual(run.status, 2)
        self.assertIn(
            "are not known here; those of aiohttp, Django, Falcon, FastAPI, Flask, Litestar, Quart, Sanic and Starlette are. Survey its",
            run.err,
        )

    def test_flask_and_fastapi(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("bank.py", FLASK)
        self.write("quick.py", FASTAPI)
        for name in ("bank:app", "bank:inner"):
            found = self.surveyed(name)
            self.assertEqual(found["DELETE", "/lots/{lot}"]["requirement"], "keeper")
            self.assertEqual(found["GET", "/things/old"]["kind"], "redirect")
            self.assertEqual(found["GET", "/static/**"]["kind"], "static")
            self.assertIn(("POST", "/things/plots"), found)
        found = self.surveyed("quick:app")
        self.assertEqual(found["GET", "/api/lots/{lot}"]["guards"][0]["text"], "keeper")
        self.assertEqual(found["GET", "/docs"]["kind"], "documentation")

    def test_actions_by_the_settings(self) -> None:
        self.write(
            "access.bloodroot",
            "roles\n  keeper\nendpoints\n  action lots, lot.get, lot.delete, me  keeper\n  POST /open/** keeper\n",
        )
        self.write("bloodroot.toml", 'app = "tarn:app"\nopenapi = "tarn.yaml"\n')
        self.write("tarn.py", STARLETTE)
        self.write("tarn.yaml", OPENAPI.replace("parts/lot.yaml#/lot", "#/paths/~1lots"))
        found = self.surveyed()
        self.assertEqual(found["GET", "/me"]["requirement"], "keeper")
        self.assertEqual(self.result["sources"], ["tarn:app", "tarn.yaml"])
        table = self.bloodroot("survey").out
        self.assertIn("tarn.yaml: webhooks are left out", table)
        self.assertRegex(table, r"GET /v1/lots +✗ no line: closed +lots \[declares bearer read\] +tarn.yaml")
        rows = list(csv.DictReader(io.StringIO(self.bloodroot("survey", "--format", "csv").out)))
        self.assertEqual(len(rows), len(found))
        self.bloodroot("survey", "tarn:app", "--format", "openapi", "--out", "made.json")
        again = self.surveyed("made.json", status=0)
        self.assertEqual(again["GET", "/lots"]["requirement"], "keeper")

    def test_without_a_policy(self) -> None:
        self.write("tarn.py", STARLETTE)
        run = self.bloodroot("survey", "tarn:app")
        self.assertEqual(run.status, 0, run.err)
        self.assertIn("8 endpoints of tarn:app; there is no policy to hold them against", run.out)
        run = self.bloodroot("survey")
        self.assertEqual(run.status, 2)
        self.assertIn("there is nothing to survey; name a source", run.err)


class OpenApi(InFolder):
    def test_servers_references_and_security(self) -> None:
        self.write("tarn.yaml", OPENAPI)
        self.write("parts/lot.yaml", 'lot: {$ref: "more.json", delete: {}}\n')
        self.write("parts/more.json", '{"get": {"operationId": "lot"}, "parameters": []}')
        found = survey_openapi(self.folder / "tarn.yaml")
        self.assertEqual(
            [(each.methods[0], each.template, each.exact, each.operation, each.security) for each in found.endpoints],
            [
                ("GET", "/v1/lots", True, "lots", ("bearer read",)),
                ("POST", "/v1/lots", True, None, ()),
                ("GET", "/v1/lots/{lot}", True, "lot", ("bearer read",)),
                ("DELETE", "/v1/lots/{lot}", True, None, ("bearer read",)),
                ("GET", "/v1/odd/{p2}", False, None, ("key", "bearer and session")),
            ],
        )
        self.assertEqual(found.endpoints[0].place, "paths./lots.get")
        self.assertIn("webhooks are left out", found.notes[0])

    def test_mistakes_have_their_place(self) -> None:
        for name, text, message in (
            ("a.json", '{"openapi": "3.0.0",\n "paths": {,}}', "a.json:2:12: this is not JSON"),
            ("a.yaml", "openapi: 3.0.0\npaths: [\n", "a.yaml:3:1: this is not YAML"),
            ("a.yaml", "openapi: !!python/object:os.system {}\n", "could not determine a constructor"),
            ("a.json", "[]", "this is not an OpenAPI document: it is no object"),
            ("a.json", '{"swagger": "2.0"}', "this is Swagger 2.0; convert it to OpenAPI 3 first"),
            ("a.json", '{"openapi": "4.0"}', 'of version 3.0 or 3.1: its version is "4.0"'),
            ("a.json", '{"openapi": "3.0.1", "paths": []}', ""),
            ("a.json", '{"openapi": "3.0.1", "paths": [1]}', "paths: this must be an object"),
            ("a.json", '{"openapi": "3.0.1", "paths": {"x": {}}}', "paths.x: a path begins with /"),
            (
                "a.json",
                '{"openapi": "3.0.1", "paths": {"/x": 3}}',
                "paths./x: this must be an object with an operation",
            ),
            ("a.json", '{"openapi": "3.0.1", "paths": {"/x": {"get": 3}}}', "paths./x.get: this must be an object"),
            (
                "a.json",
                '{"openapi": "3.0.1", "paths": {"/x": {"$ref": "#/y"}}}',
                'paths./x: the reference "#/y" leads nowhere',
            ),
            ("a.json", '{"openapi": "3.0.1", "paths": {"/x": {"$ref": "#/paths/~1x"}}}', "without an end"),
            ("a.json", '{"openapi": "3.0.1", "paths": {"/x": {"$ref": "../y.json"}}}', "leaves the folder"),
            (
                "a.json",
                '{"openapi": "3.0.1", "paths": {"/x": {"$ref": "http://a/y"}}}',
                "nothing is fetched from there",
            ),
            ("a.json", '{"openapi": "3.0.1", "paths": {"/x": {"$ref": "y.json"}}}', "y.json: there is no such file"),
        ):
            with self.subTest(text):
                file = self.write(name, text)
                if not message:
                    self.assertEqual(survey_openapi(file).endpoints, ())
                    continue
                with self.assertRaises(SurveyError) as caught:
                    survey_openapi(file)
                self.assertIn(message, str(caught.exception))


def line(method: str, path: str, status: int = 200) -> str:
    return f'192.0.2.1 - ash [04/May/2026:12:00:00 +0000] "{method} {path} HTTP/1.1" {status} 5 "-" "Tarn/1"\n'


class What(InFolder):
    """What was observed: access logs and HAR files."""

    def folded(self, paths: list[str]) -> dict[str, int]:
        observed = Observed()
        for path in paths:
            observed.add("GET", path, 200)
        return {each.template: each.count for each in observed.found("log").endpoints}

    def test_values_are_folded_and_names_are_not(self) -> None:
        self.assertEqual(
            self.folded(
                [
                    "/trials/7",
                    "/trials/8/edit",
                    "/trials/new",
                    "/",
                    "/seeds/2026-05-04",
                    "/x/6fa459ea-ee8a-3ca4-894e-db77e160355e",
                ]
                + [f"/files/{n:032x}" for n in range(3)]
                + ["/a/b%20c", "/c%E2%80%AEd", "/people/ash@tarn.example", "/entries/9/notes/4"]
            ),
            {
                "/": 1,
                "/a/{part1}": 1,
                "/{part1}": 1,
                "/entries/{entry_id}/notes/{note_id}": 1,
                "/files/{file_id}": 3,
                "/people/{people_id}": 1,
                "/seeds/{seed_id}": 1,
                "/trials/new": 1,
                "/trials/{trial_id}": 1,
                "/trials/{trial_id}/edit": 1,
                "/x/{x_id}": 1,
            },
        )

    def test_segments_that_vary_much_are_values(self) -> None:
        maker = random.Random(3)
        names = ["".join(maker.choices("abcdefghij", k=9)) for _ in range(2000)]
        found = self.folded([f"/seeds/{name}" for name in names] + [f"/lots/{name}/edit" for name in names[:50]])
        self.assertEqual(found, {"/seeds/{seed_id}": 2000, "/lots/{lot_id}/edit": 50})
        # Names that are asked for again and again are names, however many they are.
        areas = [f"/area{letter}" for letter in "abcdefghijklmnopqrstuvwxyz"] * 20
        self.assertEqual(len(self.folded(areas)), 26)

    def test_a_log_in_parts_packed_or_whole_gives_the_same(self) -> None:
        maker = random.Random(5)
        text = "".join(
            line(
                maker.choice(["GET", "POST"]), maker.choice([f"/lots/{maker.randrange(99)}?q=1", "/desk", "/a//b"]), 403
            )
            for _ in range(3000)
        )
        file = self.write("access.log", text + "not a line\n" + line("GET", "http://tarn.example/desk"))
        whole = survey_log(file, Observed())
        (self.folder / "access.log.gz").write_bytes(gzip.compress(file.read_bytes()))
        packed = survey_log(self.folder / "access.log.gz", Observed())
        observed, pieces = Observed(), parts_of([str(file)], 30_000)
        self.assertGreater(len(pieces), 5)
        for piece in pieces:
            observed.merge(logs._part(piece, ())[0])
        parts = observed.found(str(file))
        for other in (packed, parts):
            self.assertEqual(
                [(each.methods, each.template, each.statuses) for each in other.endpoints],
                [(each.methods, each.template, each.statuses) for each in whole.endpoints],
            )
        self.assertEqual({each.template for each in whole.endpoints}, {"/desk", "/lots/{lot_id}"})
        self.assertIn("in neither format: 1", whole.notes[0])
        self.assertRegex(whole.notes[1], r"can be read in two ways: \d+$")
        with self.assertRaisesRegex(SurveyError, "no line is in the common or the combined log format"):
            survey_log(self.write("other.log", "nothing\n" * 3), Observed())

    def test_what_is_in_the_log_and_not_in_the_document(self) -> None:
        self.write("access.bloodroot", POLICY)
        # A policy cannot write the last one. That it is made wider for that hides nothing.
        paths = {"/lots": {"get": {}}, "/lots/{lot}": {"get": {}, "delete": {}}, "/twice/{a}/{a}": {"get": {}}}
        self.write("tarn.json", json.dumps({"openapi": "3.0.3", "paths": paths}))
        self.write(
            "access.log", line("GET", "/lots/fern") * 3 + line("GET", "/lots/7", 404) + line("POST", "/secret/7")
        )
        entries = [
            {"request": {"method": "GET", "url": f"https://{host}{path}"}, "response": {"status": 200}}
            for host, path in (("tarn.example", "/lots?x=1"), ("tarn.example", "/hidden"), ("cdn.example", "/a.js"))
        ]
        self.write("tarn.har", json.dumps({"log": {"version": "1.2", "entries": entries}}))
        run = self.bloodroot("survey", "access.log", "tarn.har", "tarn.json", "--format", "json")
        self.assertEqual(run.status, 1, run.err)
        result = json.loads(run.out)
        RESULT.validate(result)
        found = {(each["method"], each["template"]): each for each in result["endpoints"]}
        lot = found["GET", "/lots/{lot}"]
        self.assertEqual((lot["statuses"], lot["sources"]), ({"200": 3, "404": 1}, ["tarn.json", "access.log"]))
        self.assertEqual(found["GET", "/lots"]["sources"], ["tarn.json", "tarn.har"])
        alone = {key for key, each in found.items() if "tarn.json" not in each["sources"]}
        self.assertEqual(alone, {("POST", "/secret/{secret_id}"), ("GET", "/hidden")})
        self.assertIn("requests for other hosts than tarn.example are left out: cdn.example (1)", result["notes"][0])

    def test_sources_that_cannot_be_read(self) -> None:
        for name, text, message in (
            ("a.har", '{"log": {}}', 'a.har: not a HAR file: it has no list "log.entries"'),
            ("a.har", '{"log": {"entries": [{}]}}', "a.har: log.entries[0]: not a request with a response"),
            ("a.har", "{", "a.har:1:2: this is not JSON"),
            ("b.gz", "", "no line is in the common or the combined log format"),
        ):
            with self.subTest(message):
                self.write(name, text)
                run = self.bloodroot("survey", name)
                self.assertEqual((run.status, run.out), (2, ""))
                self.assertIn(message, run.err)
        (self.folder / "c.log").write_bytes(gzip.compress(random.Random(1).randbytes(1000))[:400])
        self.assertIn("c.log: this file cannot be read", self.bloodroot("survey", "c.log").err)
        self.assertIn(
            "there is no such file; a source is a file, or an application", self.bloodroot("survey", "none.json").err
        )


class Hostile(InFolder):
    def test_nothing_of_a_document_reaches_the_terminal_as_a_command(self) -> None:
        red = "\x1b[31m"
        operation = {"operationId": f"x{red}", "summary": f"s{red}", "tags": [f"t{red}"], "security": [{f"k{red}": []}]}
        document = {"openapi": "3.1.0", "info": {}, "paths": {f"/a{red}": {"get": operation}, "/b": {"get": operation}}}
        self.write("o.json", json.dumps(document))
        self.write("access.bloodroot", "endpoints\n  GET /c nobody\n")
        for words in (("survey",), ("check",), ("check", "--format", "lines"), ("survey", "--format", "csv")):
            run = self.bloodroot(*words, "o.json")
            self.assertIn("/b", run.out)
            self.assertNotIn("\x1b", run.out + run.err, words)
        self.bloodroot("draft", "o.json", "--out", "first.bloodroot")
        self.assertNotIn("\x1b", (self.folder / "first.bloodroot").read_text("utf-8"))
