"""Every kind of finding: a case that raises it, and a near miss that does not."""

from __future__ import annotations

import json
from typing import Any

from bloodroot.checks.checking import KINDS
from tests.program import InFolder, alone

HEAD = """\
roles
  keeper includes helper
  helper
  clerk
  {roles}
{sections}
permissions
  lot:read helper, clerk
  lot:edit keeper, helper if own-lot
  {permissions}
conditions
  own-lot record.owner == caller.id
  active caller.status == "active"
  {conditions}
endpoints
  GET /sign-in signed-out
  POST /sign-in signed-out
  GET /lots lot:read
  PATCH /lots/{{lot_id}} lot:edit if active
  GET /desk helper and clerk
  GET /till clerk
  {endpoints}
{tail}
"""


def policy(
    endpoints: str = "",
    *,
    roles: str = "",
    sections: str = "",
    permissions: str = "",
    conditions: str = "",
    tail: str = "",
) -> str:
    """A policy that has no findings of its own, with more in its sections."""
    parts = {"roles": roles, "permissions": permissions, "conditions": conditions, "endpoints": endpoints}
    split = {name: "\n  ".join(text.split("; ")) for name, text in parts.items()}
    return HEAD.format(**split, sections=sections, tail=tail)


THINGS = "things; studio {studio_id}; kiln {kiln_id} in studio by studio_id; roles in studio; owner".replace(
    "; ", "\n  "
)
THINGS = THINGS.replace("  roles in", "roles in")
IN_STUDIO = "GET /studios/{studio_id} owner; GET /kilns/{kiln_id} owner"
# For each kind: policies that have it, and near misses.
POLICIES: dict[str, tuple[list[str], list[str]]] = {
    "unused-thing": (
        [policy(IN_STUDIO, sections=THINGS.replace("roles in", "  shelf {shelf_id}\nroles in"))],
        [
            policy(IN_STUDIO, sections=THINGS),
            policy("GET /studios/{studio_id} owner", sections=THINGS, permissions="kiln:edit owner"),
        ],
    ),
    "nested-record-untied": (
        [
            policy("GET /lots/{lot_id}/pots/{pot_id} helper if by-lot", conditions="by-lot path.lot_id in caller.lots"),
            policy(
                "GET /lots/{lot_id}/pots/{pot_id} helper if by-lot", conditions="by-lot records.lot_id.o == caller.id"
            ),
        ],
        [
            policy("GET /lots/{lot_id}/pots/{pot_id} helper if own-lot"),
            policy("GET /lots/{lot_id}/pots/{pot_id} helper"),
            policy("GET /lots/{lot_id}/pots helper if by-lot", conditions="by-lot path.lot_id in caller.lots"),
            policy(
                "GET /lots/{lot_id}/pots/{pot_id} helper if by-lot",
                conditions="by-lot path.lot_id in caller.lots and record.lot_id == path.lot_id",
            ),
            policy(
                f"{IN_STUDIO}; GET /studios/{{studio_id}}/kilns/{{kiln_id}} helper if by-studio",
                sections=THINGS,
                conditions="by-studio path.studio_id in caller.studios",
            ),
        ],
    ),
    "unused-role": (
        [policy(roles="porter")],
        [policy(roles="porter includes clerk"), policy("GET /bay porter", roles="porter")],
    ),
    "unused-permission": (
        [policy(permissions="lot:move keeper"), policy(permissions="bay:* keeper")],
        [
            policy("GET /bay lot:move", permissions="lot:move keeper"),
            policy("GET /bay bay:x", permissions="bay:* keeper"),
        ],
    ),
    "unused-condition": (
        [
            policy(conditions="ripe record.age > 3"),
            policy(conditions="ripe record.age > 3", tail="denials\n  ripe hide"),
        ],
        [
            policy("GET /bay helper if ripe", conditions="ripe record.age > 3"),
            policy(permissions="lot:eat helper if ripe", conditions="ripe record.age > 3"),
        ],
    ),
    "idle-group": (
        [policy(roles="guest default", sections='groups\n  "all" guest')],
        [policy(roles="guest default", sections='groups\n  "some" clerk')],
    ),
    "similar-names": (
        [
            policy(roles="keepre includes clerk"),
            policy(conditions='idle caller.statsu == "idle"'),
            policy(permissions="lots:read clerk"),
            policy(permissions="lot:raed clerk"),
            policy(roles="Clerk includes helper"),
        ],
        [
            policy(roles="bay-1; bay-2"),  # numbered
            policy(permissions="lot:get clerk; lot:set clerk"),  # too short to be sure
            policy(conditions="tagged record.tag in record.tags"),  # one of several
            policy(roles="checker includes clerk"),
        ],
    ),
    "unheld-permission": (
        [
            policy("GET /bay bay:read", permissions="bay:read nobody"),
            policy("GET /bay bay:read", permissions="bay:read"),
        ],
        [policy("GET /bay bay:read", permissions="bay:read clerk if own-lot"), policy("GET /bay nobody")],
    ),
    "idle-role": (
        [policy(roles="porter includes clerk"), policy("GET /bay porter or signed-in", roles="porter")],
        [
            policy("GET /bay porter", roles="porter includes clerk"),
            policy(roles="porter includes clerk, helper"),  # a name for two together
            policy("GET /bay porter or signed-in if active", roles="porter"),
        ],
    ),
    "senior-refused": (
        [
            policy("GET /bay helper and not keeper"),
            policy("GET /bay clerk and not helper", roles="chief includes clerk, helper"),
        ],
        [policy("GET /bay helper and not clerk"), policy("GET /bay not helper")],
    ),
    "role-opens-everything": (
        [policy(roles="chief includes keeper, clerk; head includes chief")],
        [
            policy("GET /bay nobody"),
            policy(roles="chief includes keeper, clerk"),
            policy("GET /bay porter", roles="chief includes keeper, clerk; porter"),
        ],
    ),
    "child-without-condition": (
        [
            policy("GET /lots/{lot_id} keeper or helper if own-lot; GET /lots/{lot_id}/notes helper"),
            policy("GET /lots/{lot_id} keeper or helper if own-lot; GET /lots/export.csv helper"),
            policy("POST /lots/archive helper if active"),
        ],
        [
            policy("GET /lots/{lot_id} helper; POST /lots/{lot_id}/notes helper"),
            policy(
                "GET /lots/{lot_id} keeper or helper if own-lot; GET /lots/{lot_id}/notes keeper or helper if own-lot"
            ),
            policy("GET /lots/{lot_id} helper; GET /lots/export keeper"),
        ],
    ),
    "wider-than-its-area": (
        [policy("GET /bay/a keeper; GET /bay/b keeper; GET /bay/c keeper; GET /bay/d signed-in")],
        [
            policy("GET /bay/a keeper; GET /bay/b keeper; GET /bay/d signed-in"),
            policy("GET /bay/a keeper; GET /bay/b clerk; GET /bay/c keeper; GET /bay/d signed-in"),
            policy("GET /bay/a keeper; GET /bay/b keeper; GET /bay/c keeper; GET /bay/d keeper or clerk"),
        ],
    ),
    "read-without-condition": (
        [
            policy(
                "; ".join(
                    f"{method} /{name}/{{x}} keeper or helper if own-lot" for name in "ab" for method in ("GET", "PUT")
                )
                + "; GET /c/{x} helper; PUT /c/{x} keeper or helper if own-lot"
            )
        ],
        [
            policy("GET /c/{x} helper; PUT /c/{x} keeper or helper if own-lot"),
            policy("GET /lots/{lot_id} helper"),
        ],
    ),
    "versions-differ": (
        [policy("GET /v1/bay keeper; GET /v2/bay helper"), policy("PUT /api/v1/x/{x} keeper; PUT /api/v2/x/{y} clerk")],
        [policy("GET /v1/bay keeper; GET /v2/bay keeper"), policy("GET /v1/bay keeper; GET /v2/bays helper")],
    ),
    "own-rights-by-field": (
        [
            policy(sections="fields member\n  role read helper change helper\n  * read helper change keeper"),
            policy(sections="fields lot\n  password read nobody change signed-in\n  * read lot:read"),
        ],
        [
            policy(sections="fields lot\n  role read lot:read change keeper\n  * read lot:read"),
            policy(sections="fields lot\n  roles-of-bay read lot:read change helper\n  * read lot:read"),
        ],
    ),
    "debug-page-open": (
        [policy("GET /debug anyone"), policy("GET /ops/__debug__/x signed-in")],
        [policy("GET /debug keeper"), policy("GET /debugging-notes anyone")],
    ),
    "get-that-changes": (
        [policy("GET /bays/{x}/approve keeper")],
        [policy("GET /bays/{x}/approve keeper; POST /bays/{x}/approve keeper"), policy("GET /approve keeper")],
    ),
    "head-wider-than-get": (
        [policy("GET /bay keeper; HEAD /bay helper")],
        [policy("GET /bay keeper; HEAD /bay keeper")],
    ),
    "query-decides": (
        [policy("GET /bay signed-in if by-word", conditions='by-word query.word == "fern"')],
        [
            policy("GET /bay helper if by-word", conditions='by-word query.word == "fern"'),
            policy("GET /bay signed-in if by-word", conditions="by-word query.word == caller.word"),
        ],
    ),
    "all-but-a-role": (
        [policy("GET /bay not clerk"), policy("GET /bay signed-in and not clerk")],
        [policy("GET /bay helper and not clerk"), policy("GET /bay not signed-in")],
    ),
    "signed-out-alone": (
        [policy("GET /bay signed-out")],
        [policy("GET /join signed-out"), policy("GET /bay signed-out", tail="denials\n  signed-out go /bay")],
    ),
    "rule-misses-api": (
        [policy("GET /bay keeper; GET /api/bay keeper", tail="always\n  /bay active")],
        [
            policy("GET /bay keeper; GET /api/bay keeper", tail="always\n  /bay active\n  /api/** active"),
            policy("GET /bay keeper; GET /api/boats keeper", tail="always\n  /bay active"),
        ],
    ),
    "apart-joined": (
        [
            policy(roles="apart helper, clerk", sections='groups\n  "staff" helper, clerk').replace(
                " helper and clerk", " helper"
            )
        ],
        [
            policy(roles="apart helper, clerk", sections='groups\n  "staff" helper').replace(
                " helper and clerk", " helper"
            )
        ],
    ),
    "staff-permission-shared": (
        [policy("GET /bays bay:read; GET /staff/lots bay:read", permissions="bay:read helper")],
        [
            policy("GET /bays bay:read; GET /api/lots bay:read", permissions="bay:read helper"),
            policy("GET /staff/lots bay:read; GET /staff/bays bay:read", permissions="bay:read helper"),
        ],
    ),
    "needless-grant": (
        [
            policy(permissions="bay:read helper, keeper"),
            policy(permissions="bay:read helper, helper if own-lot"),
            policy(permissions="bay:read helper if own-lot, keeper if own-lot and active"),
            policy(permissions="bay:read clerk; bay:* clerk"),
            policy(permissions="bay:read signed-in, clerk"),
            policy(permissions="bay:read clerk, clerk"),
        ],
        [
            policy(permissions="bay:read helper if own-lot, keeper"),
            policy(permissions="bay:read clerk; bay:* helper"),
            policy(permissions="bay:read helper if own-lot, clerk if own-lot"),
            policy(permissions="bay:read signed-out, clerk"),
        ],
    ),
    "open-change": (
        [
            policy("POST /bay anyone"),
            policy("any /bay anyone"),
            policy("PUT /bay signed-out or keeper"),
            policy("PUT /** anyone", tail="always\n  /bay/** helper"),
            policy("DELETE /bay/{x} signed-out or signed-in"),
            policy("POST /jobs/reset anyone"),
            policy("POST /orders/{x}/confirm anyone"),
        ],
        [
            policy("POST /join anyone; POST /password/reset anyone; POST /api/token anyone"),
            policy("GET /bay anyone"),
            policy("POST /join signed-out"),
            policy("POST /bay anyone", tail="denials\n  signed-out go /bay").replace(
                "denials", "  GET /bay anyone\ndenials"
            ),
        ],
    ),
    "change-wider-than-read": (
        [
            policy("GET /lots/{lot_id} clerk"),
            policy("GET /bay/{x} clerk; POST /bay/{x}/close helper"),
            policy("GET /bay/{x} keeper; PUT /bay/{x} helper and clerk"),
            policy("GET /lots/{lot_id} lot:read if own-lot"),
            policy("GET /bay/{x} helper if own-lot; PUT /bay/{x} helper if active"),
        ],
        [
            policy("GET /lots/{lot_id} lot:read"),
            policy("GET /bay/{x} helper if own-lot; PUT /bay/{x} helper if own-lot and active"),
            policy("GET /bay clerk; POST /bay helper"),  # to add is not to change what is read
        ],
    ),
    "closed-sign-in": (
        [
            policy(tail="denials\n  signed-out go /sign-in").replace(
                "POST /sign-in signed-out", "POST /sign-in signed-in"
            ),
            policy("GET /door helper", tail="denials\n  signed-out go /sign-in\n  /door signed-out status 401").replace(
                "POST /sign-in signed-out", "POST /sign-in helper"
            ),
        ],
        [
            policy(tail="denials\n  signed-out go /sign-in"),
            policy("GET /door anyone", tail="denials\n  signed-out go /door"),
        ],
    ),
    "action-wider-than-form": (
        [
            policy("GET /lots/{lot_id}/edit keeper"),
            policy("GET /lots/new keeper; POST /lots lot:read"),
            policy("GET /bay/edit keeper; POST /bay/edit helper"),
            policy("GET /lots/{lot_id}/delete keeper; DELETE /lots/{lot_id} helper"),
            policy("GET /bay/new helper if own-lot; POST /bay helper"),
            policy("GET /bay/{x}/edit keeper; any /bay/{x} helper"),
            policy("GET /bay/new keeper; POST /bay helper and clerk"),
        ],
        [
            policy("GET /lots/{lot_id}/edit lot:edit"),
            policy("GET /lots/new keeper; POST /lots keeper"),
            policy("GET /lots/newest keeper; POST /lots helper"),
            policy("GET /bay/new helper; POST /bay helper if own-lot"),
        ],
    ),
    "form-wider-than-action": (
        [policy("GET /lots/{lot_id}/edit lot:read"), policy("GET /bay/new helper; POST /bay keeper")],
        [
            policy("GET /bay/new keeper; POST /bay keeper"),
            policy("GET /bay/new keeper; POST /bay keeper", tail="always\n  POST /** active or signed-out"),
        ],
    ),
    "put-and-patch-differ": (
        [policy("PUT /lots/{lot_id} helper"), policy("PUT /bay keeper; PATCH /bay keeper if active")],
        [policy("PUT /lots/{lot_id} lot:edit if active"), policy("PUT PATCH /bay keeper")],
    ),
    "api-differs": (
        [
            policy("GET /api/lots signed-in"),
            policy("GET /api/v1/lots keeper"),
            policy("POST /lots/{lot_id} keeper; PATCH /api/lots/{id} helper"),
        ],
        [
            policy("GET /api/lots lot:read"),
            policy("GET /api/lots-of-land signed-in"),
            policy("GET /apis/lots signed-in"),
        ],
    ),
    "write-without-condition": (
        [
            policy("DELETE /lots/{lot_id} helper"),
            policy("POST /bay helper; PUT PATCH /bay helper if own-lot"),
        ],
        [
            policy("DELETE /lots/{lot_id} keeper if active"),
            policy("DELETE /bay/{x} helper if own-lot; PATCH /bay/{x} helper"),  # to remove may require more
        ],
    ),
    "delete-wider-than-change": (
        [policy("DELETE /lots/{lot_id} clerk"), policy("PUT /bay keeper; DELETE /bay helper")],
        [policy("DELETE /lots/{lot_id} keeper"), policy("PUT /bay keeper; PATCH /bay helper; DELETE /bay helper")],
    ),
    "write-without-rule": (
        [
            policy(
                "POST /a keeper; POST /b keeper; POST /c keeper; POST /d keeper; DELETE /e keeper",
                tail="always\n  POST PATCH /** active or signed-out",
            ),
        ],
        [
            policy(
                "POST /a keeper; POST /b keeper; POST /c keeper; POST /sign-out signed-in",
                tail="always\n  POST /a active\n  POST /b active\n  POST /c active\n  PATCH /** active",
            ),
            policy(
                "POST /a keeper; POST /b keeper; DELETE /e keeper; DELETE /f keeper", tail="always\n  POST /** active"
            ),
        ],
    ),
    "never-holds": (
        [
            policy("GET /bay helper if torn", conditions='torn caller.status == "a" and caller.status == "b"'),
            policy("GET /bay helper if torn", conditions="torn record.age > 3 and record.age < 2"),
            policy("GET /bay helper if torn", conditions="torn record.owner == caller.id and not own-lot"),
            policy("GET /bay helper if torn and active", conditions='torn caller.status == "torn"'),
            policy("GET /bay helper if torn", conditions='torn caller.status in ["a", "b"] and caller.status == "c"'),
        ],
        [
            policy("GET /bay helper if torn", conditions='torn caller.status == "a" or caller.status == "b"'),
            policy("GET /bay helper if torn", conditions="torn record.age > 2 and record.age < 3"),
            policy("GET /bay helper if torn", conditions='torn caller.status in ["a", "b"] and caller.status == "b"'),
        ],
    ),
    "always-faulty": (
        [
            policy("GET /bay helper if torn", conditions=f"torn {test}")
            for test in (
                'now < "tomorrow"',
                "now.time < 9",
                "now.weekday == 1",
                "now < 09:00",
                "record.age < true",
                "none > record.age",
                'caller.team in "north"',
                "query.x == true or caller.id == 1",
                "now in [1, 2]",
                "2027-01-01 == 12",
            )
        ]
        + [policy("GET /bay/{x} helper if path.x == true"), policy(permissions="bay:go helper if now < 5")],
        [
            policy("GET /bay helper if torn", conditions=f"torn {test}")
            for test in (
                'now < "2027-01-01"',
                "now < 2027-01-01",
                "now.time < 09:00",
                'now.weekday == "monday"',
                "record.age < 5",
                "record.age != none",
                'caller.team in ["north"]',
                "record.due - 24h < now",
            )
        ],
    ),
    "always-holds": (
        [
            policy("GET /bay helper if full", conditions='full caller.status != "a" or caller.status != "b"'),
            policy("GET /bay helper if full", conditions="full record.owner == record.owner"),
            policy("GET /bay helper if full", conditions="full record.age >= 2 or record.age < 3"),
        ],
        [
            policy("GET /bay helper if full", conditions='full caller.status != "a" or caller.mood != "b"'),
            policy("GET /bay helper if full", conditions="full record.age > 3 or record.age < 3"),
        ],
    ),
    "closed-line": (
        [policy("GET /bay helper and not signed-in"), policy("GET /bay clerk and not clerk")],
        [policy("GET /bay helper and clerk"), policy("GET /bay nobody"), policy("GET /bay clerk and not keeper")],
    ),
    "unrelated-fields": (
        [policy(tail="fields lto\n  * read helper change keeper")],
        [policy(tail="fields lot\n  * read lot:read"), policy("GET /bays clerk", tail="fields bay\n  * read helper")],
    ),
    "fields-without-rest": (
        [policy(tail="fields lot\n  weight read lot:read")],
        [policy(tail="fields lot\n  weight read lot:read\n  * read keeper")],
    ),
    "field-wider-than-page": (
        [
            policy("GET /lots/{lot_id} helper", tail="fields lot\n  weight read clerk\n  * read helper"),
            policy("GET /lots/{lot_id} helper if own-lot", tail="fields lot\n  * read helper"),
        ],
        [
            policy("GET /lots/{lot_id} helper", tail="fields lot\n  weight read keeper\n  * read helper"),
            policy("GET /bays/{bay_id} helper", tail="fields lot\n  * read clerk"),
            policy("GET /lots/{lot_id} helper if own-lot", tail="fields lot\n  * read helper if own-lot"),
        ],
    ),
    "field-change-wider-than-read": (
        [policy(tail="fields lot\n  * read keeper change helper")],
        [policy(tail="fields lot\n  * read helper change keeper"), policy(tail="fields lot\n  * read helper")],
    ),
    "hidden-page-given-away": (
        [
            policy(tail="denials\n  /desk role hide"),
            policy(tail="denials\n  /lots/* own-lot hide"),
            policy(tail="denials\n  /desk any hide\n  /desk signed-out go /sign-in"),
        ],
        [policy(tail="denials\n  /desk any hide"), policy("GET /bay anyone", tail="denials\n  /bay role hide")],
    ),
    "idle-denial": (
        [policy(tail="denials\n  /desk own-lot status 403"), policy(tail="denials\n  GET own-lot hide")],
        [policy(tail="denials\n  /lots/* own-lot status 403"), policy(tail="denials\n  own-lot hide")],
    ),
    "stale-accept": (
        [
            policy('GET /bay clerk accept open-change "once"'),
            policy('POST /bay anyone accept open-chnge "a form"'),
            policy(roles='porter includes clerk, helper accept unused-role "soon"'),
        ],
        [policy('POST /bay anyone accept open-change "a form"'), policy(roles='porter accept unused-role "soon"')],
    ),
}


