"""Applications that were written elsewhere, behind policies: what is allowed is answered as it is without enforcement.

    .venv/bin/python -m pip install -r tests/real/requirements.txt
    .venv/bin/python -m tests.real.applications

The admin site of Django with its sign-in, an echo service on Flask, and a browser of data on ASGI, each on a real server,
beside the same application without enforcement; three callers each.
"""

import asyncio
import contextlib
import http.client
import itertools
import logging
import re
import sqlite3
import tempfile
import textwrap
import unittest
import urllib.parse
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import django
import django.conf
import django.contrib.admin
import django.core.management
import django.urls
from django.core.handlers.asgi import ASGIHandler
from django.core.handlers.wsgi import WSGIHandler
from tests.servers import serving, serving_wsgi

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import asgi
from bloodroot.enforce import flask as for_flask

CALLERS = {"member": Caller(1), "keeper": Caller(2, {"keeper"})}
# What differs from one request to the next, or from one server to another.
VARIES = ("date", "server", "vary", "cache-control", "set-cookie", "expires", "x-request-duration")


def who(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-caller") or "")


def ask(port: int, method: str, target: str, body: str = "", **headers: str) -> tuple[int, dict[str, str], bytes]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    try:
        connection.putrequest(method, target, skip_host=True, skip_accept_encoding=True)
        connection.putheader("Host", "tarn.example")
        for name, value in headers.items():
            connection.putheader(name.replace("_", "-"), value)
        if body:
            connection.putheader("Content-Type", "application/x-www-form-urlencoded")
            connection.putheader("Content-Length", str(len(body)))
        connection.endheaders(body.encode() if body else None)
        response = connection.getresponse()
        noted: dict[str, str] = {}
        for name, value in response.getheaders():
            noted[name.lower()] = f"{noted[name.lower()]}, {value}" if name.lower() in noted else value
        return response.status, noted, response.read()
    finally:
        connection.close()


def kept(headers: dict[str, str]) -> dict[str, str]:
    return {name: value for name, value in headers.items() if name not in VARIES}


class Real(unittest.TestCase):
    def compare(
        self,
        alone: int,
        behind: int,
        requests: list[tuple[str, str]],
        allowed: Callable[[str, str, str], bool],
        signed_in: dict[str, tuple[dict[str, str], dict[str, str]]],
        *,
        plain: Callable[[bytes], bytes] = lambda body: body,
    ) -> None:
        """Ask both for every request as every caller; `signed_in` has the headers of each caller for both."""
        counted = {"allowed": 0, "refused": 0}
        for (method, target), caller in itertools.product(requests, ("", "member", "keeper")):
            for_alone, for_behind = signed_in.get(caller, ({}, {}))
            status, headers, body = ask(behind, method, target, Accept="text/html", **for_behind)
            with self.subTest(f"{method} {target} as {caller or 'signed out'}"):
                if not allowed(method, target, caller):
                    counted["refused"] += 1
                    self.assertIn(status, (303, 400, 401, 403, 404), body[:200])
                    self.assertNotIn("x-served", headers)
                    continue
                counted["allowed"] += 1
                before = ask(alone, method, target, Accept="text/html", **for_alone)
                self.assertEqual((status, kept(headers)), (before[0], kept(before[1])))
                self.assertEqual(plain(body), plain(before[2]))
        print(f"{self.id().split('.')[-1]}: {counted}")
        self.assertGreaterEqual(sum(counted.values()), 300)
        self.assertGreater(min(counted.values()), 50)


class EchoServiceOnFlask(Real):
    POLICY = textwrap.dedent("""
    roles
      keeper
    endpoints
      GET    /                        anyone
      any    /get                     anyone
      action view_html_page           signed-in
      action view_status_code         keeper
      any    /anything/**             signed-in
      any    /headers                 keeper
      any    /cookies/**              keeper
      any    /redirect/{n}            signed-in
      any    /links/{n}/{offset}      anyone
      any    /links/{n}               anyone
      any    /base64/{value}          keeper
      any    /xml                     anyone
      any    /json                    signed-in
      any    /encoding/utf8           keeper
      any    /bytes/{n}               keeper
      any    /stream/{n}              signed-in
      any    /range/{n}               keeper
      any    /image/**                signed-in
      any    /user-agent              anyone
      any    /response-headers        signed-in
      any    /post                    keeper
      any    /robots.txt              anyone
    """)
    NEEDS = (
        (r"/html$", "member", ("GET", "HEAD")),
        (r"/status/", "keeper", None),
        (r"/anything(/|$)", "member", None),
        (r"/(headers$|cookies|base64/|encoding/|bytes/|range/|post$)", "keeper", None),
        (r"/(redirect/|json$|stream/|image|response-headers)", "member", None),
        (r"/$", "", ("GET", "HEAD")),
        (r"/(get|xml|user-agent|robots.txt)$|/links/", "", None),
    )

    def allowed(self, method: str, target: str, caller: str) -> bool:
        # The server itself takes slashes at the beginning for one, and decodes the path before an application sees it.
        path = "/" + urllib.parse.unquote(target.split("?")[0]).lstrip("/")
        if ".." in path or ";" in path:
            return False
        for pattern, needed, methods in self.NEEDS:
            if re.match(pattern, path) and (methods is None or method in methods):
                return {"": True, "member": caller != "", "keeper": caller == "keeper"}[needed]
        return False

    def application(self) -> Any:
        import importlib

        import httpbin.core

        app = importlib.reload(httpbin.core).app

        @app.after_request
        def served(response: Any) -> Any:
            return response

        return app

    def test_flask(self) -> None:
        alone, protected = self.application(), self.application()
        for_flask.protect(protected, bloodroot.parse(self.POLICY), identify=who)
        # Line for line the views are the same, and named the same.
        targets = ["/", "/get?a=1", "/html", "/status/204", "/status/418", "/anything", "/anything/a/b%20c?x=%2F"]
        targets += [
            "/headers",
            "/cookies",
            "/redirect/1",
            "/links/3/1",
            "/links/3",
            "/base64/c2VlZA==",
            "/xml",
            "/json",
        ]
        targets += ["/encoding/utf8", "/bytes/8?seed=1", "/stream/3", "/range/26?duration=0", "/image/png", "/image"]
        targets += ["/user-agent", "/response-headers?a=b", "/post", "/robots.txt", "/delay/0", "/deny", "/nowhere"]
        targets += ["/anything/../headers", "//headers", "/status%2f418", "/basic-auth/a/b", "/HEADERS", "/headers;x"]
        requests = list(itertools.product(("GET", "HEAD", "POST", "DELETE"), targets))
        headers = {caller: ({"X_Caller": caller}, {"X_Caller": caller}) for caller in CALLERS}
        with serving_wsgi(alone) as one, serving_wsgi(protected) as other:
            self.compare(one, other, requests, self.allowed, headers)


class DataBrowserOnAsgi(Real):
    POLICY = textwrap.dedent("""
    roles
      keeper
    endpoints
      GET  /                anyone
      GET  /tarn            signed-in
      GET  /tarn/lots       signed-in
      GET  /tarn/lots/{id}  signed-in
      GET  /tarn/members    keeper
      GET  /tarn/members/*  keeper
      GET  /tarn.json       signed-in
      GET  /tarn/{file}.json  keeper
      GET  /tarn/lots.csv   signed-in
      GET  /-/static/**     anyone
      GET  /-/{page}        keeper
      GET  /-/{page}.json   keeper
    """)

    def allowed(self, method: str, target: str, caller: str) -> bool:
        path = urllib.parse.unquote(target.split("?")[0])
        if method not in ("GET", "HEAD") or "%2f" in target.lower() or "//" in path or ".." in path:
            return False
        if path == "/" or path.startswith("/-/static/"):
            return True
        if path in ("/tarn", "/tarn/lots", "/tarn.json", "/tarn/lots.csv") or re.fullmatch(r"/tarn/lots/\d+", path):
            return caller != ""
        keepers = r"/tarn/members(/\d+)?|/tarn/\w+\.json|/-/\w+(\.json)?"
        return caller == "keeper" and re.fullmatch(keepers, path) is not None

    def test_asgi(self) -> None:
        from datasette.app import Datasette

        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "tarn.db"
            with contextlib.closing(sqlite3.connect(file)) as database, database:
                database.execute("create table lots (id integer primary key, name text)")
                database.execute("create table members (id integer primary key, name text)")
                database.executemany("insert into lots values (?, ?)", [(n, f"sedge {n}") for n in range(1, 30)])
                database.executemany("insert into members values (?, ?)", [(n, f"Ash {n}") for n in range(1, 5)])
            how = {"secret": "k" * 32, "settings": {"num_sql_threads": 1}}
            alone, inner = (Datasette([str(file)], **how).app() for _ in range(2))
            protected = asgi.AccessMiddleware(inner, bloodroot.parse(self.POLICY), identify=who)
            targets = [
                "/",
                "/tarn",
                "/tarn/lots",
                "/tarn/members",
                "/tarn.json",
                "/tarn/lots.json",
                "/tarn/members.json",
            ]
            targets += [f"/tarn/lots/{n}" for n in range(1, 12)] + [f"/tarn/members/{n}" for n in range(1, 4)]
            targets += [
                "/tarn/lots?_sort=name&_size=3",
                "/tarn/lots.csv",
                "/-/versions",
                "/-/plugins.json",
                "/-/settings",
            ]
            targets += ["/-/static/app.css", "/-/static/table.js", "/nowhere", "/tarn/nowhere", "/tarn?sql=select+1"]
            targets += [
                "/tarn/%6dembers",
                "/tarn//members",
                "/tarn/../tarn/members",
                "/tarn%2Fmembers",
                "/tarn/Members",
            ]
            targets += ["/tarn/lots?_facet=name", "/tarn/lots?name__contains=1", "/-/databases", "/-/actor.json"]
            requests = list(itertools.product(("GET", "HEAD", "POST"), targets))
            headers = {caller: ({"X_Caller": caller}, {"X_Caller": caller}) for caller in CALLERS}
            with serving(alone) as one, serving(protected) as other:
                self.compare(one, other, requests, self.allowed, headers, plain=without_times)


def without_times(body: bytes) -> bytes:
    """A page without the time that its queries took."""
    return re.sub(rb'[\d.]+\s*ms|"query_ms": [\d.]+|"ident": \d+', b"", body)


class AdminSiteOfDjango(Real):
    POLICY = textwrap.dedent("""
    roles
      keeper
    endpoints
      any    /admin/login            anyone
      action admin.logout            signed-in
      action admin.index             signed-in
      action admin.app_list          signed-in
      any    /admin/jsi18n           anyone
      any    /admin/auth/user/**     keeper
      any    /admin/auth/group/**    signed-in
      any    /admin/password_change/**  keeper
    denials
      signed-out  go /admin/login
    """)

    @staticmethod
    def identify(request: Any) -> Caller | None:
        member = request.session.get("_auth_user_id")
        return CALLERS["keeper" if member == "2" else "member"] if member else None

    def allowed(self, method: str, target: str, caller: str) -> bool:
        path = target.split("?")[0]
        if "//" in path or ".." in path or (self.tells_slashes and "%2f" in path):
            return False
        path = urllib.parse.unquote(path)
        if re.match(r"/admin/(login|jsi18n)/", path):
            return True
        if re.match(r"/admin/(auth/user|password_change)(/|$)", path):
            return caller == "keeper"
        return re.match(r"/admin/((auth/)?$|logout/$|auth/group/)", path) is not None and caller != ""

    def test_django(self) -> None:
        with tempfile.TemporaryDirectory() as folder, django_project(Path(folder)):
            for name, make, serve in (("WSGI", WSGIHandler, serving_wsgi), ("ASGI", ASGIHandler, serving)):
                before = django.conf.settings.MIDDLEWARE
                alone = make()
                django.conf.settings.MIDDLEWARE = [*before, "bloodroot.enforce.django.AccessMiddleware"]
                django.conf.settings.BLOODROOT = {"policy": bloodroot.parse(self.POLICY), "identify": self.identify}
                protected = make()
                django.conf.settings.MIDDLEWARE = before
                self.tells_slashes = name == "ASGI"
                with self.subTest(name), serve(alone) as one, serve(protected) as other:
                    self.ask_both(one, other)

    def ask_both(self, one: int, other: int) -> None:
        headers = {name: (self.sign_in(one, name), self.sign_in(other, name)) for name in CALLERS}
        targets = ["/admin/", "/admin/login/", "/admin/auth/", "/admin/auth/user/", "/admin/auth/user/add/"]
        targets += [f"/admin/auth/user/{n}/change/" for n in (1, 2, 9)] + [
            f"/admin/auth/user/{n}/delete/" for n in (1, 9)
        ]
        targets += ["/admin/auth/user/1/history/", "/admin/auth/user/1/password/", "/admin/auth/group/"]
        targets += [
            "/admin/auth/group/add/",
            "/admin/auth/group/1/change/",
            "/admin/jsi18n/",
            "/admin/password_change/",
        ]
        targets += ["/admin/auth/user/?q=ash", "/admin/auth/user", "/admin/nowhere/", "/nowhere", "/admin//auth/user/"]
        targets += ["/admin/auth/../auth/user/", "/admin/auth%2fuser/", "/admin/auth/User/", "/admin/r/1/1/"]
        requests = list(itertools.product(("GET", "HEAD", "POST", "PUT"), targets))
        self.compare(one, other, requests, self.allowed, headers, plain=without_tokens)

    def sign_in(self, port: int, name: str) -> dict[str, str]:
        """Through the site's own form, with its token against forged requests."""
        _, headers, body = ask(port, "GET", "/admin/login/")
        cookie = headers["set-cookie"].split(";")[0]
        token = re.search(rb'name="csrfmiddlewaretoken" value="(\w+)"', body)
        assert token is not None
        form = {
            "username": name,
            "password": "seed vault 7",
            "csrfmiddlewaretoken": token[1].decode(),
            "next": "/admin/",
        }
        referer = {"Referer": "http://tarn.example/admin/login/", "Cookie": cookie}
        status, headers, _ = ask(port, "POST", "/admin/login/", urllib.parse.urlencode(form), **referer)
        assert status == 302, status
        cookies = re.findall(r"((?:csrftoken|sessionid)=\w+)", headers["set-cookie"])
        return {"Cookie": "; ".join(cookies)}


def without_tokens(body: bytes) -> bytes:
    """A page without the tokens against forged requests, and without times."""
    return re.sub(rb'value="\w{64}"|\d+ (seconds|minutes)?|\w{64}|value="\d\d:\d\d:\d\d"', b"", body)


@contextlib.contextmanager
def django_project(folder: Path) -> Iterator[None]:
    """A project with the admin site alone, two members in it."""
    from types import ModuleType

    urls = ModuleType("tarn_admin_urls")
    processors = ["request", "auth"]
    django.conf.settings.configure(
        SECRET_KEY="k" * 50,
        ALLOWED_HOSTS=["*"],
        ROOT_URLCONF=urls,
        INSTALLED_APPS=[f"django.contrib.{app}" for app in ("admin", "auth", "contenttypes", "sessions", "messages")],
        DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": str(folder / "admin.db")}},
        MIDDLEWARE=[
            "django.contrib.sessions.middleware.SessionMiddleware",
            "django.middleware.common.CommonMiddleware",
            "django.middleware.csrf.CsrfViewMiddleware",
            "django.contrib.auth.middleware.AuthenticationMiddleware",
            "django.contrib.messages.middleware.MessageMiddleware",
        ],
        TEMPLATES=[
            {
                "BACKEND": "django.template.backends.django.DjangoTemplates",
                "APP_DIRS": True,
                "OPTIONS": {
                    "context_processors": [
                        *(f"django.template.context_processors.{name}" for name in processors[:1]),
                        "django.contrib.auth.context_processors.auth",
                        "django.contrib.messages.context_processors.messages",
                    ]
                },
            }
        ],
        STATIC_URL="/static/",
        LOGGING_CONFIG=None,
        PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],
        USE_TZ=True,
    )
    django.setup()
    urls.urlpatterns = [django.urls.path("admin/", django.contrib.admin.site.urls)]  # type: ignore[attr-defined]
    django.core.management.call_command("migrate", verbosity=0)
    from django.contrib.auth.models import User

    for name in CALLERS:
        User.objects.create_superuser(name, f"{name}@tarn.example", "seed vault 7")
    yield


if __name__ == "__main__":
    logging.disable(logging.CRITICAL)
    asyncio.set_event_loop(asyncio.new_event_loop())
    unittest.main()
