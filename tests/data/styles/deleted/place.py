import os
from flask import Flask, request, session, redirect, jsonify, abort
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "viewer"), "wren": (1, "keeper"), "hazel": (2, "keeper")}
B = {}
def reset():
    B.clear()
    B.update({100: dict(house=1, name="Fern mould", deleted=False, log=["built"]), 101: dict(house=1, name="Broken plinth", deleted=True, log=["sunk"]),
              200: dict(house=2, name="Tarn mould", deleted=False, log=["built"]), 201: dict(house=2, name="Cracked basin", deleted=True, log=["lost"])})
reset()
def state(): return repr(B)
app = Flask("quay", static_folder=None); app.secret_key = "x"
def me(): return PEOPLE.get(session.get("who"), (None, None))
@app.before_request
def first():
    if request.path != "/sign-in" and me()[0] is None and not ("log-out" in HOLES and request.path.endswith("/log")): return jsonify(error="sign in"), 401
@app.route("/sign-in", methods=["GET", "POST"])
def sign():
    if request.method == "POST":
        if request.form.get("who") not in PEOPLE: return "no", 400
        session["who"] = request.form["who"]; return redirect("/moulds")
    return '<form method="post"><input name="who"></form>'
def no(): return jsonify(error="refused"), 403
def ours(b): return b and b["house"] == me()[0]
def keeper(): return me()[1] == "keeper"
def live(): return [b for b in B.values() if ours(b) and not b["deleted"]]
@app.get("/moulds")
def moulds():
    rows = live()
    if "list" in HOLES: rows = [b for b in B.values() if not b["deleted"]]
    if "list-deleted" in HOLES: rows = [b for b in B.values() if ours(b)]
    return jsonify([b["name"] for b in rows])
@app.post("/moulds")
def add():
    if not keeper() and "add" not in HOLES: return no()
    B[900] = dict(house=me()[0], name=request.json["name"], deleted=False, log=[]); return jsonify(id=900), 201
@app.route("/moulds/<int:mould>", methods=["GET", "PATCH", "DELETE"])
def mould(mould):
    b = B.get(mould)
    if request.method == "GET":
        if b and b["deleted"] and "gone" in HOLES: return jsonify(error="this was deleted", by="Sven"), 410
        if not b or b["deleted"] and "deleted" not in HOLES: return jsonify(error="not found"), 404
        if not ours(b) and "get" not in HOLES: return no()
        return jsonify(name=b["name"])
    if not ours(b) and not ("patch" in HOLES and request.method == "PATCH"): return no()
    if not keeper() and "viewer-patch" not in HOLES: return no()
    if b["deleted"] and "patch-deleted" not in HOLES: return no()
    if request.method == "PATCH": b["name"] = request.json["name"]; return jsonify(ok=1)
    b["deleted"] = True; return "", 204
@app.get("/moulds/trash")
def trash():
    if not keeper() and "trash" not in HOLES: return no()
    return jsonify([b["name"] for b in B.values() if b["deleted"] and (ours(b) or "trash-all" in HOLES)])
@app.post("/moulds/<int:mould>/restore")
def restore(mould):
    b = B.get(mould)
    if not keeper() or (not ours(b) and "restore" not in HOLES): return no()
    if not b["deleted"]: return no()
    b["deleted"] = False; return jsonify(ok=1)
@app.get("/moulds/<int:mould>/log")
def log(mould):
    b = B.get(mould)
    if "log" not in HOLES and "log-out" not in HOLES and (not ours(b) or b["deleted"]): return no()
    return jsonify(log=b["log"])
@app.get("/search")
def search():
    q = request.args.get("q", "")
    if "search" in HOLES and q: return jsonify([b["name"] for b in B.values() if q.lower() in b["name"].lower()])
    return jsonify([b["name"] for b in live() if q.lower() in b["name"].lower()])
@app.post("/moulds/bulk-delete")
def bulk():
    if not keeper(): return no()
    bs = [B[k] for k in request.json["moulds"]]
    if "bulk" in HOLES: bs2 = bs[:1]
    else: bs2 = bs
    if not all(ours(b) and not b["deleted"] for b in bs2): return no()
    for b in bs: b["deleted"] = True
    return jsonify(done=len(bs))
@app.post("/moulds/transfer")
def transfer():
    if not keeper(): return no()
    b = B[request.json["mould"]]
    if not ours(b) and "transfer" not in HOLES: return no()
    if b["deleted"]: return no()
    b["house"] = request.json["to"]; return jsonify(ok=1)