class Finding(InFolder):
    def found(self, name: str, *words: object) -> list[dict[str, Any]]:
        run = self.bloodroot("check", *words, "--format", "json", "--fail-on", "never")
        self.assertEqual((run.status, run.err), (0, ""), run.out)
        return [finding for finding in json.loads(run.out)["findings"] if finding["name"] == name]


class Policies(Finding):
    def test_each_kind_that_the_policy_alone_shows(self) -> None:
        for name, (raising, near) in POLICIES.items():
            for text in raising:
                with self.subTest(name, raising=text):
                    self.write("access.bloodroot", text)
                    self.assertTrue(self.found(name))
            for text in near:
                with self.subTest(name, near=text):
                    self.write("access.bloodroot", text)
                    self.assertEqual(self.found(name), [])

    def test_the_policy_of_these_cases_is_clean(self) -> None:
        self.write("access.bloodroot", policy())
        found = json.loads(self.bloodroot("check", "--format", "json").out)["findings"]
        self.assertEqual([each["name"] for each in found], [])


APP = """
from bloodroot.enforce import current, guard, {framework}
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route

def answer(request):
    return PlainTextResponse("here")

def other(request):
    return PlainTextResponse("there")

def settling(request):
    current().settle({{"owner": 3}})
    return PlainTextResponse("here")

{handlers}

app = Starlette(routes=[{routes}])
{after}
"""
KEEPER = "roles\n  keeper includes helper\n  helper\n  clerk\nconditions\n  own record.owner == caller.id\nendpoints\n"


