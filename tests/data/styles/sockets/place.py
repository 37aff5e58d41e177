import os
from fastapi import FastAPI, Request, WebSocket
from fastapi.responses import HTMLResponse, PlainTextResponse, RedirectResponse
from starlette.middleware.sessions import SessionMiddleware
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "potter"), "wren": (2, "potter"), "hazel": (3, "warden")}
S = {}
def reset():
    S.clear(); S.update({100: [1, "Fern kiln"], 200: [2, "Tarn kiln"], 300: [3, "Moss kiln"]})
reset()
def state(): return repr(S)
app = FastAPI(openapi_url=None)
def me(r): return PEOPLE.get(r.session.get("who"), (None, None))
@app.get("/sign-in")
def form(): return HTMLResponse('<form method="post"><input name="who"></form>')
@app.post("/sign-in")
async def sign(request: Request):
    f = await request.form()
    if f.get("who") not in PEOPLE: return HTMLResponse("no", 400)
    request.session["who"] = f["who"]
    return RedirectResponse("/kilns", 303)
@app.get("/kilns")
def kilns(request: Request):
    n, r = me(request)
    if n is None: return PlainTextResponse("in", 401)
    return [s[1] for s in S.values() if r == "warden" or s[0] == n]
@app.get("/kilns/{kiln}")
def kiln(request: Request, kiln: int):
    n, r = me(request)
    if n is None: return PlainTextResponse("in", 401)
    s = S.get(kiln)
    if not s or (r != "warden" and s[0] != n): return PlainTextResponse("no", 403)
    return s[1]
@app.websocket("/kilns/{kiln}/live")
async def live(ws: WebSocket, kiln: int):
    n, r = me(ws); s = S.get(kiln)
    ok = n and s and (r == "warden" or s[0] == n)
    if "late" in HOLES:
        await ws.accept()
        await ws.send_text("now: " + s[1])
        if not ok: await ws.close(1008); return
    else:
        if not ok and "live" not in HOLES:
            await ws.accept(); await ws.close(4403 if n else 4401); return
        await ws.accept()
    await ws.send_text("now firing")
    if "view" in HOLES: S[kiln].append("seen")
    async for t in ws.iter_text(): pass
@app.websocket("/lobby")
async def lobby(ws: WebSocket):
    n, r = me(ws)
    if n is None and "lobby" not in HOLES: await ws.close(1008); return
    await ws.accept()
    if "push" in HOLES: await ws.send_json([s[1] for s in S.values()])
    async for t in ws.iter_text(): pass
@app.websocket("/yard")
async def yard(ws: WebSocket):
    n, r = me(ws)
    if r != "warden" and "yard" not in HOLES:
        await ws.close(1008); return
    await ws.accept()
    async for t in ws.iter_text(): pass
app.add_middleware(SessionMiddleware, secret_key="x")
