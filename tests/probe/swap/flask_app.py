"""The seed swap with Flask."""

import os
import secrets
from functools import wraps

import flask

from bloodroot import Caller, parse
from bloodroot.enforce import flask as enforced

from . import PEOPLE, POLICY, Store, act, checks, planted, shown

ROUTES = {
    "home": ("/", ("GET",)),
    "sign_in": ("/sign-in", ("GET", "POST")),
    "sign_out": ("/sign-out", ("POST",)),
    "desk": ("/desk", ("GET",)),
    "packets": ("/packets/", ("GET",)),
    "new": ("/packets/new", ("GET", "POST")),
    "packet": ("/packets/<int:packet_id>/", ("GET",)),
    "edit": ("/packets/<int:packet_id>/edit", ("GET", "POST")),
    "delete": ("/packets/<int:packet_id>/delete", ("POST",)),
    "members": ("/members/", ("GET",)),
    "person": ("/members/<int:member_id>/", ("GET",)),
    "role": ("/members/<int:member_id>/role", ("POST",)),
    "ledger": ("/ledger", ("GET",)),
    "export": ("/ledger/export", ("GET",)),
    "reindex": ("/tools/reindex", ("GET", "POST", "DELETE")),
    "api": ("/api/packets/<int:packet_id>", ("GET", "PATCH")),
}


def person():
    return PEOPLE.get(flask.session.get("who", ""))


def checked(what, view):
    holes = planted()

    @wraps(view)
    def guarded(**values):
        number = next(iter(values.values()), None)
        said = checks(person(), what, flask.request.method, number, holes)
        if what == "delete" and "deletes-first" in holes:
            act(what, "POST", number, {}, None)
        if said == "sign-in" and what == "api":
            flask.abort(401)
        if said == "sign-in":
            return flask.redirect(f"/sign-in?next={flask.request.path}", 303)
        if said == "no":
            flask.abort(403)
        return view(**values)

    return guarded


def page(text):
    token = flask.session.setdefault("token", secrets.token_hex(8))
    return f'<h1>{text}</h1><form method="post"><input type="hidden" name="form_csrf" value="{token}"></form>'


def view_of(what):
    def view(**values):
        number = next(iter(values.values()), None)
        who = person() or (None, "")
        if what == "packets":
            return page(", ".join(shown(*who, planted())))
        if what in ("packet", "api") and flask.request.method == "GET":
            with Store() as store:
                found = store.one("select species from packet where id = ?", number)
            return page(found[0]) if found else flask.abort(404)
        if flask.request.method in ("POST", "PATCH", "DELETE"):
            act(
                what,
                flask.request.method,
                number,
                flask.request.get_json() if flask.request.is_json else flask.request.form,
                who[0],
            )
            return {"done": True} if what in ("api", "reindex") else flask.redirect("/packets/", 303)
        return page(f"{what} {number}" if number else what)

    view.__name__ = what
    return view


def sign_in():
    if flask.request.method == "GET":
        return page("sign in").replace("</form>", '<input name="name"><input type="password" name="password"></form>')
    name = flask.request.form["name"]
    if name not in PEOPLE or flask.request.form["password"] != os.environ["SWAP_PASSWORD"]:
        return flask.redirect("/sign-in", 303)
    flask.session["who"] = name
    return flask.redirect(flask.request.args.get("next", "/desk"), 303)


def sign_out():
    flask.session.clear()
    return flask.redirect("/", 303)


def make(kind="bare"):
    app = flask.Flask("swap", static_folder=None)
    app.secret_key = "a made-up key for tests"

    @app.before_request
    def forged():
        api = flask.request.path.startswith("/api/") and "x-csrf-token" not in flask.request.headers
        sent = flask.request.headers.get("x-csrf-token") or flask.request.form.get("form_csrf")
        if flask.request.method not in ("GET", "HEAD", "OPTIONS") and (api or sent != flask.session.get("token", "-")):
            return "The CSRF token is missing.", 400
        return None

    for what, (rule, methods) in ROUTES.items():
        view = {"sign_in": sign_in, "sign_out": sign_out}.get(what) or view_of(what)
        app.add_url_rule(rule, what, view if kind == "protected" else checked(what, view), methods=methods)
    if "not-declared" in planted():
        app.add_url_rule("/debug", "debug", view_of("debug"))
    if kind == "protected":
        enforced.protect(app, parse(POLICY), identify=identify, records={"packet_id": packet})
    return app


def identify(request):
    found = person()
    return Caller(found[0], [found[1]]) if found else None


def packet(number):
    with Store() as store:
        found = store.one("select owner, status from packet where id = ?", number)
    return {"owner": found[0], "status": found[1]} if found else None


def protected():
    return make("protected")