def application(routes: str, handlers: str = "", after: str = "", framework: str = "starlette") -> str:
    return APP.format(routes=routes, handlers=handlers, after=after, framework=framework)


LISTING = "def rows():\n    return []\ndef listing(request):\n    return PlainTextResponse(str(rows()))\n"
STUDIOS = """things
  studio {studio_id}
  kiln {kiln_id} in studio by studio_id
  firing {firing_id} in kiln by kiln_id
roles in studio
  owner
endpoints
"""
ANY_CASE = """from starlette.convertors import Convertor, register_url_convertor

class AnyCase(Convertor):
    regex = "(?i:north|south)"
    def convert(self, value):
        return value.lower()
    def to_string(self, value):
        return value
register_url_convertor("any_case", AnyCase())
"""
GUARDED = '@guard("{0}")\ndef guarded(request):\n    return PlainTextResponse("here")\n'
PROTECTED = "starlette.protect(app, 'access.bloodroot', identify=lambda request: None, records={records})"

LOADED = "from bloodroot import load\n" + PROTECTED.format(records="{}").replace("'access.b", "load('access.b").replace(
    "', id", "'), id"
)

# For each kind: a policy's lines and an application, each that raises it and near misses.
APPLICATIONS: dict[str, tuple[list[tuple[str, str]], list[tuple[str, str]]]] = {
    "alias-differs": (
        [("  GET /a keeper\n  GET /b helper", application('Route("/a", answer), Route("/b", answer)'))],
        [
            ("  GET /a keeper\n  GET /b keeper", application('Route("/a", answer), Route("/b", answer)')),
            ("  GET /a keeper\n  GET /b helper", application('Route("/a", answer), Route("/b", other)')),
        ],
    ),
    "endpoint-without-line": (
        [("  GET /a keeper", application('Route("/a", answer), Route("/b", answer)'))],
        [("  GET /a keeper\n  GET /{any} helper", application('Route("/a", answer), Route("/b", answer)'))],
    ),
    "line-without-endpoint": (
        [("  GET /a keeper\n  GET /lost keeper", application('Route("/a", answer)'))],
        [("  GET /a/ keeper\n  any /** nobody", application('Route("/a", answer)'))],
    ),
    "rule-without-endpoint": (
        [("  GET /a keeper\nalways\n  POST /a helper", application('Route("/a", answer)'))],
        [("  GET /a keeper\nalways\n  GET /** helper", application('Route("/a", answer)'))],
    ),
    "action-of-several-routes": (
        [("  action answer keeper", application('Route("/a", answer), Route("/b", answer)'))],
        [("  action answer keeper", application('Route("/a", answer), Route("/b", other)'))],
    ),
    "catch-all": (
        [
            ("  GET /a keeper\n  any /** helper", application('Route("/a", answer), Route("/b", answer)')),
            ("  GET /{x} clerk", application('Route("/{x}", answer), Route("/b", other)')),
            ("  GET /a/** clerk", application('Mount("/a", routes=[Route("/b", answer)])')),
        ],
        [
            ("  GET /a keeper\n  any /** nobody", application('Route("/a", answer), Route("/b", answer)')),
            ("  GET /a keeper\n  any /** helper", application('Route("/a", answer)')),
            ("  any /** guarded", application('Route("/a", answer)')),
        ],
    ),
    "page-methods-differ": (
        [("  GET /a helper\n  POST /a clerk", application('Route("/a", answer, methods=["GET", "POST"])'))],
        [
            ("  GET POST /a helper", application('Route("/a", answer, methods=["GET", "POST"])')),
            (
                "  GET /a helper\n  POST /a clerk",
                application('Route("/a", answer), Route("/a", other, methods=["POST"])'),
            ),
        ],
    ),
    "guard-missing": (
        [("  GET /a guarded", application('Route("/a", answer)'))],
        [
            ("  GET /a guarded", application('Route("/a", guarded)', GUARDED.format("keeper"))),
            ("  GET /a keeper", application('Route("/a", answer)')),
        ],
    ),
    "route-ignores-case": (
        [("  GET /{place}/a keeper", application('Route("/{place:any_case}/a", answer)', ANY_CASE))],
        [("  GET /{place}/a keeper", application('Route("/{place:str}/a", answer)', ANY_CASE))],
    ),
    "report-only": (
        [
            (
                "  GET /a keeper",
                application('Route("/a", answer)', "", LOADED[:-1] + ", report_only=True)"),
            )
        ],
        [("  GET /a keeper", application('Route("/a", answer)', "", LOADED))],
    ),
    "guard-not-run": (
        [
            (
                "  GET /a guarded",
                application('Route("/a", bare)', "def bare(request): ...\n\nguarded = guard('keeper')(bare)"),
            )
        ],
        [
            (
                "  GET /a guarded",
                application('Route("/a", guarded)', "def bare(request): ...\n\nguarded = guard('keeper')(bare)"),
            )
        ],
    ),
    "guard-contradicts-line": (
        [
            ("  GET /a signed-out", application('Route("/a", guarded)', GUARDED.format("keeper"))),
            ("  GET /a not helper", application('Route("/a", guarded)', GUARDED.format("keeper"))),
        ],
        [
            ("  GET /a helper", application('Route("/a", guarded)', GUARDED.format("keeper"))),
            ("  GET /a guarded", application('Route("/a", guarded)', GUARDED.format("nobody"))),
        ],
    ),
    "guard-unknown-name": (
        [("  GET /a guarded", application('Route("/a", guarded)', GUARDED.format("keepr")))],
        [("  GET /a guarded", application('Route("/a", guarded)', GUARDED.format("keeper")))],
    ),
    "list-not-filtered": (
        [(f"{STUDIOS}  GET /studios owner in any studio", application('Route("/studios", answer)'))],
        [
            (f"{STUDIOS}  GET /studios owner in any studio", application('Route("/studios", listing)', LISTING)),
            (f"{STUDIOS}  GET /studios keeper", application('Route("/studios", answer)')),
        ],
    ),
    "record-not-settled": (
        [
            ("  GET /a keeper if own", application('Route("/a", answer)')),
            ("  GET /a keeper\nalways\n  /** own", application('Route("/a", answer)')),
        ],
        [
            ("  GET /a keeper if own", application('Route("/a", settling)')),
            ("  GET /a/{x} keeper if own", application('Route("/a/{x}", answer)')),
        ],
    ),
}


