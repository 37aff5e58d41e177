"""Refused requests in other spellings, on an application that reads paths in two ways; and roles that are taken away."""

import json

from tests.program import InFolder

POLICY = """
    roles
      keeper
    endpoints
      GET        /              anyone
      GET        /vault         keeper
      GET        /vault/keys    keeper
      POST       /vault/open    keeper
    denials
      any  status 403
"""
SETTINGS = """
    policy = "access.bloodroot"
    app = "vault:app"
    [personas.visitor]
    signed_in = false
    [personas.hazel]
    roles = ["keeper"]
    attributes = { id = 1 }
    [probe]
    reset = "vault:reset"
    [probe.sign_in]
    how = "header"
    fields = { "X-Member" = "{persona.name}" }
"""
# What is served and what is checked are read by two who do not agree.
APP = """
    import flask

    app = flask.Flask("vault", static_folder=None)
    app.url_map.strict_slashes = False

    def reset(): ...

    class Outer:
        def __init__(self, inner):
            self.inner = inner

        def __call__(self, environ, start):
            OUTER
            return self.inner(environ, start)

    app.wsgi_app = Outer(app.wsgi_app)

    @app.before_request
    def check():
        if flask.request.headers.get("X-Member") == "hazel":
            return None
        path, method = flask.request.path, flask.request.method
        return ("no", 403) if CHECK else None

    @app.get("/")
    def home(): return "home"

    @app.get("/vault")
    def vault(): return "vault"

    @app.get("/vault/keys")
    def keys(): return "keys"

    @app.post("/vault/open")
    def open(): return "open"
"""
SOUND = 'path.startswith("/vault")'


class Variants(InFolder):
    def probed(self, check: str = SOUND, outer: str = "pass", *words: str) -> dict[str, object]:
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        self.write("vault.py", APP.replace("CHECK", check).replace("OUTER", outer))
        return json.loads(self.bloodroot("probe", "--variants", "--format", "json", *words).out)

    def test_each_way_round_a_check_is_found(self) -> None:
        for check, outer, spelled in (
            ('path in ("/vault", "/vault/keys", "/vault/open")', "pass", "a slash at the end"),
            (f'method != "HEAD" and {SOUND}', "pass", "HEAD"),
            (
                SOUND,
                'environ["REQUEST_METHOD"] = environ.get("HTTP_X_HTTP_METHOD_OVERRIDE", environ["REQUEST_METHOD"])',
                "",
            ),
            (
                'flask.request.environ.get("BEFORE", path).startswith("/vault")',
                'environ["BEFORE"] = environ["PATH_INFO"]; environ["PATH_INFO"] = environ.get("HTTP_X_ORIGINAL_URL", environ["PATH_INFO"])',
                "the path / with x-original-url",
            ),
            (
                'flask.request.environ.get("BEFORE", path).startswith("/vault")',
                'environ["BEFORE"] = environ["PATH_INFO"]; environ["PATH_INFO"] = environ["PATH_INFO"].lower()',
                "capitals",
            ),
            (
                'flask.request.environ.get("BEFORE", path).startswith("/vault")',
                'environ["BEFORE"] = environ["PATH_INFO"]; environ["PATH_INFO"] = environ["PATH_INFO"].partition(";")[0].replace("//", "/").replace("/./", "/")',
                "two slashes at the beginning",
            ),
            (f'{SOUND} and flask.request.headers.get("X-Forwarded-For") != "127.0.0.1"', "pass", "x-forwarded-for"),
        ):
            with self.subTest(spelled or "method override"):
                found = self.probed(check, outer)
                holes = {each["spelled"] for each in found["observations"] if each["verdict"] == "hole"}
                if spelled:
                    self.assertIn(spelled, holes)
                else:
                    # A check by path alone is none that a method gets round.
                    self.assertEqual(holes, set())

    def test_a_sound_application_has_none(self) -> None:
        found = self.probed()
        self.assertEqual((found["counts"]["hole"], found["counts"]["inconclusive"]), (0, 0))
        self.assertGreater(found["counts"]["agree"], 80)
        ways = {each["spelled"] for each in found["observations"]} - {None}
        self.assertGreater(len(ways), 30)
