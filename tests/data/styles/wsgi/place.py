import os
from urllib.parse import parse_qs
from http.cookies import SimpleCookie
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "sower"), "wren": (2, "sower"), "hazel": (3, "keeper")}
D = {}
def reset():
    D.clear(); D.update(trays={100: [1, "Fern seed"], 200: [2, "Tarn seed"], 300: [3, "Moss seed"]}, till=[], roles={})
reset()
def state(): return repr(D)
def app(environ, start):
    path, method = environ["PATH_INFO"], environ["REQUEST_METHOD"]
    form = {}
    if method in ("POST", "PUT", "PATCH"):
        form = {k: v[0] for k, v in parse_qs(environ["wsgi.input"].read(int(environ.get("CONTENT_LENGTH") or 0)).decode()).items()}
    cookie = SimpleCookie(environ.get("HTTP_COOKIE", ""))
    who = cookie["who"].value if "who" in cookie else None
    n, role = PEOPLE.get(who, (None, None))
    def say(text, status="200 OK", *headers):
        start(status, [("content-type", "text/html"), *headers]); return [text.encode()]
    def no(): return say("not yours", "403 Forbidden")
    if path == "/sign-in":
        if method == "POST" and form.get("who") in PEOPLE: return say("", "303 See Other", ("location", "/"), ("set-cookie", "who=" + form["who"]))
        if method in ("GET", "HEAD"): return say('<form method="post"><input name="who"></form>')
        return say("bad", "405 Method Not Allowed")
    if path == "/": return say("The sowery")
    if n is None and not ("case" in HOLES and path != path.lower()) and not ("till-out" in HOLES and path == "/till"): return say("sign in", "401 Unauthorized")
    keeper = role == "keeper"
    parts = path.strip("/").split("/")
    if parts == ["trays"] and method in ("GET", "HEAD"):
        return say(", ".join(l[1] for l in D["trays"].values() if keeper or l[0] == n or "list" in HOLES))
    if len(parts) == 2 and parts[0] == "trays":
        l = D["trays"].get(int(parts[1])) if parts[1].isdecimal() else None
        if l is None: return say("nothing", "404 Not Found")
        mine = keeper or l[0] == n
        if method == "POST" or ("any-method" in HOLES and method != "GET" and method != "OPTIONS"):
            if not mine and "post" not in HOLES and not ("any-method" in HOLES and method == "PUT"): return no()
            l[1] = form.get("name", l[1]); return say("saved")
        if method not in ("GET", "HEAD"): return say("bad", "405 Method Not Allowed")
        if not mine and not ("get" in HOLES) and not ("head" in HOLES and method == "HEAD"): return no()
        return say(l[1])
    if parts == ["till"]:
        if method == "POST":
            if not keeper and "till-post" not in HOLES: return no()
            D["till"].append(form.get("amount")); return say("rung")
        if method not in ("GET", "HEAD"): return say("bad", "405 Method Not Allowed")
        if not keeper and "till" not in HOLES and "till-out" not in HOLES: return no()
        return say("Till: %d" % len(D["till"]))
    if len(parts) == 2 and parts[0] == "staff":
        if not keeper and not ("self" in HOLES and parts[1] == who) and not ("staff-post" in HOLES and method == "POST"): return no()
        if method == "POST": D["roles"][parts[1]] = form.get("role"); return say("set")
        if method not in ("GET", "HEAD"): return say("bad", "405 Method Not Allowed")
        return say("Person " + parts[1])
    if parts == ["backup"] and "backup" in HOLES: return say("everything: " + repr(D))
    return say("nothing", "404 Not Found")