class Applications(Finding):
    def test_records_on_the_way_are_loaded(self) -> None:
        protect = "from bloodroot import load\n" + PROTECTED.replace("'access.bloodroot'", "load('access.bloodroot')")
        kilns = "{'kiln': lambda x: None}"
        for path, records, handler, expected in (
            ("/studios/{studio_id}", "{}", "answer", False),
            ("/kilns/{kiln_id}", "{}", "answer", True),
            ("/kilns/{kiln_id}", "{}", "settling", False),
            ("/kilns/{kiln_id}", kilns, "answer", False),
            ("/kilns/{kiln_id}", "{'kiln_id': lambda x: None}", "answer", False),
            ("/firings/{firing_id}", "{'firing_id': lambda x: None}", "answer", True),
            ("/firings/{firing_id}", kilns, "settling", True),
            ("/firings/{firing_id}", "{'firing_id': lambda x: None, 'kiln': lambda x: None}", "answer", False),
            ("/studios/{studio_id}/kilns/{kiln_id}", "{}", "answer", True),
            ("/studios/{studio_id}/kilns/{kiln_id}", kilns, "answer", False),
        ):
            for requires in ("owner", "keeper"):
                with self.subTest(path=path, records=records, handler=handler, requires=requires):
                    self.write("access.bloodroot", f"{KEEPER}{STUDIOS}  GET {path} {requires}\n")
                    self.write(
                        "shop.py", application(f'Route("{path}", {handler})', after=protect.format(records=records))
                    )
                    tied = expected and (requires == "owner" or "/studios" in path)
                    # What cannot be settled either keeps the application from starting.
                    refused = "depends on what a" in self.bloodroot("check", "shop:app").err
                    self.assertEqual(refused or bool(self.found("thing-not-loaded", "shop:app")), tied)

    def test_each_kind_that_an_application_shows(self) -> None:
        for name, (raising, near) in APPLICATIONS.items():
            for expected, cases in ((True, raising), (False, near)):
                for lines, app in cases:
                    with self.subTest(name, expected=expected, lines=lines):
                        self.write("access.bloodroot", f"{KEEPER}{lines}\n")
                        self.write("shop.py", app)
                        self.assertEqual(bool(self.found(name, "shop:app")), expected)

    def test_what_an_application_that_is_protected_loads(self) -> None:
        self.write("access.bloodroot", f"{KEEPER}  GET /a/{{x}} keeper if own\n")
        protect = "from bloodroot import load\n" + PROTECTED.replace("'access.bloodroot'", "load('access.bloodroot')")
        for records, expected in (("{}", True), ("{'x': lambda x: None}", False)):
            self.write("shop.py", application('Route("/a/{x}", answer)', after=protect.format(records=records)))
            self.assertEqual(bool(self.found("record-not-settled", "shop:app")), expected, records)

    def test_what_guards_require_is_compared_and_shown_where_they_are(self) -> None:
        self.write("access.bloodroot", f'{KEEPER}  any /** guarded accept action-wider-than-form "once for all"\n')
        handlers = GUARDED.format("keeper") + "\n" + GUARDED.format("helper").replace("def guarded", "def sent")
        routes = 'Route("/lots/new", guarded), Route("/lots", sent, methods=["POST"])'
        self.write("shop.py", application(routes, handlers))
        (found,) = self.found("action-wider-than-form", "shop:app")
        # An accept on the line of all guards is not one for each of them.
        self.assertEqual((found["place"]["file"], found["text"]), ("shop.py", '@guard("helper")'))
        self.assertEqual([each["file"] for each in found["related"]], ["shop.py"])

    def test_every_kind_has_its_cases(self) -> None:
        self.assertEqual(
            {*POLICIES, *APPLICATIONS, *SETTINGS, "cached-for-all", "thing-not-loaded", "role-never-assigned"},
            set(KINDS),
        )


