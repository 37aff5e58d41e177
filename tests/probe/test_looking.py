"""Holes that the status of an answer does not show: each is found, or said to be not judged, and none agrees."""

from __future__ import annotations

import json
import unittest

from tests.program import InFolder

POLICY = """
    roles
      member
      steward  includes member
    conditions
      own   record.owner == caller.id
    endpoints
      GET POST  /sign-in                                anyone
      GET       /pieces                                 member
      GET       /pieces/{piece_id}                      steward or member if own
      POST      /pieces/{piece_id}                      steward or member if own
      GET       /shelves/{shelf_id}/pieces/{piece_id}   steward or member if own
      POST      /archive                                steward or member if own
      GET       /pieces/{piece_id}/picture              member
      GET       /shelves/{shelf_id}/pieces              member
      GET       /search                                 member
      GET       /export.csv                             steward
      GET       /catalog/{number}                     member
      GET       /api/pieces/{piece_id}                  steward or member if own
      PATCH     /api/pieces/{piece_id}                  steward or member if own
    fields piece
      price  read steward or own  change steward
      *      change member
    denials
      GET /pieces/{piece_id}  own  hide
"""
SETTINGS = """
    policy = "access.bloodroot"
    app = "studio:app"
    openapi = "openapi.json"
    [personas.visitor]
    signed_in = false
    [personas.ash]
    roles = ["member"]
    attributes = { id = 1 }
    [personas.wren]
    roles = ["member"]
    attributes = { id = 2 }
    [personas.hazel]
    roles = ["steward"]
    attributes = { id = 3 }
    [samples.own]
    holds = { piece_id = "{persona.id}0", shelf_id = "{persona.id}", number = "{persona.id}0" }
    fails = [{ piece_id = 10, shelf_id = 1, number = 10, mark = "Fern bowl" }, { piece_id = 20, shelf_id = 2, number = 20, mark = "Tarn jug" }]
    [probe]
    reset = "studio:reset"
    state = "studio:state"
    [probe.sign_in]
    how = "form"
    path = "/sign-in"
    fields = { who = "{persona.name}", code = "fern" }
    [probe.fields.piece]
    marks = { price = "4711" }
    change = ["PATCH /api/pieces/{piece_id}"]
    values = { price = 1 }
    [bodies]
    "POST /pieces/{piece_id}" = { form = { name = "Marsh cup" } }
    "PATCH /api/pieces/{piece_id}" = { json = { name = "Marsh cup", size = 3 } }
    "POST /archive" = { json = { pieces = ["{sample.own.piece_id}"] } }
"""
DOCUMENT = {
    "openapi": "3.1.0",
    "info": {"title": "studio", "version": "1"},
    "paths": {
        "/pieces": {
            "get": {
                "parameters": [
                    {"name": "all", "in": "query", "schema": {"type": "boolean"}},
                    {"name": "sort", "in": "query", "schema": {"type": "string"}},
                ],
                "responses": {},
            }
        },
        "/search": {
            "get": {"parameters": [{"name": "q", "in": "query", "example": "e", "schema": {}}], "responses": {}}
        },
    },
}
APP = """
    import os, secrets
    import flask
    from flask import request, session

    HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
    PEOPLE = {"ash": (1, "member"), "wren": (2, "member"), "hazel": (3, "steward")}
    PIECES = {}

    def hole(name):
        return name in HOLES

    def reset():
        PIECES.clear()
        PIECES.update({
            10: {"name": "Fern bowl", "owner": 1, "shelf": 1, "price": "4711", "views": 0, "archived": False, "size": 1},
            20: {"name": "Tarn jug", "owner": 2, "shelf": 2, "price": "815", "views": 0, "archived": hole("rule"), "size": 1},
            30: {"name": "Moss tile", "owner": 3, "shelf": 3, "price": "99", "views": 0, "archived": False, "size": 1}})

    def state():
        return repr(PIECES)

    app = flask.Flask("studio", static_folder=None)
    app.secret_key = "x"
    reset()

    def me():
        return PEOPLE.get(session.get("who"), (None, None))

    def token():
        return session.setdefault("desk", secrets.token_hex(12))

    def page(text):
        return "<title>Studio</title><h1>%s</h1>" % text

    @app.before_request
    def guard():
        number, role = me()
        rule = request.url_rule.rule if request.url_rule else ""
        if rule == "/sign-in" or not rule:
            return None
        if role is None:
            return flask.redirect("/sign-in")
        if request.method == "POST" and not request.is_json and request.form.get("desk_token") != token():
            return page("The form is too old"), 400

    def may(piece, steward_alone=False):
        number, role = me()
        return role == "steward" or (not steward_alone and piece is not None and piece["owner"] == number)

    @app.route("/sign-in", methods=["GET", "POST"])
    def sign_in():
        form = '<form method="post" action="/sign-in"><input type="hidden" name="desk_token" value="%s"><input name="who"><input name="code"></form>'
        if request.method == "POST":
            if request.form.get("desk_token") != token() or request.form.get("code") != "fern":
                return page("no"), 400
            session["who"] = request.form["who"]
            return flask.redirect("/pieces")
        return page(form % token())

    def seen(all):
        return [each for each in PIECES.values() if all or may(each)]

    @app.get("/pieces")
    def pieces():
        all = hole("list") or (hole("parameter") and request.args.get("all") == "true")
        return page(", ".join(each["name"] for each in seen(all)))

    @app.get("/search")
    def search():
        all = hole("search") and "q" in request.args
        return page(", ".join(each["name"] for each in seen(all)))

    @app.get("/pieces/<int:piece_id>")
    def piece(piece_id):
        found = PIECES.get(piece_id)
        if hole("json") and request.headers.get("Accept") == "application/json" and found:
            return {"called": "a piece", **found, "name": "x"}
        if hole("not-modified") and found and "If-None-Match" in request.headers:
            return "", 304
        if found and not may(found):
            if hole("views"):
                found["views"] += 1
            if hole("names"):
                return page("Nothing here"), 404, {"X-Owner": "Wren Marsh"}
            if hole("private"):
                return page("This piece belongs to somebody"), 404
            return page("Nothing here"), 404
        if not found:
            return page("Nothing here"), 403 if hole("missing") else 404
        form = '<form method="post"><input type="hidden" name="desk_token" value="%s"><input name="name"></form>' % token()
        return page(found["name"] + form)

    @app.post("/pieces/<int:piece_id>")
    def edit(piece_id):
        found = PIECES[piece_id]
        if hole("rule") and found["archived"]:
            return page("no"), 403
        if not may(found) and not hole("edit") and not hole("rule"):
            return page("no"), 403
        found["name"] = request.form["name"]
        return flask.redirect("/pieces")

    @app.get("/shelves/<int:shelf_id>/pieces/<int:piece_id>")
    def on_shelf(shelf_id, piece_id):
        found = PIECES.get(piece_id)
        if hole("nested"):
            return page(found["name"]) if shelf_id == me()[0] or me()[1] == "steward" else (page("no"), 403)
        if not found or found["shelf"] != shelf_id:
            return page("Nothing here"), 404
        return page("On this shelf stands " + found["name"]) if may(found) else (page("no"), 403)

    @app.get("/pieces/<int:piece_id>/picture")
    def picture(piece_id):
        return page("a picture")

    @app.get("/shelves/<int:shelf_id>/pieces")
    def shelf(shelf_id):
        return page(", ".join(each["name"] for each in seen(hole("shelf")) if each["shelf"] == shelf_id) or "Empty")

    @app.post("/archive")
    def archive():
        wanted = [PIECES[number] for number in request.json["pieces"]]
        checked = [] if hole("bulk") else wanted[:1] if hole("first-alone") else wanted
        if not all(map(may, checked)):
            return page("no"), 403
        for each in wanted:
            each["archived"] = True
        return {"done": len(wanted)}

    @app.route("/export.csv", methods=["GET", "HEAD"])
    def export():
        if hole("head") and request.method == "HEAD":
            return ""
        if hole("range") and request.range:
            return "name,owner", 206
        if not may(None):
            if hole("shown"):
                rows = "; ".join("%(name)s of %(owner)s, glazed in spring, fired twice" % each for each in PIECES.values())
                return page("You may not export this: " + rows), 403
            return page("no"), 403
        return "; ".join("%(name)s of %(owner)s, glazed in spring, fired twice" % each for each in PIECES.values())

    @app.get("/catalog/<int:number>")
    def catalog(number):
        found = PIECES[number]
        shown = {"size": found["size"]}
        if may(found) or hole("field"):
            shown["price"] = found["price"]
        return shown

    @app.route("/api/pieces/<int:piece_id>", methods=["GET", "PATCH"])
    def api(piece_id):
        found = PIECES[piece_id]
        if not may(found):
            return {"error": "no"}, 403
        if request.method == "GET":
            return {"name": found["name"]}
        sent = request.get_json()
        if "size" not in sent:
            return {"error": "size is missing"}, 422
        if "price" in sent and me()[1] != "steward":
            if hole("price"):
                found["price"] = sent["price"]
        elif "price" in sent:
            found["price"] = sent["price"]
        found["name"] = sent["name"]
        return {"done": True}
"""
# By hole: where it shows.
HOLES = {
    "list": "GET /pieces",
    "parameter": "GET /pieces",
    "search": "GET /search",
    "json": "GET /pieces/{piece_id}",
    "not-modified": "GET /pieces/{piece_id}",
    "views": "GET /pieces/{piece_id}",
    "names": "GET /pieces/{piece_id}",
    "private": "GET /pieces/{piece_id}",
    "missing": "GET /pieces/{piece_id}",
    "shelf": "GET /shelves/{shelf_id}/pieces",
    "edit": "POST /pieces/{piece_id}",
    "rule": "POST /pieces/{piece_id}",
    "nested": "GET /shelves/{shelf_id}/pieces/{piece_id}",
    "bulk": "POST /archive",
    "first-alone": "POST /archive",
    "head": "HEAD /export.csv",
    "range": "GET /export.csv",
    "shown": "GET /export.csv",
    "field": "GET /catalog/{number}",
    "price": "PATCH /api/pieces/{piece_id}",
}


