"""What docs/django.md builds does what it says, over real sockets, and what its pieces do beside it."""

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any, ClassVar

from tests.program import InFolder, alone

TEXT = (Path(__file__).parent.parent / "docs" / "django.md").read_text("utf-8")
# Run within the project: requests over a socket, and with sessions of Django's own client.
ASKING = """
import base64, http.client, json, os, threading
from wsgiref.simple_server import WSGIRequestHandler, make_server
os.environ["DJANGO_SETTINGS_MODULE"] = "pottery.settings"
from pottery.wsgi import application
from django.contrib.auth.models import User
from django.test import Client
from pottery import views

views.reset()
WSGIRequestHandler.log_message = lambda *words: None
server = make_server("127.0.0.1", 0, application)
threading.Thread(target=server.serve_forever, daemon=True).start()

def basic(name, word="made up"):
    return {"Authorization": "Basic " + base64.b64encode(f"{name}:{word}".encode()).decode()}

def sent(method, path, who=None, body=None, **headers):
    connection = http.client.HTTPConnection(*server.server_address, timeout=20)
    own = who if isinstance(who, dict) else basic(who) if who else {}
    data = json.dumps(body) if body is not None else None
    connection.request(method, path, data, {"Content-Type": "application/json", **own, **headers})
    response = connection.getresponse()
    kind = response.getheader("Content-Type", "").partition(";")[0]
    return [response.status, kind, response.getheader("WWW-Authenticate"), response.read().decode()]

def signed_in(name):
    client = Client(raise_request_exception=False)
    client.force_login(User.objects.get(username=name))
    return client

def page(client, path):
    response = client.get(path)
    return [response.status_code, " ".join(response.content.decode().split())]
"""


class Project(InFolder):
    runs = staticmethod(alone)
    database: ClassVar[bytes] = b""
    files: ClassVar[dict[str, str]] = dict(re.findall(r"[Ii]n `([\w./]+)`:\n\n```\w*\n(.*?)```", TEXT, re.S))

    def setUp(self) -> None:
        super().setUp()
        for name, text in self.files.items():
            (self.folder / name).parent.mkdir(exist_ok=True)
            (self.folder / name).write_text(text, "utf-8")
        if not Project.database:
            self.python("-m", "django", "migrate", "--run-syncdb", "--settings", "pottery.settings")
            Project.database = (self.folder / "pottery.sqlite").read_bytes()
        (self.folder / "pottery.sqlite").write_bytes(Project.database)

    def python(self, *words: str, status: int = 0) -> str:
        done = subprocess.run([sys.executable, *words], cwd=self.folder, capture_output=True, text=True, timeout=90)
        self.assertEqual(done.returncode, status, done.stderr[-3000:])
        return done.stdout + done.stderr

    def answers(self, program: str) -> Any:
        out = self.python("-c", f"{ASKING}\n{program}\nprint('answers', json.dumps(answers))")
        return json.loads(out.partition("answers ")[2].splitlines()[0])

    def changed(self, name: str, *changes: tuple[str, str]) -> None:
        text = self.files[name]
        for before, after in changes:
            self.assertEqual(text.count(before), 1, before)
            text = text.replace(before, after)
        (self.folder / name).write_text(text, "utf-8")


class Commands(Project):
    def test_what_the_document_runs(self) -> None:
        self.assertEqual(self.bloodroot("format", "--check").status, 0)
        commands = re.findall(r"^(bloodroot|python) (.*)$", TEXT, re.M)
        self.assertEqual([words.split()[0] for _, words in commands], ["survey", "check", "-m", "probe"])
        table = self.ran("survey")
        self.assertIn("16 endpoints of pottery.wsgi:application: 16 with a line, 0 without", table)
        self.assertNotIn("format", table)
        self.assertIn("No findings: 14 endpoint lines and 16 endpoints", self.ran("check"))
        self.assertIn("no issues", self.python(*commands[2][1].split()))
        self.assertIn("As declared: 0 holes, 0 blocked, 88 agree", self.ran("probe"))
        why = self.ran("why", "ash", "PATCH", "/api/pieces/2.json", "--record", '{"owner_id": 2}')
        self.assertIn("deny (own)", why)
        self.assertIn("action piece.update, piece.partial_update", why)
        by_path = re.sub(r"  action +piece\.(?!list).*\n|  action +(edit|jars).*\n", "", self.files["access.bloodroot"])
        by_path = by_path.replace("action    piece.list    ", "GET       /api/pieces")
        self.write("access.bloodroot", by_path.replace("any       /jars ", "any       /jars/**"))
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\napp = "pottery.wsgi:application"\n')
        self.assertIn("allow", self.ran("why", "member", "GET", "/api/pieces.json").splitlines()[0])

    def test_a_draft_is_taken_by_every_command(self) -> None:
        for name in ("access.bloodroot", "bloodroot.toml"):
            (self.folder / name).unlink()
        urls = (
            ("from django.urls", "from django.contrib import admin\nfrom django.urls"),
            ("urlpatterns = [", 'urlpatterns = [\n    path("admin/", admin.site.urls),'),
        )
        self.changed("pottery/urls.py", *urls)
        self.changed(
            "pottery/settings.py",
            ('    "bloodroot.enforce.django_checks.AccessChecks",\n', '    "django.contrib.admin",\n'),
            ('    "bloodroot.enforce.django.AccessMiddleware",\n', ""),
        )
        self.ran("draft", "pottery.wsgi:application", "--out", "access.bloodroot")
        text = (self.folder / "access.bloodroot").read_text("utf-8")
        self.assertNotIn("format", text)
        self.assertRegex(text, r"GET +/api +page:read")
        self.assertRegex(text, r"PATCH +/api/pieces/\{pk\} +piece:edit +\"piece.partial_update\"")
        self.assertRegex(text, r"any +/admin/auth/group/\*\* +admin-group:use")
        self.assertEqual(self.bloodroot("check").err, "")
        self.assertIn("0 without", self.ran("survey"))


