import os, json
import django
from django.conf import settings
settings.configure(DEBUG=False, SECRET_KEY="x", ROOT_URLCONF="place", ALLOWED_HOSTS=["*"], SESSION_ENGINE="django.contrib.sessions.backends.signed_cookies",
  MIDDLEWARE=["django.contrib.sessions.middleware.SessionMiddleware", "django.middleware.common.CommonMiddleware", "django.middleware.http.ConditionalGetMiddleware"])
django.setup()
from django.http import JsonResponse, HttpResponse, HttpResponseRedirect
from django.urls import path
from django.views import View
HOLES = set(os.environ.get("STUDIO_HOLES", "").split(","))
PEOPLE = {"ash": (1, "collector"), "wren": (2, "collector"), "hazel": (3, "curator")}
DATA = {}
def reset():
    DATA.clear()
    DATA.update(accessions={100: {"collector": 1, "species": "Fern sedge"}, 200: {"collector": 2, "species": "Tarn reed"}, 300: {"collector": 3, "species": "Moss grass"}},
       notes={101: {"accession": 100, "text": "note on Fern sedge"}, 201: {"accession": 200, "text": "note on Tarn reed"}, 301: {"accession": 300, "text": "n"}},
       collectors={1: {"name": "Ola", "salary": 30}, 2: {"name": "Per", "salary": 48123}, 3: {"name": "Siv", "salary": 7}})
reset()
def state(): return json.dumps(DATA)
def me(r): return PEOPLE.get(r.session.get("who"), (None, None))
def err(status): return JsonResponse({"errors": [{"status": str(status), "species": "refused"}]}, status=status)
def sign(request):
    if request.method == "GET": return HttpResponse('<form method="post"><input name="who"></form>')
    if request.POST.get("who") not in PEOPLE: return HttpResponse("no", status=400)
    request.session["who"] = request.POST["who"]
    return HttpResponseRedirect("/accessions")
def may(r, b): n, role = me(r); return role == "curator" or (b and b["collector"] == n)
class Api(View):
    role = "collector"
    def dispatch(self, request, *a, **k):
        if me(request)[0] is None and not getattr(self, "open", False): return err(401)
        return super().dispatch(request, *a, **k)
def show(k, b, request):
    d = {"type": "accessions", "id": str(k), "attributes": {"species": b["species"]}}
    inc = []
    if "collector" in request.GET.get("include", "") and "include" in HOLES: inc = [DATA["collectors"][b["collector"]]]
    elif "collector" in request.GET.get("include", ""): inc = [{"name": DATA["collectors"][b["collector"]]["name"]}]
    if "notes" in request.GET.get("include", "") and "include-notes" in HOLES: inc = list(DATA["notes"].values())
    return {"data": d, "included": inc}
class Accessions(Api):
    def get(self, request):
        found = [show(k, b, request) for k, b in DATA["accessions"].items() if may(request, b) or "filter" in HOLES and "filter[species]" in request.GET or "list" in HOLES]
        return JsonResponse({"data": found})
    def post(self, request):
        n, role = me(request)
        a = json.loads(request.body)["data"]
        DATA["accessions"][900] = {"collector": n, "species": a["attributes"]["species"]}
        return JsonResponse({"data": {"id": "900"}}, status=201)
class Accession(Api):
    def get(self, request, accession):
        b = DATA["accessions"].get(accession)
        if not may(request, b) and "get" not in HOLES: return err(403)
        return JsonResponse(show(accession, b, request))
    def patch(self, request, accession):
        data = json.loads(request.body)["data"]
        b = DATA["accessions"].get(accession)
        if not may(request, b): return err(403)
        if str(data["id"]) != str(accession):
            if "body-id" in HOLES: b = DATA["accessions"][int(data["id"])]
            else: return err(409)
        b["species"] = data["attributes"]["species"]
        return JsonResponse({"data": {"id": str(accession)}})
    def delete(self, request, accession):
        b = DATA["accessions"].get(accession)
        if "delete" in HOLES:
            if not may(request, b): return err(403)
        elif me(request)[1] != "curator": return err(403)
        if accession in DATA["accessions"]: del DATA["accessions"][accession]
        return HttpResponse(status=204)
class Rel(Api):
    def get(self, request, accession):
        b = DATA["accessions"].get(accession)
        if not may(request, b) and "rel-get" not in HOLES: return err(403)
        return JsonResponse({"data": {"type": "collectors", "id": str(b["collector"])}})
    def patch(self, request, accession):
        b = DATA["accessions"].get(accession)
        if me(request)[1] != "curator" and not ("rel" in HOLES and may(request, b)): return err(403)
        b["collector"] = int(json.loads(request.body)["data"]["id"])
        return HttpResponse(status=204)
class Notes(Api):
    def get(self, request, accession):
        b = DATA["accessions"].get(accession)
        if not may(request, b) and "notes" not in HOLES: return err(403)
        return JsonResponse({"data": [n for n in DATA["notes"].values() if n["accession"] == accession]})
class Note(Api):
    def get(self, request, accession, note):
        b = DATA["accessions"].get(accession); n = DATA["notes"].get(note)
        if not may(request, b): return err(403)
        if not n or (n["accession"] != accession and "note" not in HOLES): return err(404)
        return JsonResponse({"data": n})
class Collector(Api):
    def get(self, request, collector):
        w = DATA["collectors"].get(collector)
        if not w: return err(404)
        d = {"name": w["name"]}
        if me(request)[1] == "curator" or "salary" in HOLES: d["salary"] = w["salary"]
        return JsonResponse({"data": d})
urlpatterns = [path("sign-in", sign), path("accessions", Accessions.as_view()), path("accessions/<int:accession>", Accession.as_view()), path("accessions/<int:accession>/relationships/collector", Rel.as_view()),
  path("accessions/<int:accession>/notes", Notes.as_view()), path("accessions/<int:accession>/notes/<int:note>", Note.as_view()), path("collectors/<int:collector>", Collector.as_view())]
from django.core.wsgi import get_wsgi_application
app = get_wsgi_application()
