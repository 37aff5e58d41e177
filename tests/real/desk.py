"""A large Flask service behind a policy: forms with tokens against forged requests, and support staff who act for members.

    .venv/bin/python -m tests.real.desk

It is sound, or has fifteen planted holes. The survey, the checks and the probe are to end with 0 where it is sound, and the
probe is to find every hole where it is not.
"""

import re
import unittest
from pathlib import Path

from tests.real.planted import DATA, Planted, exchanged, samples_of, with_models, write_all, written

DESK = DATA / "desk"
THINGS = ("studio", "kiln", "piece", "glaze", "clay", "shelf", "firing", "course", "booking", "tool", "recipe", "order")
ROUTES_OF_EACH = 13

# Where each hole is, and what is written in the place of what.
IN_APP = {
    "GET /studios": (
        '        return page(thing, "; ".join(record.name for record in listed()))',
        '        return page(thing, "; ".join(record.name for record in (all_of(model) if thing == "studio" else listed())))',
    ),
    "GET /api/bookings": (
        "        return [as_data(record) for record in listed()]",
        "        if thing == 'booking':\n            return [each.name for each in all_of(model)]\n"
        "        return [as_data(record) for record in listed()]",
    ),
    "GET /orders/{order_id}": (
        "        return page(thing, current().record.name)",
        '        return page(thing, "; ".join(each.name for each in all_of(model)) if thing == "order" else'
        " current().record.name)",
    ),
    # Links that lead nowhere else are written with what they lead to.
    "GET /tools/{tool_id}/edit": (
        '        return page(thing, action=request.path, name="text")',
        '        note = "; ".join(each.name for each in all_of(model)) if thing == "tool" else ""\n'
        '        return page(thing, note, request.path, name="text")',
    ),
}
IN_POLICY = {
    place: (f"{actions}  {before}", after if "action" in after else f"{actions}  {after}")
    for place, actions, before, after in (
        ("GET /api/glazes/{glaze_id}", "action  glaze.shown, glaze.api_one", "glaze:read", "glaze:list"),
        (
            "POST /shelfs/{shelf_id}/edit",
            "action  shelf.edit_form, shelf.edit, shelf.api_edit",
            "shelf:edit",
            "action  shelf.edit_form, shelf.api_edit  shelf:edit\n  action  shelf.edit  shelf:list",
        ),
        ("DELETE /api/recipes/{recipe_id}", "action  recipe.remove, recipe.api_remove", "recipe:edit", "recipe:list"),
        ("POST /kilns/{kiln_id}/give", "action  kiln.give", "kiln:give", "kiln:edit"),
        ("GET /clays/{clay_id}/notes", "action  clay.notes", "clay:notes", "clay:read"),
        ("POST /password", "action  password, change_password", "pass:change", "member"),
        ("POST /support/act-for/{member_id}", "action  act_for", "desk:open if oneself", "member"),
    )
}
IN_FRONT = """
@app.before_request
def in_front():
    # It decides by itself, before the policy is asked.
    if request.path == "/pieces/2/give" and request.method == "POST":
        things = ALL["piece"]
        with Session(engine) as db:
            db.get(things, 2).owner_id = 1
            db.commit()
    if request.path == "/courses/2/notes":
        with Session(engine) as db:
            return db.get(ALL["course"], 2).note


@app.after_request
def behind(response):
    if request.path == "/firings/new":
        response.headers["X-Newest"] = all_of(ALL["firing"])[-1].name
    return response


records["recipe_id"] = lambda text: all_of(ALL["recipe"])[0]


def all_of(model):
    with Session(engine) as db:
        return list(db.scalars(select(model).order_by(model.id)))
"""
EXPECTED = {
    *(*IN_APP, *IN_POLICY),
    *("POST /pieces/{piece_id}/give", "GET /firings/new", "GET /recipes/{recipe_id}", "GET /api/studios/{studio_id}"),
}
assert len(EXPECTED) == 15


def project(folder: Path, *, faulty: bool, things: tuple[str, ...] = THINGS) -> None:
    """Write the project into a folder."""
    app, policy, each, settings = (
        (DESK / name).read_text("utf-8") for name in ("app.txt", "access.bloodroot", "each.bloodroot", "bloodroot.toml")
    )
    policy += "".join("\n" + written(each, thing) for thing in things)
    policy = re.sub(r"(?<=\S)   +", "  ", policy)
    app = with_models(app, things)
    report, enforced = "False", policy
    if faulty:
        app = exchanged(app, IN_APP.values())
        enforced = exchanged(enforced, ((f"{one}\n", f"{other}\n") for one, other in IN_POLICY.values()))
        app, report = app.replace("# HOLES", IN_FRONT), '["/api/studios/*"]'
    settings += samples_of(things)
    settings += '"POST /password" = { form = { new = "made up too" } }\n'
    settings += '"POST /support/act-for/{member_id}" = { form = {} }\n"POST /support/stop" = { form = {} }\n'
    settings += '"POST /sign-out" = { form = {} }\n'
    for thing in things:
        one = f"{thing}s/{{{thing}_id}}"
        settings += f'"POST /{thing}s" = {{ form = {{ name = "Made" }} }}\n'
        settings += f'"POST /{one}/edit" = {{ form = {{ name = "Renamed" }} }}\n'
        settings += f'"POST /{one}/remove" = {{ form = {{}} }}\n"POST /{one}/give" = {{ form = {{ to = "3" }} }}\n'
        settings += f'"PUT /api/{one}" = {{ json = {{ name = "Renamed" }} }}\n'
    made = {"desk.py": app.replace("REPORT", report), "access.bloodroot": policy, "bloodroot.toml": settings}
    made["enforced.bloodroot"] = enforced
    made["static/desk.css"] = "h1 { color: teal }\n"
    write_all(folder, made)


class Desk(Planted):
    def test_sound_and_faulty(self) -> None:
        self.see(project, EXPECTED, f"{len(THINGS) * ROUTES_OF_EACH + 10} endpoints")


if __name__ == "__main__":
    unittest.main()