CLASSES = {
    "starlette": """
from starlette.applications import Starlette
from starlette.endpoints import HTTPEndpoint
from starlette.routing import Route
class Lots(HTTPEndpoint):
    @guard("helper")
    async def get(self, request): ...
    async def post(self, request): ...
app = Starlette(routes=[Route("/lots", Lots)])
""",
    "flask": """
from flask import Flask
from flask.views import MethodView
class Lots(MethodView):
    @guard("helper")
    def get(self): ...
    def post(self): ...
app = Flask(__name__, static_folder=None)
app.add_url_rule("/lots", view_func=Lots.as_view("lots"))
""",
    "django": """
import django.conf
if not django.conf.settings.configured:
    django.conf.settings.configure(ROOT_URLCONF=__name__, SECRET_KEY="x")
import django; django.setup()
from django.urls import path
from django.views import View
class Lots(View):
    @guard("helper")
    def get(self, request): ...
    def post(self, request): ...
urlpatterns = [path("lots", Lots.as_view(), name="lots")]
from django.core.wsgi import get_wsgi_application
app = get_wsgi_application()
""",
}


SOCKETS = """
from bloodroot.enforce import guard
from starlette.applications import Starlette
from starlette.endpoints import WebSocketEndpoint
from starlette.routing import WebSocketRoute

class Live(WebSocketEndpoint):
    {guard}
    async def on_connect(self, websocket): ...

app = Starlette(routes=[WebSocketRoute("/live", Live)])
"""