class Looking(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        self.write("studio.py", APP)
        self.write("openapi.json", json.dumps(DOCUMENT))

    def probed(self, holes: str, status: int) -> dict[str, set[str]]:
        run = self.bloodroot("probe", "--format", "json", STUDIO_HOLES=holes)
        self.assertEqual(run.status, status, run.err)
        found: dict[str, set[str]] = {}
        for each in json.loads(run.out)["observations"]:
            found.setdefault(f"{each['method']} {each['template']}", set()).add(each["verdict"])
        return found

    def test_a_sound_application_is_well(self) -> None:
        out = self.ran("probe", STUDIO_HOLES="")
        self.assertIn("As declared: 0 holes", out)
        self.assertNotIn("varied", out)

    def test_each_hole(self) -> None:
        by_endpoint: dict[str, list[str]] = {}
        for hole, endpoint in HOLES.items():
            by_endpoint.setdefault(endpoint, []).append(hole)
        # One hole at each endpoint at a time.
        for round_of in range(max(map(len, by_endpoint.values()))):
            chosen = {holes[round_of]: at for at, holes in by_endpoint.items() if round_of < len(holes)}
            found = self.probed(",".join(chosen), 1)
            for hole, endpoint in chosen.items():
                with self.subTest(hole):
                    self.assertTrue(found[endpoint] & {"hole", "other"}, found)
            wrong = {name for name, verdicts in found.items() if verdicts - {"agree"}}
            self.assertEqual(wrong, set(chosen.values()))


if __name__ == "__main__":
    unittest.main()
