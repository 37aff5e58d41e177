"""What is written for other programs: OpenAPI documents, names as Python, the tree as JSON."""

import copy
import importlib.util
import json
import subprocess
import sys
from typing import Any

import yaml

import bloodroot
from bloodroot.core.compiler import parse
from tests.program import InFolder

POLICY = """
    policy "Tarn \\"Bank\\""
    roles
      grower
      keeper  includes grower
    permissions
      lot:edit  keeper, grower if own
    conditions
      own     record.owner == caller.id  "Only its owner may change a lot."
      fresh   query.year == "2026"
      active  caller.status == "active"  "You are suspended."
    endpoints
      GET         /             anyone
      GET         /lots         grower or signed-out if fresh
      GET         /lots/{id}    signed-in
      PUT DELETE  /lots/{id}    lot:edit
      GET         /lots-2       keeper
      GET         /lots.2       keeper
    always
      PUT /**     active
    denials
      signed-out  status 401 "Trade your password for a token."
      closed      hide
"""
DOCUMENT = """\
# The lots of the bank.
openapi: 3.1.0
info: {title: "Lots", version: '1'}   # kept as it is
paths:
  /:
    get:
      responses:
        '200': {description: fine}
  /lots/{lot}:
    parameters:
      - {name: lot, in: path, required: true, schema: {type: string}}
    get:
      summary: >-
        One lot,
        folded.
      security: [{cookie: []}]
      responses:
        '200':
          description: a lot
        '401':
          description: said already
    put:
      responses:
        '204': {description: done}
  /gone:
    get:
      responses: {}
components:
  securitySchemes:
    bearer: {type: http, scheme: bearer}
    cookie: {type: apiKey, in: cookie, name: sid}
"""


def without_ours(document: Any) -> Any:
    """A document without what is filled in."""
    found = copy.deepcopy(document)
    for item in found["paths"].values():
        for operation in item.values():
            if isinstance(operation, dict):
                operation.pop("security", None)
                operation.pop("x-access", None)
                for status in ("401", "403", "404"):
                    operation["responses"].pop(status, None)
    return found


class OpenApi(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)

    def test_yaml_keeps_everything_else(self) -> None:
        self.write("api.yaml", DOCUMENT)
        run = self.bloodroot("export", "openapi", "api.yaml")
        self.assertEqual(
            (run.status, run.err), (0, "4 operations filled in; 1 of them covered by no line, and closed\n")
        )
        document = yaml.safe_load(run.out)
        self.assertEqual(without_ours(document), without_ours(yaml.safe_load(DOCUMENT)))
        # Comments, quotes, folding and the order of lines are as they were.
        lines = iter(run.out.splitlines())
        for line in DOCUMENT.splitlines():
            if "said already" not in line and "security: [{cookie" not in line and "responses: {}" not in line:
                self.assertIn(line, lines)
        paths = document["paths"]
        self.assertEqual(paths["/"]["get"]["security"], [])
        lot = paths["/lots/{lot}"]
        self.assertEqual(lot["get"]["security"], [{"cookie": []}])
        self.assertEqual(lot["get"]["responses"]["401"], {"description": "said already"})
        put = lot["put"]
        self.assertEqual(put["security"], [{"bearer": []}, {"cookie": []}])
        self.assertEqual(
            put["x-access"],
            {
                "requirement": "lot:edit",
                "always": ["active"],
                "roles": {"grower": "if own and active", "keeper": "if active"},
            },
        )
        self.assertEqual(put["responses"]["401"]["description"], "Trade your password for a token.")
        for words in ("You do not have access to this.", "Only its owner may change a lot.", "You are suspended."):
            self.assertIn(words, put["responses"]["403"]["description"])
        self.assertEqual(paths["/gone"]["get"]["responses"], {"404": {"description": "There is nothing here."}})
        # Once more comes to the same.
        self.write("again.yaml", run.out)
        self.assertEqual(self.ran("export", "openapi", "again.yaml"), run.out)

    def test_json_keeps_its_layout(self) -> None:
        whole = {
            "openapi": "3.0.3",
            "info": {"title": "é", "version": "1"},
            "paths": {"/lots": {"get": {"responses": {}}}},
        }
        for indent, escaped in ((4, False), (None, True)):
            text = json.dumps(whole, indent=indent, ensure_ascii=escaped)
            self.write("api.json", text)
            run = self.bloodroot("export", "openapi", "api.json", "--out", "filled.json")
            self.assertEqual((run.status, run.out), (0, ""))
            filled = (self.folder / "filled.json").read_text("utf-8")
            self.assertEqual(filled, json.dumps(json.loads(filled), indent=indent, ensure_ascii=escaped))
            document = json.loads(filled)
            # Some are let in without signing in, and no scheme was declared.
            self.assertEqual(document["paths"]["/lots"]["get"]["security"], [{"bearer": []}, {}])
            self.assertEqual(
                document["components"]["securitySchemes"], {"bearer": {"type": "http", "scheme": "bearer"}}
            )

    def test_what_a_document_has_in_several_places(self) -> None:
        self.write(
            "api.yaml",
            """
            openapi: 3.1.0
            info: {title: t, version: '1'}
            paths:
              /: &item
                get: &operation
                  responses: &responses {'200': {description: fine}}
              /lots-2: *item
              /lots/{id}:
                get: *operation
                put: {responses: *responses}
            """,
        )
        paths = yaml.safe_load(self.ran("export", "openapi", "api.yaml"))["paths"]
        found = {
            f"{method} {path}": (bool(operation["security"]), sorted(operation["responses"]))
            for path, item in paths.items()
            for method, operation in item.items()
        }
        self.assertEqual(
            found,
            {
                "get /": (False, ["200"]),
                "get /lots-2": (True, ["200", "401", "403"]),
                "get /lots/{id}": (True, ["200", "401"]),
                "put /lots/{id}": (True, ["200", "401", "403"]),
            },
        )

    def test_what_cannot_be_filled(self) -> None:
        self.write(
            "api.yaml",
            """
            openapi: 3.1.0
            info: {title: t, version: '1'}
            paths:
              /lots: {$ref: '#/components/pathItems/lots'}
            components:
              pathItems:
                lots: {get: {responses: {}}}
            """,
        )
        run = self.bloodroot("export", "openapi", "api.yaml")
        self.assertIn("note: GET /lots is behind a $ref; it was left as it is", run.err)
        self.assertEqual(yaml.safe_load(run.out)["components"], {"pathItems": {"lots": {"get": {"responses": {}}}}})
        for text, message in (
            ("a: [", "this is not YAML"),
            ("{", "this is not JSON"),
            ("swagger: '2.0'", "Swagger 2.0"),
        ):
            self.write("bad.yaml", text)
            run = self.bloodroot("export", "openapi", "bad.yaml")
            self.assertEqual((run.status, message in run.err), (2, True), run.err)


