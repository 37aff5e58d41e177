"""A large Django project behind a policy: pages, a REST API and a typed API; sound, and with fifteen planted holes.

    .venv/bin/python -m tests.real.pottery

Each thing has pages, a view set with an action of its own, and two typed operations. The survey, the checks and the probe
are to end with 0 where it is sound, and the probe is to find every hole where it is not.
"""

import json
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "bloodroot"
THINGS = ("studio", "kiln", "piece", "glaze", "clay", "shelf", "firing", "course", "booking", "tool", "recipe", "order")
ROUTES_OF_EACH = 13

MODELS = """
from django.conf import settings
from django.db import models


class Owned(models.Model):
    name = models.CharField(max_length=50)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    cost = models.IntegerField(default=0)

    class Meta:
        abstract = True
"""
VIEWS = """
from django.contrib.auth.models import Group, User
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_safe
from django.views.generic import UpdateView
from ninja import NinjaAPI, Schema
from rest_framework import serializers, viewsets
from rest_framework.decorators import action
from rest_framework.response import Response

from bloodroot.enforce import current
from bloodroot.enforce.django_rest import AccessFields
from bloodroot.enforce.django_rows import rows

from . import models

jars = NinjaAPI(urls_namespace="typed", docs_url=None, openapi_url=None)


class Cost(Schema):
    cost: int


def shown(model, thing):
    access = current()
    return model.objects.filter(rows(access.policy, access.caller, f"{thing}:read", model)).order_by("pk")


def reset():
    for model in (*models.ALL.values(), User, Group):
        model.objects.all().delete()
    groups = {name: Group.objects.create(name=name) for name in ("members", "keepers")}
    for name, number, group in (("ash", 1, "members"), ("fern", 2, "members"), ("hazel", 3, "keepers")):
        user = User.objects.create(pk=number, username=name)
        user.set_password("made up")
        user.save()
        user.groups.add(groups[group])
    for thing, model in models.ALL.items():
        model.objects.create(pk=1, name=f"First {thing} of ash", owner_id=1, cost=7)
        model.objects.create(pk=2, name=f"Second {thing} of fern", owner_id=2, cost=9)


def state():
    return [list(model.objects.order_by("pk").values_list()) for model in models.ALL.values()]
"""
VIEWS_OF_EACH = """

@require_safe
def THING_list(request):
    return HttpResponse("; ".join(row.name for row in shown(models.Kind, "THING")))


@require_safe
def THING_page(request, pk):
    return HttpResponse(get_object_or_404(models.Kind, pk=pk).name)


class KindEdit(UpdateView):
    model = models.Kind
    fields = ("name",)
    template_name = "edit.html"
    success_url = "/THINGs/"


class KindSerializer(AccessFields, serializers.ModelSerializer):
    access_kind = "THING"
    access_names = {"owner": "owner_id"}

    def new_record(self, values):
        return {**values, "owner_id": current().caller.id}

    class Meta:
        model = models.Kind
        fields = ("id", "name", "owner", "cost")
        read_only_fields = ("owner",)


class KindViews(viewsets.ModelViewSet):
    queryset = models.Kind.objects.all()
    serializer_class = KindSerializer

    def get_queryset(self):
        return shown(models.Kind, "THING") if self.action == "list" else super().get_queryset()

    def perform_create(self, serializer):
        serializer.save(owner_id=current().caller.id)

    @action(detail=True, methods=["post"])
    def archive(self, request, pk=None, format=None):
        models.Kind.objects.filter(pk=pk).update(name="archived")
        return Response({"archived": pk})


@jars.get("/THING/{THING_id}")
def get_THING(request, THING_id: int):
    return {"name": current().record.name}


@jars.put("/THING/{THING_id}")
def cost_of_THING(request, THING_id: int, given: Cost):
    models.Kind.objects.filter(pk=THING_id).update(cost=given.cost)
    return {"cost": given.cost}
"""
POLICY_OF_EACH = """
permissions
  THING:list  member
  THING:read  member if own, keeper
  THING:add   member
  THING:edit  member if own, keeper
  THING:cost  keeper

endpoints
  GET     /THINGs                                              THING:list
  GET     /THINGs/{pk}                                         THING:read
  action  THING-edit                                           THING:edit
  action  THING.list                                           THING:list
  action  THING.create                                         THING:add
  action  THING.retrieve                                       THING:read
  action  THING.update, THING.partial_update, THING.destroy    THING:edit
  action  THING.archive                                        THING:edit
  action  typed.get_THING                                      THING:read
  action  typed.cost_of_THING                                  THING:cost

fields THING
  cost  read THING:read  change keeper
  *     read THING:read  change THING:edit
"""
POLICY = """
policy "Pottery"

roles
  member
  keeper  includes member

groups
  "members"  member
  "keepers"  keeper

conditions
  own  record.owner_id == caller.id

endpoints
  GET POST  /sign-in  anyone
  GET       /api      member
  any       /typed    nobody
"""
SETTINGS = """
policy = "access.bloodroot"
app = "pottery.wsgi:application"

[personas.visitor]
signed_in = false

[personas.ash]
groups = ["members"]
attributes = { id = 1 }
mine = 1
other = 2
of_other = "of fern"

[personas.fern]
groups = ["members"]
attributes = { id = 2 }
mine = 2
other = 1
of_other = "of ash"

[personas.hazel]
groups = ["keepers"]
attributes = { id = 3 }
mine = 1
other = 2
of_other = "of fern"

[samples]
"""
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
    "GET /api/glazes/{pk}": (
        "action  glaze.retrieve  glaze:read",
        "action  glaze.retrieve  member",
    ),
    "POST /shelfs/{pk}/edit": (
        "action  shelf-edit  shelf:edit",
        "action  shelf-edit  member",
    ),
    "DELETE /api/tools/{pk}": (
        "action  tool.update, tool.partial_update, tool.destroy  tool:edit",
        "action  tool.update, tool.partial_update  tool:edit\n  action  tool.destroy  member",
    ),
    "PUT /typed/clay/{clay_id}": (
        "action  typed.cost_of_clay  clay:cost",
        "action  typed.cost_of_clay  member",
    ),
    "POST /api/recipes/{pk}/archive": (
        "action  recipe.archive  recipe:edit",
        "action  recipe.archive  recipe:list",
    ),
    "POST /api/kilns/{pk}/archive": (
        "action  kiln.archive  kiln:edit",
        "action  kiln.archive  kiln:list",
    ),
    "GET /api": ("GET  /api  member", "GET  /api  anyone"),
}
# What a middleware before the policy answers by itself.
IN_FRONT = """
from django.http import HttpResponse
from pottery import models


def in_front(get_response):
    def answer(request):
        if request.path == "/recipes/2/":
            return HttpResponse(models.Recipe.objects.get(pk=2).name)
        return get_response(request)

    return answer
"""
WRONG_LOADER = """
from pottery import models


def first_firing(text):
    return models.Firing.objects.first()
"""
EXPECTED = {
    *(*IN_VIEWS, *IN_POLICY),
    *("GET /recipes/{pk}", "GET /firings/{pk}", "GET /courses/{pk}", "GET /courses"),
}


