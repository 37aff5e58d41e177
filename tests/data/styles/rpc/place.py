import os
from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, RedirectResponse, HTMLResponse
from starlette.middleware.sessions import SessionMiddleware
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "potter"), "wren": (2, "potter"), "hazel": (3, "warden")}
DATA = {}
def reset():
    DATA.clear()
    DATA.update(pots={100: {"potter": 1, "name": "Fern bowl", "closed": False}, 200: {"potter": 2, "name": "Tarn jug", "closed": False},
                300: {"potter": 3, "name": "Moss tile", "closed": False}}, wardens=[3], reports=[])
reset()
def state():
    return repr(DATA)
app = FastAPI(openapi_url=None)
@app.get("/sign-in")
def form():
    return HTMLResponse('<form method="post"><input name="who"></form>')
@app.post("/sign-in")
async def sign(request: Request):
    form = await request.form()
    if form.get("who") not in PEOPLE:
        return HTMLResponse("no", 400)
    request.session["who"] = form["who"]
    return RedirectResponse("/rpc/", 303)
def me(request):
    return PEOPLE.get(request.session.get("who"), (None, None))
def no(status=403, **more):
    return JSONResponse({"ok": False, "error": "refused", **more}, status)
def guard(request, role="potter"):
    n, r = me(request)
    if n is None:
        return JSONResponse({"error": "sign in"}, 401)
    if role == "warden" and r != "warden":
        return no()
def owns(request, pot):
    n, r = me(request)
    return r == "warden" or (pot and pot["potter"] == n)
@app.post("/rpc/pot.list")
async def plist(request: Request):
    if (g := guard(request)): return g
    body = await request.json()
    return {"ok": True, "result": [p for p in DATA["pots"].values() if owns(request, p) or "list" in HOLES]}
@app.post("/rpc/pot.get")
async def pget(request: Request):
    if "get-out" not in HOLES and (g := guard(request)): return g
    body = await request.json()
    p = DATA["pots"].get(body["pot"])
    if not owns(request, p) and "get" not in HOLES and "get-out" not in HOLES:
        if "get-in-error" in HOLES: return no(detail=repr(p))
        return no()
    return {"ok": True, "result": p}
@app.post("/rpc/pot.rename")
async def prename(request: Request):
    if (g := guard(request)): return g
    body = await request.json()
    p = DATA["pots"].get(body["pot"])
    if "rename-first" in HOLES: p["name"] = body["name"]
    if not owns(request, p) and "rename" not in HOLES: return no()
    p["name"] = body["name"]
    return {"ok": True}
@app.post("/rpc/pot.close-many")
async def close(request: Request):
    if (g := guard(request)): return g
    body = await request.json()
    ps = [DATA["pots"][n] for n in body["pots"]]
    test = any if "many-any" in HOLES else all
    if "many-partly" in HOLES:
        done = 0
        for p in ps:
            if owns(request, p): p["closed"] = True; done += 1
        return {"ok": True, "done": done} if done else no()
    if not test(owns(request, p) for p in ps): return no()
    for p in ps: p["closed"] = True
    return {"ok": True}
@app.post("/rpc/pot.count")
async def count(request: Request):
    if (g := guard(request)): return g
    return {"ok": True, "result": sum(owns(request, p) or "count" in HOLES for p in DATA["pots"].values())}
@app.post("/rpc/potter.make-warden")
async def warden(request: Request):
    if (g := guard(request, "potter" if "warden" in HOLES else "warden")): return g
    DATA["wardens"].append((await request.json())["potter"])
    return {"ok": True}
@app.post("/rpc/report.start")
async def report(request: Request):
    if "report-after" in HOLES:
        DATA["reports"].append(1)
    if (g := guard(request, "warden")): return g
    DATA["reports"].append(1)
    return {"ok": True, "job": len(DATA["reports"])}
@app.post("/rpc/batch")
async def batch(request: Request):
    if (g := guard(request)): return g
    out = []
    for call in (await request.json())["calls"]:
        p = DATA["pots"].get(call["pot"])
        out.append(p if owns(request, p) or "batch" in HOLES else {"error": "refused"})
    return {"ok": True, "results": out}
app.add_middleware(SessionMiddleware, secret_key="x")