class ClassBased(Finding):
    runs = staticmethod(alone)

    def test_a_cache_around_a_view(self) -> None:
        head, _, tail = CLASSES["django"].partition("urlpatterns = ")
        patterns = '[path("lots", cache_page(60)(Lots.as_view()))]\n' + tail.partition("\n")[2]
        imports = "from django.views.decorators.cache import cache_page\n"
        self.write("shop.py", f"{head}{imports}urlpatterns = {patterns}".replace('@guard("helper")', ""))
        for asks, found in (("keeper", True), ("anyone", False)):
            self.write("access.bloodroot", f"{KEEPER}  any /lots {asks}\n")
            self.assertEqual(bool(self.found("cached-for-all", "shop:app")), found, asks)

    def test_a_websocket(self) -> None:
        self.write("access.bloodroot", f"{KEEPER}  any /** guarded\n")
        for text, missing in (('@guard("keeper")', 0), ("", 1)):
            self.write("shop.py", SOCKETS.format(guard=text))
            self.assertEqual(len(self.found("guard-missing", "shop:app")), missing, text)

    def test_a_method_without_a_guard(self) -> None:
        self.write("access.bloodroot", f"{KEEPER}  any /** guarded\n")
        for framework, text in CLASSES.items():
            with self.subTest(framework):
                self.write("shop.py", f"from bloodroot.enforce import guard\n{text}")
                run = self.bloodroot("check", "shop:app", "--only", "guard-missing", "--format", "lines")
                missing = [line for line in run.out.splitlines() if "OPTIONS" not in line]
                self.assertEqual(len(missing), 1, run.out + run.err)
                self.assertIn("POST /lots is guarded, and no guard is around", missing[0])
                self.assertIn("for POST", missing[0])


