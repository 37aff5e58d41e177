"""A large FastAPI service behind a real identity provider: sound, or with fifteen planted holes.

    .venv/bin/python -m tests.real.readings

Its callers have tokens of the provider, which the probe asks for as each of them. The survey, the checks and the probe are
to end with 0 where it is sound, and the probe is to find every hole where it is not.
"""

import os
import re
import unittest
from pathlib import Path

from tests import provider
from tests.real.planted import DATA, Planted, exchanged, samples_of, with_models, write_all, written

READINGS = DATA / "readings"
THINGS = ("studio", "kiln", "piece", "glaze", "clay", "shelf", "firing", "course", "booking", "tool", "recipe", "order")
ROUTES_OF_EACH = 13

# Where each hole is, and what is written in the place of what.
IN_APP = {
    "GET /studios": (
        "        return [shown(record) for record in listed()]",
        "        if thing == 'studio':\n            return [record.name for record in all_of(model)]\n"
        "        return [shown(record) for record in listed()]",
    ),
    "GET /bookings/export": (
        "        return Response(",
        "        if thing == 'booking':\n            return [record.name for record in all_of(model)]\n"
        "        return Response(",
    ),
    "GET /orders/{order_id}/history": (
        '        return {"of": current().record.name, "changes": []}',
        '        others = [each.name for each in all_of(model)] if thing == "order" else []\n'
        '        return {"of": current().record.name, "changes": others}',
    ),
    "WEBSOCKET /tools/{tool_id}/live": (
        "        await socket.send_text(current().record.name)",
        "        names = [record.name for record in all_of(model)]\n"
        '        await socket.send_text(str(names) if thing == "tool" else current().record.name)',
    ),
}
IN_POLICY = {
    place: (f"  {place}  {before}", f"  {place}  {after}")
    for place, before, after in (
        ("GET /glazes/{glaze_id}", "glaze:read", "glaze:list"),
        ("PUT /shelfs/{shelf_id}", "shelf:edit", "member"),
        ("POST /kilns/{kiln_id}/notes", "kiln:edit", "kiln:list"),
        ("DELETE /pieces/{piece_id}", "piece:edit", "member"),
        ("POST /recipes/{recipe_id}/archive", "recipe:edit", "signed-in"),
        ("PUT /clays/{clay_id}/cost", "clay:cost", "clay:edit"),
        ("WEBSOCKET /courses/{course_id}/live", "course:read", "course:list"),
        ("GET /me", "member", "signed-in"),
    )
}
HOLES = """
records["firing_id"] = lambda text: all_of(ALL["firing"])[0]


@app.middleware("http")
async def in_front(request, call_next):
    if request.url.path == "/kilns/2/notes":
        return Response(all_of(ALL["kiln"])[1].note)
    return await call_next(request)
"""
EXPECTED = {
    *(*IN_APP, *IN_POLICY),
    *("GET /firings/{firing_id}", "GET /kilns/{kiln_id}/notes", "GET /clays/{clay_id}/history"),
}
assert len(EXPECTED) == 15
ISSUER = ""


def project(folder: Path, *, faulty: bool) -> None:
    """Write the project into a folder."""
    app, policy, each, settings = (
        (READINGS / name).read_text("utf-8")
        for name in ("app.txt", "access.bloodroot", "each.bloodroot", "bloodroot.toml")
    )
    policy += "".join("\n" + written(each, thing) for thing in THINGS)
    # One blank after the method and two after the path, so that lines can be exchanged.
    policy = re.sub(r"(?m)^  (GET|PUT|POST|PATCH|DELETE|WEBSOCKET) +(\S+) +", r"  \1 \2  ", policy)
    app = with_models(app, THINGS)
    report, enforced = "False", policy
    if faulty:
        app = exchanged(app, IN_APP.values())
        enforced = exchanged(enforced, ((f"{one}\n", f"{other}\n") for one, other in IN_POLICY.values()))
        app, report = app.replace("# HOLES", HOLES), '["/clays/*/history"]'
    settings = settings.replace("ISSUER", ISSUER) + samples_of(THINGS)
    for thing in THINGS:
        one = f"/{thing}s/{{{thing}_id}}"
        for place in (f"POST /{thing}s", f"PUT {one}", f"PATCH {one}", f"POST {one}/notes"):
            settings += f'"{place}" = {{ json = {{ name = "Made" }} }}\n'
        settings += f'"PUT {one}/cost" = {{ json = {{ cost = 12 }} }}\n'
    made = {"readings.py": app.replace("REPORT", report), "access.bloodroot": policy, "bloodroot.toml": settings}
    made["enforced.bloodroot"] = enforced
    write_all(folder, made)


class Readings(Planted):
    def test_sound_and_faulty(self) -> None:
        global ISSUER
        os.environ["DESK_SECRET"] = provider.SECRET
        with provider.running() as there:
            ISSUER = there.issuer
            self.see(project, EXPECTED, f"{len(THINGS) * ROUTES_OF_EACH + 3} endpoints")


if __name__ == "__main__":
    unittest.main()