def written(text: str, thing: str) -> str:
    return text.replace("THING", thing).replace("Kind", thing.title())


def project(folder: Path, *, faulty: bool) -> None:
    """Write the project into a folder."""
    models = MODELS + "".join(f"\n\nclass {thing.title()}(Owned): ...\n" for thing in THINGS)
    models += f"\n\nALL = {{{', '.join(f'{thing!r}: {thing.title()}' for thing in THINGS)}}}\n"
    views = VIEWS + "".join(written(VIEWS_OF_EACH, thing) for thing in THINGS)
    policy = POLICY + "".join(written(POLICY_OF_EACH, thing) for thing in THINGS)
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
        "pottery/front.py": IN_FRONT,
        "pottery/wrong.py": WRONG_LOADER,
        "access.bloodroot": policy,
        "enforced.bloodroot": enforced,
        "bloodroot.toml": settings,
        **{name: files[name] for name in ("pottery/wsgi.py", "templates/edit.html", "templates/sign_in.html")},
    }
    for name, text in made.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text, "utf-8")


class Pottery(unittest.TestCase):
    def run_in(self, folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(list(words), cwd=folder, capture_output=True, text=True, timeout=900)

    def test_sound_and_faulty(self) -> None:
        for faulty in (False, True):
            with self.subTest(faulty=faulty), tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                project(folder, faulty=faulty)
                made = self.run_in(
                    folder, sys.executable, "-m", "django", "migrate", "--run-syncdb", "--settings", "pottery.settings"
                )
                self.assertEqual(made.returncode, 0, made.stderr[-2000:])
                if not faulty:
                    survey = self.run_in(folder, str(PROGRAM), "survey")
                    self.assertEqual(survey.returncode, 0, survey.stdout[-2000:] + survey.stderr[-2000:])
                    self.assertIn(f"{len(THINGS) * ROUTES_OF_EACH + 4} endpoints", survey.stdout.splitlines()[0])
                    check = self.run_in(folder, str(PROGRAM), "check")
                    self.assertEqual(check.returncode, 0, check.stdout[-3000:])
                probed = self.run_in(folder, str(PROGRAM), "probe", "--format", "json")
                result = json.loads(probed.stdout)
                holes = {
                    f"{each['method']} {each['template']}"
                    for each in result["observations"]
                    if each["verdict"] == "hole"
                }
                if faulty:
                    self.assertEqual(EXPECTED - holes, set(), "not found")
                    print(
                        f"{len(EXPECTED)} planted, {len(holes)} endpoints with holes: {sorted(holes - EXPECTED)} beside"
                    )
                else:
                    self.assertEqual((probed.returncode, holes, result["counts"]), (0, set(), result["counts"]))
                print(result["counts"])


if __name__ == "__main__":
    unittest.main()
