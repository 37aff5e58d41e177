import os, hashlib
from starlette.applications import Starlette
from starlette.routing import Route
from starlette.responses import HTMLResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from starlette.middleware.sessions import SessionMiddleware
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "potter"), "wren": (2, "potter"), "hazel": (3, "warden")}
S = {}; JOBS = {}
def reset():
    S.clear(); JOBS.clear()
    S.update({100: {"by": 1, "title": "Fern glaze", "n": 0}, 200: {"by": 2, "title": "Tarn slip", "n": 0}, 300: {"by": 3, "title": "Moss wash", "n": 0}})
    JOBS[7] = {"by": 3, "state": "done", "rows": "Fern glaze, Tarn slip, Moss wash"}
reset()
def state(): return repr((S, JOBS))
def me(r): return PEOPLE.get(r.session.get("who"), (None, None))
def no(): return PlainTextResponse("no", 403)
async def sign(request):
    if request.method == "GET": return HTMLResponse('<form method="post"><input name="who"></form>')
    form = await request.form()
    if form.get("who") not in PEOPLE: return HTMLResponse("no", 400)
    request.session["who"] = form["who"]
    return RedirectResponse("/recipes", 303)
def auth(h):
    async def inner(request):
        if me(request)[0] is None: return PlainTextResponse("sign in", 401)
        return await h(request)
    inner.__wrapped__ = h
    return inner
def lead(r): return me(r)[1] == "warden"
def may(r, s): return s and (lead(r) or s["by"] == me(r)[0])
@auth
async def recipes(request): return JSONResponse([s["title"] for s in S.values() if may(request, s) or "list" in HOLES])
@auth
async def recipe(request):
    k = request.path_params["recipe"]; s = S.get(k)
    if request.method == "DELETE":
        if not lead(request) and not ("delete" in HOLES and may(request, s)): return no()
        S.pop(k, None); return PlainTextResponse("gone")
    tag = '"%s"' % hashlib.sha1(repr(s).encode()).hexdigest()[:8]
    if request.method == "PUT":
        if "etag-put" in HOLES:
            if not may(request, s) and "if-match" not in request.headers: return no()
        elif not may(request, s): return no()
        s["title"] = (await request.json())["title"]; return JSONResponse({"ok": 1})
    if "etag" in HOLES and request.headers.get("if-none-match"): return Response(status_code=304, headers={"etag": tag})
    if "etag-header" in HOLES and not may(request, s): return PlainTextResponse("no", 403, headers={"etag": tag, "x-title": s["title"]})
    if "count" in HOLES: s["n"] += 1
    if not may(request, s): return no()
    return JSONResponse({"title": s["title"]}, headers={"etag": tag})
@auth
async def file(request):
    s = S.get(request.path_params["recipe"])
    if request.headers.get("range") and "range" in HOLES: return PlainTextResponse("PDF " + "notes of the recipe in detail"[:5], 206, headers={"content-range": "bytes 0-4/28"})
    if not may(request, s) and "file" not in HOLES:
        if "file-name" in HOLES: return PlainTextResponse("no", 403, headers={"content-disposition": 'attachment; filename="%s.pdf"' % s["title"].replace(" ", "_")})
        return no()
    return Response(b"%PDF " + b"\x00\x01" * 50, media_type="application/pdf", headers={"content-disposition": 'attachment; filename="%s.pdf"' % s["title"]})
@auth
async def preview(request):
    s = S.get(request.path_params["recipe"])
    if not may(request, s):
        if "preview" in HOLES: return Response(b"\x89PNG" + b"\x00\x02" * 50, 403, media_type="image/png")
        if "preview-redirect" in HOLES: return RedirectResponse("/static/previews/%s.png" % s["title"].replace(" ", "-"), 302)
        return no()
    return Response(b"\x89PNG" + b"\x00\x02" * 50, media_type="image/png")
@auth
async def export(request):
    if not lead(request):
        if "export" in HOLES: JOBS[9] = {"by": me(request)[0]}; return RedirectResponse("/exports/9", 303)
        return no()
    JOBS[8] = {"by": 3, "state": "new", "rows": ""}
    return JSONResponse({"job": 8}, 202, headers={"location": "/exports/8"})
@auth
async def job(request):
    j = JOBS.get(request.path_params["job"])
    if not lead(request) and "job" not in HOLES: return no()
    return JSONResponse({"state": j["state"]})
@auth
async def result(request):
    j = JOBS.get(request.path_params["job"])
    if not lead(request):
        if "result" not in HOLES: return no()
    return PlainTextResponse(j["rows"])
@auth
async def archive(request):
    if not lead(request):
        if "zip-head" in HOLES and request.method == "HEAD": return Response(headers={"content-length": "4096"})
        if "zip-stale" in HOLES and request.query_params.get("token"): return Response(b"PK")
        return no()
    return Response(b"PK" + b"\x00" * 90, media_type="application/zip")
app = Starlette(routes=[Route("/sign-in", sign, methods=["GET", "POST"]), Route("/recipes", recipes), Route("/recipes/{recipe:int}", recipe, methods=["GET", "PUT", "DELETE"]),
 Route("/recipes/{recipe:int}/file", file), Route("/recipes/{recipe:int}/preview", preview), Route("/exports", export, methods=["POST"]), Route("/exports/{job:int}", job),
 Route("/exports/{job:int}/result", result), Route("/archive.zip", archive)])
app.add_middleware(SessionMiddleware, secret_key="x")