BEARER = """from ninja.security import HttpBearer

class Bearer(HttpBearer):
    def authenticate(self, request, token):
        return User.objects.filter(username=token).first()
"""


class Answers(Project):
    def test_callers_of_an_api(self) -> None:
        found = self.answers("""
answers = [
    sent("GET", "/api/pieces/"), sent("GET", "/api/pieces/", basic("ash", "x")),
    sent("GET", "/api/pieces/", Accept="text/html"),
    sent("GET", "/api/pieces/", "ash"), sent("GET", "/api/pieces.json", "fern"), sent("HEAD", "/api/pieces/1/", "ash"),
    sent("GET", "/api/pieces/2/", "ash"), sent("GET", "/api/pieces/2.json", "ash"),
    sent("GET", "/api/pieces/none/", "ash"), sent("GET", "/api/pieces/77/", "ash"),
    sent("PATCH", "/api/pieces/1/", "ash", {"name": "Jug"}), sent("PATCH", "/api/pieces/1/", "ash", {"cost": 1}),
    sent("PUT", "/api/pieces/1.json", "ash", {"name": "Jug", "cost": 7}),
    sent("PUT", "/api/pieces/1/", "fern", {"name": "Jug"}), sent("POST", "/api/pieces/2.json", "ash", {}),
    sent("POST", "/api/pieces/2/glaze/", "ash", {}), sent("POST", "/api/pieces/2/glaze.json", "ash", {}),
    sent("POST", "/api/pieces/2/glaze/", "fern", {}), sent("GET", "/api/pieces/1/glaze/", "ash"),
    sent("OPTIONS", "/api/pieces/2/", "ash"), sent("SEARCH", "/api/pieces/", "hazel"),
    sent("POST", "/api/pieces/", "ash", {"name": "Cup"}), sent("DELETE", "/api/pieces/1/", "hazel"),
]
User.objects.filter(username="ash").update(is_active=False)
answers.append(sent("GET", "/api/pieces/", "ash"))
""")
        statuses = [status for status, *_ in found]
        self.assertEqual(
            statuses,
            [401, 401, 401, 200, 200, 200, 403, 403, 404, 404, 200, 403, 200, 403, 403]
            + [403, 403, 200, 403, 403, 403, 201, 204, 401],
        )
        kinds = [kind for _, kind, *_ in found[:3]]
        self.assertEqual(kinds, ["application/problem+json"] * 2 + ["text/html"])
        self.assertEqual({challenge for _, _, challenge, _ in found[:3]}, {'Basic realm="api"'})
        self.assertIn("Invalid username/password. Sign in", found[1][3])
        self.assertEqual([json.loads(found[number][3])[0]["id"] for number in (3, 4)], [1, 2])
        self.assertIn("You may not change cost", found[11][3])

    def test_operations_of_a_typed_api(self) -> None:
        self.changed(
            "pottery/views.py",
            ("jars = NinjaAPI(", f"{BEARER}\n\njars = NinjaAPI(auth=Bearer(), "),
            (
                "def reset():",
                '@jars.patch("/{jar_id}")\ndef rename_jar(request, jar_id: int):\n    return {}\n\n\ndef reset():',
            ),
        )
        found = self.answers("""
who = lambda name: {"Authorization": "Bearer " + name}
answers = [sent("GET", "/jars/1"), sent("GET", "/jars/1", who("nobody")), sent("GET", "/jars/1", who("ash")),
    sent("HEAD", "/jars/1", who("fern")), sent("PUT", "/jars/1", who("ash"), {"cost": 3}),
    sent("PATCH", "/jars/1", who("hazel"), {}), sent("PUT", "/jars/1", who("hazel"), {"cost": 3}),
    sent("DELETE", "/jars/1", who("hazel")), sent("GET", "/jars/", who("hazel"))]
""")
        self.assertEqual([status for status, *_ in found], [401, 401, 200, 403, 403, 403, 200, 403, 403])
        self.assertEqual(found[0][1], "application/problem+json")

    def test_pages_and_documents(self) -> None:
        found = self.answers("""
from bloodroot.enforce.django_rest import describe
ash = signed_in("ash")
pages = [page(Client(), "/pieces/"), page(ash, "/pieces/"), page(signed_in("hazel"), "/pieces/"),
    page(ash, "/pieces/1/edit/"), page(ash, "/pieces/2/edit/"), page(ash, "/pieces/9/edit/"), page(ash, "/api/")]
user = User.objects.get(username="ash")
user.set_password("another")
user.save()
pages.append(page(ash, "/pieces/"))
paths = {"/api/pieces/{id}/": {"get": {}, "patch": {"responses": {"200": {}}}}, "/jars/{jar_id}": {"put": {}}}
answers = {"pages": pages, **describe({"paths": paths}, None, None, True)}
""")
        pages = found["pages"]
        self.assertEqual([status for status, _ in pages], [401, 200, 200, 200, 403, 404, 200, 401])
        self.assertIn('<li>Fluted bowl <a href="/pieces/1/edit/">Edit</a></li> </ul> <p>ash</p>', pages[1][1])
        self.assertEqual(pages[2][1].count("Edit</a>"), 2)
        operation = found["paths"]["/api/pieces/{id}/"]["patch"]
        self.assertEqual(operation["x-access"]["roles"], {"member": "if own", "keeper": "allow"})
        self.assertEqual(sorted(operation["responses"]), ["200", "401", "403"])
        self.assertEqual(found["paths"]["/jars/{jar_id}"]["put"]["x-access"]["requirement"], "cost:set")


