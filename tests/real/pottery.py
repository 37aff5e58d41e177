"""A large Django project behind a policy: pages, a REST API and a typed API; sound, and with fifteen planted holes.

    .venv/bin/python -m tests.real.pottery

Each thing has pages, a view set with an action of its own, and two typed operations. The survey, the checks and the probe
are to end with 0 where it is sound, and the probe is to find every hole where it is not.
"""

import re
import subprocess
import sys
import unittest
from pathlib import Path

from tests.real.planted import DATA, Planted, written

POLICY, POLICY_OF_EACH, SETTINGS, MODELS, VIEWS, VIEWS_OF_EACH = (
    (DATA / "pottery" / name).read_text("utf-8")
    for name in ("access.bloodroot", "each.bloodroot", "bloodroot.toml", "models.txt", "views.txt", "each_view.txt")
)
THINGS = ("studio", "kiln", "piece", "glaze", "clay", "shelf", "firing", "course", "booking", "tool", "recipe", "order")
ROUTES_OF_EACH = 13

# Where each hole is, and what is written in the place of what: in the views, or in the policy that is enforced.
IN_VIEWS = {
    "GET /studios": (
        '"; ".join(row.name for row in shown(models.Studio, "studio"))',
        '"; ".join(row.name for row in models.Studio.objects.all())',
    ),
    "GET /api/bookings": (
        'shown(models.Booking, "booking") if self.action == "list" else super().get_queryset()',
        "super().get_queryset()",
    ),
    "GET /typed/booking/{booking_id}": (
        'def get_booking(request, booking_id: int):\n    return {"name": current().record.name}',
        'def get_booking(request, booking_id: int):\n    return {"names": [row.name for row in models.Booking.objects.all()]}',
    ),
    "GET /orders/{pk}": (
        "get_object_or_404(models.Order, pk=pk).name",
        'f"{get_object_or_404(models.Order, pk=pk).name}, like {models.Order.objects.exclude(pk=pk).get().name}"',
    ),
}
IN_POLICY = {
    place: (f"{line}  {before}", f"{line}  {after}")
    for place, line, before, after in (
        ("GET /api/glazes/{pk}", "action  glaze.retrieve", "glaze:read", "member"),
        ("POST /shelfs/{pk}/edit", "action  shelf-edit", "shelf:edit", "member"),
        ("DELETE /api/tools/{pk}", "action  tool.destroy", "tool:edit", "member"),
        ("PUT /typed/clay/{clay_id}", "action  typed.cost_of_clay", "clay:cost", "member"),
        ("POST /api/recipes/{pk}/archive", "action  recipe.archive", "recipe:edit", "recipe:list"),
        ("POST /api/kilns/{pk}/archive", "action  kiln.archive", "kiln:edit", "kiln:list"),
        ("GET /api", "GET  /api", "member", "anyone"),
    )
}
EXPECTED = {
    *(*IN_VIEWS, *IN_POLICY),
    *("GET /recipes/{pk}", "GET /firings/{pk}", "GET /courses/{pk}", "GET /courses"),
}


