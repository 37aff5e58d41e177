"""The seed swap with Django."""

import json
import os
from functools import wraps

import django
from django.conf import settings
from django.http import Http404, HttpResponse, HttpResponseForbidden, HttpResponseRedirect, JsonResponse
from django.middleware.csrf import get_token
from django.urls import path
from django.views import View
from django.views.decorators.http import require_http_methods

from bloodroot import Caller, parse

from . import PEOPLE, POLICY, Store, act, checks, database, planted, shown

PROTECTED = os.environ.get("SWAP_KIND") == "protected"


def person(request):
    return PEOPLE.get(request.session.get("who", ""))


def checked(what, view):
    holes = planted()

    @wraps(view)
    def guarded(request, **values):
        said = checks(person(request), what, request.method, next(iter(values.values()), None), holes)
        if what == "delete" and "deletes-first" in holes:
            act(what, "POST", next(iter(values.values())), {}, None)
        if said == "sign-in":
            return HttpResponse(status=401) if what == "api" else HttpResponseRedirect(f"/sign-in/?next={request.path}")
        return HttpResponseForbidden() if said == "no" else view(request, **values)

    return guarded


def page(request, text):
    return HttpResponse(
        f'<h1>{text}</h1><form method="post"><input type="hidden" name="csrfmiddlewaretoken" value="{get_token(request)}"></form>'
    )


def answer(what, request, **values):
    number = next(iter(values.values()), None)
    who = person(request) or (None, "")
    if what == "packets":
        return page(request, ", ".join(shown(*who, planted())))
    if what in ("packet", "api") and request.method == "GET":
        with Store() as store:
            found = store.one("select species from packet where id = ?", number)
        if not found:
            raise Http404
        return page(request, found[0])
    if request.method in ("POST", "PATCH", "DELETE"):
        sent = json.loads(request.body) if request.content_type == "application/json" else request.POST.dict()
        act(what, request.method, number, sent, who[0])
        return JsonResponse({"done": True}) if what in ("api", "reindex") else HttpResponseRedirect("/packets/")
    return page(request, f"{what} {number}" if number else what)


def view_of(what, *methods):
    @require_http_methods(methods)
    def view(request, **values):
        return answer(what, request, **values)

    view.__name__ = what
    return view if PROTECTED else checked(what, view)


class Edit(View):
    """A class-based view, as many are."""

    def dispatch(self, request, **values):
        if PROTECTED:
            return super().dispatch(request, **values)
        return checked("edit", super().dispatch)(request, **values)

    def get(self, request, packet_id):
        return answer("edit", request, packet_id=packet_id)

    def post(self, request, packet_id):
        return answer("edit", request, packet_id=packet_id)


def sign_in(request):
    if request.method == "GET":
        form = page(request, "sign in").content.decode()
        return HttpResponse(
            form.replace("</form>", '<input name="name"><input type="password" name="password"></form>')
        )
    name = request.POST["name"]
    if name not in PEOPLE or request.POST["password"] != os.environ["SWAP_PASSWORD"]:
        return sign_in_again(request)
    request.session["who"] = name
    return HttpResponseRedirect(request.GET.get("next", "/desk/"))


def sign_in_again(request):
    return HttpResponse('<form method="post"><input type="password" name="password">wrong</form>')


def sign_out(request):
    request.session.flush()
    return HttpResponseRedirect("/")


def identify(request):
    found = person(request)
    return Caller(found[0], [found[1]]) if found else None


def packet(number):
    with Store() as store:
        found = store.one("select owner, status from packet where id = ?", number)
    return {"owner": found[0], "status": found[1]} if found else None


class Connection:
    """Django's own connection, by which the data can be rolled back."""

    def execute(self, sql, values):
        from django.db import connection

        cursor = connection.cursor()
        cursor.execute(sql.replace("?", "%s"), values)
        return cursor

    def close(self): ...


settings.configure(
    SECRET_KEY="a made-up key for tests",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF=__name__,
    SESSION_ENGINE="django.contrib.sessions.backends.signed_cookies",
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": str(database())}},
    MIDDLEWARE=[
        "django.middleware.common.CommonMiddleware",
        "django.contrib.sessions.middleware.SessionMiddleware",
        "django.middleware.csrf.CsrfViewMiddleware",
        *(["bloodroot.enforce.django.AccessMiddleware"] if PROTECTED else []),
    ],
    BLOODROOT={"policy": parse(POLICY), "identify": identify, "records": {"packet_id": packet}},
)
django.setup(set_prefix=False)
if os.environ.get("SWAP_CONNECTION") == "django":
    from . import __name__ as swap

    vars(__import__("sys").modules[swap])["connection"] = Connection

urlpatterns = [
    path("", view_of("home", "GET"), name="home"),
    path("sign-in/", require_http_methods(["GET", "POST"])(sign_in)),
    path("sign-out/", require_http_methods(["POST"])(sign_out if PROTECTED else checked("sign_out", sign_out))),
    path("desk/", view_of("desk", "GET")),
    path("packets/", view_of("packets", "GET")),
    path("packets/new/", view_of("new", "GET", "POST")),
    path("packets/<int:packet_id>/", view_of("packet", "GET")),
    path("packets/<int:packet_id>/edit/", Edit.as_view()),
    path("packets/<int:packet_id>/delete/", view_of("delete", "POST")),
    path("members/", view_of("members", "GET")),
    path("members/<int:member_id>/", view_of("person", "GET")),
    path("members/<int:member_id>/role/", view_of("role", "POST")),
    path("ledger/", view_of("ledger", "GET")),
    path("ledger/export/", view_of("export", "GET")),
    path("tools/reindex/", view_of("reindex", "GET", "POST", "DELETE")),
    path("api/packets/<int:packet_id>", view_of("api", "GET", "PATCH")),
    *([path("debug/", view_of("debug", "GET"))] if "not-declared" in planted() else []),
]


def make():
    from django.core.wsgi import get_wsgi_application

    return get_wsgi_application()