SETTINGS = {
    "stale-roles": (
        ['from = "jwt"\nkey = "{env.K}"\nroles = "r"\n[token]\ndevelopment_key = "{env.K}"\nminutes = 30'],
        [
            'from = "jwt"\nkey = "{env.K}"\n',
            'from = "jwt"\nkey = "{env.K}"\nroles = "r"\n[directory]\nurl = "sqlite:///x.db"',
        ],
    ),
    "scoped-token-passes-role": (
        ['from = "jwt"\nkey = "{env.K}"\nscopes = "scope"'],
        ['from = "jwt"\nkey = "{env.K}"\nroles = "r"', 'from = "session"\nid = "who"'],
    ),
}


class Settings(Finding):
    def test_roles_that_nothing_gives(self) -> None:
        things = policy(IN_STUDIO, sections=THINGS)
        everywhere = policy(IN_STUDIO, sections=THINGS, roles="chief includes owner")
        token = '[identity]\nfrom = "jwt"\nkey = "{env.K}"\n'
        own = '[directory]\nurl = "sqlite:///x.db"\n'
        queries = '[directory.queries]\nmember = "select * from m where id = :id"\n'
        for text, settings, expected in (
            (things, token, True),
            (things, "", False),
            (everywhere, token, False),
            (things, token + '[identity.roles_in.studio]\nat = "studios"\n', False),
            (things, token + own, False),
            (things, token + own + queries, True),
            (things, token + own + queries + 'roles_in = "select thing, record, role from r where id = :id"\n', False),
        ):
            with self.subTest(settings=settings, text=text):
                self.write("access.bloodroot", text)
                self.write("bloodroot.toml", f'policy = "access.bloodroot"\n{settings}')
                self.assertEqual(bool(self.found("role-never-assigned")), expected)

    def test_each_kind_that_settings_show(self) -> None:
        self.write("access.bloodroot", policy())
        for name, (raising, near) in SETTINGS.items():
            for expected, texts in ((True, raising), (False, near)):
                for text in texts:
                    with self.subTest(name, text=text):
                        self.write("bloodroot.toml", f'policy = "access.bloodroot"\n[identity]\n{text}\n')
                        self.assertEqual(bool(self.found(name)), expected)