def project(folder: Path, *, faulty: bool) -> None:
    """Write the project into a folder."""
    models = MODELS + "".join(f"\n\nclass {thing.title()}(Owned): ...\n" for thing in THINGS)
    models += f"\n\nALL = {{{', '.join(f'{thing!r}: {thing.title()}' for thing in THINGS)}}}\n"
    views = VIEWS + "".join(written(VIEWS_OF_EACH, thing) for thing in THINGS)
    policy = POLICY + "".join("\n" + written(POLICY_OF_EACH, thing) for thing in THINGS)
    policy = re.sub(r"(?<=\S)   +", "  ", policy)
    samples, bodies, paths, records, registered = [], [], [], [], []
    for thing in THINGS:
        samples += [f"{thing}_id = 1"]
        paths += [
            f'path("{thing}s/", views.{thing}_list), path("{thing}s/<int:pk>/", views.{thing}_page, name="{thing}_page")',
            f'path("{thing}s/<int:pk>/edit/", views.{thing.title()}Edit.as_view(), name="{thing}-edit")',
        ]
        registered.append(f'router.register("{thing}s", views.{thing.title()}Views, basename="{thing}")')
        kind = f"pottery.models.{thing.title()}"
        records += [f'"{thing}": "{kind}", ("{thing}-edit", "pk"): "{kind}", "{thing}_id": "{kind}"']
        loader = "pottery.wrong.first_firing" if faulty and thing == "firing" else kind
        records.append(f'("{thing}_page", "pk"): "{loader}"')
        for method, path in (
            ("POST", f"/api/{thing}s"),
            ("PUT", f"/api/{thing}s/{{pk}}"),
            ("PATCH", f"/api/{thing}s/{{pk}}"),
        ):
            bodies.append(f'"{method} {path}" = {{ json = {{ name = "Made" }} }}')
        bodies += [
            f'"POST /{thing}s/{{pk}}/edit" = {{ form = {{ name = "Renamed" }} }}',
            f'"PUT /typed/{thing}/{{{thing}_id}}" = {{ json = {{ cost = 12 }} }}',
        ]
    enforced, before, report = policy, "", "False"
    if faulty:
        for one, other in IN_VIEWS.values():
            assert views.count(one) == 1, one
            views = views.replace(one, other)
        for one, other in IN_POLICY.values():
            assert enforced.count(one) == 1, one
            enforced = enforced.replace(one, other)
        # One serializer shows whatever there is.
        views = views.replace("class BookingSerializer(AccessFields, ", "class BookingSerializer(")
        before, report = '"pottery.front.in_front",', '["/courses/**"]'
    ids = ", ".join(f'{thing}_id = "{{persona.NAME}}"' for thing in THINGS)
    settings = SETTINGS + "pk = 1\n" + "\n".join(samples) + "\n\n[samples.own]\n"
    settings += f'holds = {{ pk = "{{persona.mine}}", {ids.replace("NAME", "mine")} }}\n'
    settings += (
        f'fails = {{ pk = "{{persona.other}}", {ids.replace("NAME", "other")}, mark = "{{persona.of_other}}" }}\n'
    )
    settings += "\n[bodies]\n" + "\n".join(bodies) + '\n\n[probe]\nreset = "pottery.views:reset"\n'
    settings += 'state = "pottery.views:state"\n\n[probe.sign_in]\nhow = "form"\npath = "/sign-in/"\n'
    settings += 'fields = { username = "{persona.name}", password = "made up" }\n'
    document = (Path(__file__).parents[2] / "docs" / "django.md").read_text("utf-8")
    files = dict(re.findall(r"[Ii]n `([\w./]+)`:\n\n```\w*\n(.*?)```", document, re.S))
    django = files["pottery/settings.py"].replace(
        '    "bloodroot.enforce.django.Acc', f'    {before}"bloodroot.enforce.django.Acc'
    )
    django = re.sub(
        r'"records": \{.*?\n    \},\n',
        f'"records": {{{", ".join(records)}}},\n    "report_only": {report},\n',
        django,
        flags=re.S,
    )
    django = django.replace('"access.bloodroot"', '"enforced.bloodroot"')
    urls = "from django.contrib.auth.views import LoginView\nfrom django.urls import include, path\n"
    urls += "from rest_framework.routers import DefaultRouter\n\nfrom . import views\n\nrouter = DefaultRouter()\n"
    urls += "\n".join(registered) + "\nurlpatterns = [\n    " + ",\n    ".join(paths) + ",\n"
    urls += '    path("sign-in/", LoginView.as_view(template_name="sign_in.html", next_page="/api/")),\n'
    urls += '    path("api/", include(router.urls)), path("typed/", views.jars.urls),\n]\n'
    made = {
        "pottery/models.py": models,
        "pottery/views.py": views,
        "pottery/urls.py": urls,
        "pottery/settings.py": django,
        "pottery/front.py": (DATA / "pottery" / "front.txt").read_text("utf-8"),
        "pottery/wrong.py": (DATA / "pottery" / "wrong.txt").read_text("utf-8"),
        "access.bloodroot": policy,
        "enforced.bloodroot": enforced,
        "bloodroot.toml": settings,
        **{name: files[name] for name in ("pottery/wsgi.py", "templates/edit.html", "templates/sign_in.html")},
    }
    for name, text in made.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text, "utf-8")


def made(folder: Path, *, faulty: bool) -> None:
    """The project, with its tables."""
    project(folder, faulty=faulty)
    words = ("-m", "django", "migrate", "--run-syncdb", "--settings", "pottery.settings")
    subprocess.run([sys.executable, *words], cwd=folder, check=True, capture_output=True, timeout=120)


class Pottery(Planted):
    def test_sound_and_faulty(self) -> None:
        self.see(made, EXPECTED, f"{len(THINGS) * ROUTES_OF_EACH + 4} endpoints")


if __name__ == "__main__":
    unittest.main()