class Names(InFolder):
    def test_a_module_that_programs_use(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.ran("export", "names", "--out", "names.py")
        spec = importlib.util.spec_from_file_location("names_of_tarn_bank", self.folder / "names.py")
        assert spec is not None and spec.loader is not None
        names = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(names)
        self.assertEqual(list(names.Role), ["grower", "keeper"])
        self.assertEqual((names.Permission.LOT_EDIT, names.Condition.OWN), ("lot:edit", "own"))
        # Names that no identifier can tell apart have numbers.
        self.assertEqual((names.Endpoint.GET_LOTS_2, names.Endpoint.GET_LOTS_2_2), ("GET /lots-2", "GET /lots.2"))
        self.assertEqual(names.Endpoint.GET, "GET /")
        policy = bloodroot.load(self.folder / "access.bloodroot")
        keeper = bloodroot.Caller(1, {names.Role.KEEPER})
        self.assertTrue(policy.may(keeper, names.Permission.LOT_EDIT))
        self.assertEqual(policy.flags(keeper, [names.Endpoint.GET_LOTS_2]), {"GET /lots-2": True})
        for words in (("ruff", "check", "--select", "F,I,N", "names.py"), ("mypy", "--strict", "names.py")):
            done = subprocess.run([sys.executable, "-m", *words], cwd=self.folder, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stdout)

    def test_names_that_python_has_no_room_for(self) -> None:
        self.write(
            "access.bloodroot",
            "roles\n  class\n  a-b\n  a_b\n  A_B\n  a_b_2\n  größe\nendpoints\n  GET / class\n",
        )
        out = self.ran("export", "names")
        found: dict[str, Any] = {}
        exec(out, found)
        self.assertEqual([str(each) for each in found["Role"]], ["class", "a-b", "a_b", "A_B", "a_b_2", "größe"])
        self.assertEqual(len(found["Role"].__members__), 6)


class Trees(InFolder):
    def test_the_tree_says_what_the_policy_says(self) -> None:
        self.write("access.bloodroot", POLICY)
        data = json.loads(self.ran("export", "json"))
        lines = parse((self.folder / "access.bloodroot").read_text("utf-8")).endpoints
        entries = [
            each for section in data["sections"] if section["section"] == "endpoints" for each in section["entries"]
        ]
        self.assertEqual(
            [(each.get("methods", []), each.get("path")) for each in entries],
            [(list(line.methods), line.template.text) for line in lines],
        )