CASES: tuple[tuple[str, str, str], ...] = (
    (
        "orgs",
        "action orgs keeper",
        "action orgs is the name of several: orgs.get (GET), orgs.post (POST); write a line",
    ),
    ("orgs", "action orgs.get, orgs.post keeper", ""),
    ("orgs", 'action orgs keeper accept action-of-several-routes "one page"', ""),
    ("orgs", "action orgs.get member\n  action orgs keeper", ""),
    ("orgs", "action Orgs keeper", 'unknown action "Orgs"; did you mean "orgs"?'),
    (
        "",
        "action piece-detail keeper",
        "action piece-detail is the name of several: piece.destroy (DELETE), piece.retrieve",
    ),
    ("two", "action two keeper", "action two is at two/, and so is one; the framework serves the first of them"),
    ("two", "action one keeper", "action one is at two/, and so is two; the framework serves the first of them"),
    ("staff", "action staff keeper", "(?i)^staff/$, served by staff, does not tell upper from lower case"),
    ("", "GET /ledger nobody", "The line says that no caller may use it, and this application would not be asked"),
    ("", 'GET /ledger nobody accept line-without-endpoint "served beside"', ""),
    ("", "GET /api/pieces/{pk}/glaze guarded", "line-without-endpoint"),
    ("", "POST /sign-in/more guarded", "line-without-endpoint"),
    ("loose", "action loose guarded", "any /loose/ is guarded, and no guard is around loose. Put a guard around"),
)
STARTING = """
from django.conf import settings
from django.urls import clear_url_caches, path, re_path
from django.views import View
from pottery import urls
import bloodroot
from bloodroot.enforce.django_checks import check_access

class Orgs(View):
    def get(self, request): ...
    def post(self, request): ...

def loose(request): ...

MORE = {"": [], "orgs": [path("orgs/", Orgs.as_view(), name="orgs")],
    "two": [path("two/", loose, name="one"), path("two/", views.piece_list, name="two")],
    "staff": [re_path("(?i)^staff/$", loose, name="staff")], "loose": [path("loose/", loose, name="loose")]}
before, answers = [*urls.urlpatterns], []
for routes, text in CASES:
    urls.urlpatterns[:] = [*before, *MORE[routes]]
    clear_url_caches()
    with open("access.bloodroot", "w") as file:
        file.write(text)
    found = check_access()
    answers.append(" ".join(f"{each.id} {each.msg}" for each in found if routes or "ledger" in text or each.level > 30 or "glaze" in text))
"""


class Start(Project):
    def test_what_cannot_be_attributed_is_an_error(self) -> None:
        texts = []
        for routes, line, _ in CASES:
            text = self.files["access.bloodroot"].replace("fields piece", f"  {line}\n\nfields piece")
            if "piece-detail" in line:
                text = re.sub(r"  action +piece\.(?!list|create).*\n", "", text)
            texts.append((routes, text))
        found = self.answers(f"CASES = {texts!r}\n{STARTING}")
        for (routes, line, said), answer in zip(CASES, found, strict=True):
            with self.subTest(line, routes=routes):
                if said:
                    self.assertIn(said, answer)
                else:
                    self.assertEqual(answer, "")
