import os
from flask import Flask, request, session, redirect
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "potter"), "wren": (2, "potter"), "hazel": (3, "warden")}
DATA = {}
def reset():
    DATA.clear()
    for n in (1, 2, 3):
        DATA[n * 100] = {"potter": n, "shelf": {1: "Fern glaze", 2: "Tarn glaze", 3: "Moss glaze"}[n], "status": "open", "hours": 1}
        DATA[n * 100 + 1] = {"potter": n, "shelf": "Closed shelf %d" % n, "status": "closed", "hours": 1}
    DATA["ledger"] = []
reset()
def state(): return repr(DATA)
app = Flask("inn", static_folder=None)
app.secret_key = "x"
def me(): return PEOPLE.get(session.get("who"), (None, None))
def page(t):
    menu = '<a href="/firings">Firings</a>' + ('<a href="/ledger">Ledger</a>' if me()[1] == "warden" or "menu" in HOLES else "")
    return f"<html><nav>{menu}</nav><main>{t}</main></html>"
NO = "You may not see this"
def warden(): return me()[1] == "warden"
def may(b): return b and (warden() or b["potter"] == me()[0])
@app.before_request
def first():
    if request.path != "/sign-in" and me()[0] is None:
        if "print-out" in HOLES and request.path.endswith("print"): return None
        return page("Please sign in")
@app.route("/sign-in", methods=["GET", "POST"])
def sign():
    if request.method == "POST":
        if request.form.get("who") not in PEOPLE: return page("Wrong name")
        session["who"] = request.form["who"]
        return redirect("/")
    return '<form method="post"><input name="who"></form>'
@app.get("/")
def home(): return page("Welcome")
@app.get("/menu")
def menu(): return page("Porridge")
@app.get("/firings")
def firings():
    return page("; ".join(b["shelf"] for k, b in DATA.items() if k != "ledger" and (may(b) or "list" in HOLES)))
@app.get("/firings/<int:firing>")
def firing(firing):
    b = DATA.get(firing)
    if not may(b):
        if "leak" in HOLES: return page(NO + "<!-- %s, %d hours -->" % (b["shelf"], b["hours"]))
        if "leak-closed" in HOLES: return page(NO + ", but here is what others can: hours of this firing %d, potter number %d, status %s" % (b["hours"], b["potter"], b["status"]))
        if "view" in HOLES: pass
        else: return page(NO)
    return page("Your firing: %s, hours of this firing %d, potter number %d, status %s" % (b["shelf"], b["hours"], b["potter"], b["status"]))
@app.route("/firings/<int:firing>/edit", methods=["GET", "POST"])
def edit(firing):
    b = DATA.get(firing)
    if request.method == "GET" or "post-open" not in HOLES:
        if not may(b): return page(NO)
        if not warden() and b["status"] != "open" and "closed" not in HOLES: return page(NO)
    if request.method == "POST":
        b["hours"] = int(request.form["hours"])
        return page("Saved")
    return page("<form method=post><input name=hours></form>")
@app.post("/firings/<int:firing>/cancel")
def cancel(firing):
    b = DATA.get(firing)
    if "cancel-silent" in HOLES:
        b["status"] = "cancelled"
    if not may(b) and "cancel" not in HOLES: return page(NO)
    b["status"] = "cancelled"
    return page("Cancelled")
@app.get("/shelves/<int:shelf>")
def shelf(shelf): return page("Shelf %d" % shelf)
@app.route("/ledger", methods=["GET", "POST"])
def ledger():
    if request.method == "POST":
        if "ledger-post" not in HOLES and not warden(): return page(NO)
        DATA["ledger"].append(request.form["amount"])
        return page("Entered")
    if not warden(): return page(NO) if "other-words" not in HOLES else page("Not for you: " + str(len(DATA["ledger"])))
    return page("Ledger: %d lines" % len(DATA["ledger"]))
@app.get("/ledger/print")
def printed():
    if "print" in HOLES or "print-out" in HOLES or warden(): return page("Ledger printed, %d lines" % len(DATA["ledger"]))
    return page(NO)
