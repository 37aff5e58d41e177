import os, re, json
from starlette.applications import Starlette
from starlette.routing import Route
from starlette.responses import JSONResponse, RedirectResponse, HTMLResponse, PlainTextResponse
from starlette.middleware.sessions import SessionMiddleware
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "member"), "wren": (2, "member"), "hazel": (3, "keeper")}
DATA = {}
def reset():
    DATA.clear()
    DATA.update({100: {"writer": 1, "title": "On ferns"}, 200: {"writer": 2, "title": "On tarns"}, 300: {"writer": 3, "title": "On moss"}})
reset()
def state(): return repr(DATA)
async def sign(request):
    if request.method == "GET":
        return HTMLResponse('<form method="post"><input name="who"></form>')
    form = await request.form()
    if form.get("who") not in PEOPLE: return HTMLResponse("no", 400)
    request.session["who"] = form["who"]
    return RedirectResponse("/home", 303)
def me(r): return PEOPLE.get(r.session.get("who"), (None, None))
def may(n, r, e): return r == "keeper" or e["writer"] == n
def run(n, r, query):
    if m := re.search(r"note\(id: (\d+)\)", query):
        e = DATA[int(m[1])]
        if not may(n, r, e) and "by-id" not in HOLES: return {"data": None, "errors": [{"message": "refused"}]}
        return {"data": {"note": {"title": e["title"]}}}
    if m := re.search(r"rename\(id: (\d+)", query):
        e = DATA[int(m[1])]
        if not may(n, r, e) and "mutation" not in HOLES: return {"data": None, "errors": [{"message": "refused"}]}
        e["title"] = "x"
        return {"data": {"ok": True}}
    if "makeKeeper" in query:
        if r != "keeper" and "role" not in HOLES: return {"data": None, "errors": [{"message": "refused"}]}
        DATA["keeper"] = 1
        return {"data": {"ok": True}}
    return {"data": {"notes": [{"title": e["title"]} for e in DATA.values() if may(n, r, e) or "list" in HOLES]}}
async def graphql(request):
    n, r = me(request)
    if r is None and "open" not in HOLES: return JSONResponse({"errors": [{"message": "sign in"}]}, 401)
    if request.method == "GET":
        if r != "keeper" and "get" not in HOLES: return PlainTextResponse("no", 403)
        if "get" in HOLES and "query" in request.query_params: return JSONResponse(run(n, r, request.query_params["query"]))
        return HTMLResponse("console")
    body = await request.json()
    if isinstance(body, list): return JSONResponse([run(n, r, b["query"]) for b in body])
    return JSONResponse(run(n, r, body["query"]))
async def media(request):
    n, r = me(request)
    if r is None: return JSONResponse({"errors": [{"message": "sign in"}]}, 401)
    e = DATA.get(request.path_params["note"])
    if "media" not in HOLES and (not e or not may(n, r, e)): return PlainTextResponse("no", 403)
    return PlainTextResponse("a scan of " + e["title"])
app = Starlette(routes=[Route("/sign-in", sign, methods=["GET", "POST"]), Route("/graphql", graphql, methods=["GET", "POST"]),
   Route("/media/{note:int}", media)])
app.add_middleware(SessionMiddleware, secret_key="x")
