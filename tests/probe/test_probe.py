"""The probe on applications made for it: what it finds, and what it says where it cannot ask."""

import fcntl

from tests.program import InFolder

POLICY = """
policy "Tarn Bank"
roles
  helper   default
  keeper   includes helper
conditions
  own      record.owner == caller.id
  self     path.person_id == caller.id
endpoints
  GET POST  /sign-in             anyone
  GET       /lots                helper
  GET       /lots/{lot_id}       keeper or own
  POST      /lots/{lot_id}       keeper or own
  DELETE    /lots/{lot_id}       keeper
  GET       /people/{person_id}  self
  GET       /slow                helper
  GET       /broken              helper
denials
  /lots/{lot_id}  own  hide
"""

APP = """
import os
from starlette.applications import Starlette
from starlette.responses import JSONResponse, PlainTextResponse, RedirectResponse
from starlette.routing import Route

PEOPLE = {"tess": (1, set()), "kit": (2, {"keeper"})}
LOTS = {}

def reset():
    LOTS.clear()
    LOTS.update({"1": {"owner": 1, "name": "Tarn rush"}, "2": {"owner": 9, "name": "Hidden fern"}})
    counts["reset"] += 1

counts = {"reset": 0}

def state():
    return repr(LOTS)

def me(request):
    name = request.cookies.get("who")
    return (name, *PEOPLE[name]) if name in PEOPLE else (None, None, set())

async def sign_in(request):
    if request.method == "GET":
        return PlainTextResponse("sign in")
    try:
        sent = await request.json()
    except ValueError:
        return PlainTextResponse("not JSON", 400)
    if sent.get("word") != os.environ["TARN_WORD"]:
        return PlainTextResponse("no", 403)
    answer = PlainTextResponse("welcome")
    answer.set_cookie("who", sent["name"])
    return answer

def needs_sign_in(request):
    return me(request)[0] is None and RedirectResponse("/sign-in?next=" + request.url.path, 303)

def lots(request):
    if (answer := needs_sign_in(request)):
        return answer
    LIST
    return JSONResponse([lot["name"] for lot in rows])

def lot(request):
    if (answer := needs_sign_in(request)):
        return answer
    name, number, roles = me(request)
    found = LOTS.get(request.path_params["lot_id"])
    if found is None or not (CHECK):
        return PlainTextResponse("not here", 404)
    if request.method == "POST":
        found["name"] = "renamed"
    return JSONResponse(found)

def delete(request):
    if (answer := needs_sign_in(request)):
        return answer
    if "keeper" not in me(request)[2]:
        return PlainTextResponse("no", 403)
    del LOTS[request.path_params["lot_id"]]
    return PlainTextResponse("gone")

def person(request):
    if (answer := needs_sign_in(request)):
        return answer
    if str(me(request)[1]) != request.path_params["person_id"]:
        return PlainTextResponse("no", 403)
    return PlainTextResponse("you")

def broken(request):
    raise RuntimeError("broken")

app = Starlette(routes=[
    Route("/sign-in", sign_in, methods=["GET", "POST"]),
    Route("/lots", lots), Route("/lots/{lot_id}", lot, methods=["GET", "POST"]),
    Route("/lots/{lot_id}", delete, methods=["DELETE"]), Route("/people/{person_id}", person),
    Route("/slow", lots), Route("/broken", BROKEN),
])
"""
RIGHT = (
    APP.replace(
        "LIST", "rows = [l for l in LOTS.values() if 'keeper' in me(request)[2] or l['owner'] == me(request)[1]]"
    )
    .replace("CHECK", "'keeper' in roles or found['owner'] == number")
    .replace("BROKEN", "lots")
)
WRONG = (
    APP.replace("LIST", "rows = LOTS.values()")
    .replace("CHECK", "request.method == 'POST' or 'keeper' in roles")
    .replace("BROKEN", "broken")
)

SETTINGS = """
[tool.bloodroot]
policy = "rules/access.bloodroot"
app = "tarn:app"

[tool.bloodroot.personas.visitor]
signed_in = false
[tool.bloodroot.personas.tess]
attributes = { id = 1 }
lot = 1
[tool.bloodroot.personas.kit]
roles = ["keeper"]
attributes = { id = 2 }

[tool.bloodroot.samples]
lot_id = 1
[tool.bloodroot.samples.own]
holds = { lot_id = "{persona.lot}" }
fails = { lot_id = 2, mark = "Hidden fern" }
[tool.bloodroot.samples.self]
holds = { person_id = "{persona.id}" }
fails = [{ person_id = 1 }, { person_id = 2 }]

[tool.bloodroot.probe]
reset = "tarn:reset"
state = "tarn:state"
[tool.bloodroot.probe.sign_in]
how = "json"
path = "/sign-in"
fields = { name = "{persona.name}", word = "{env.TARN_WORD}" }
"""


class Probe(InFolder):
    def project(self, app: str, settings: str = SETTINGS, policy: str = POLICY) -> None:
        self.write("rules/access.bloodroot", policy)
        self.write("pyproject.toml", settings)
        self.write("tarn.py", app)

    def test_a_right_application_agrees(self) -> None:
        self.project(RIGHT)
        out = self.ran("probe", TARN_WORD="fern")
        self.assertEqual(out.splitlines()[0], "As declared: 0 holes, 0 blocked, 32 agree; 9 endpoints as 3 personas")

    def test_an_application_that_a_function_makes(self) -> None:
        made = RIGHT + "\ndef create():\n    return app\n\nasync def later():\n    pass\n"
        self.project(made, SETTINGS.replace("tarn:app", "tarn:create()"))
        out = self.ran("probe", TARN_WORD="fern")
        self.assertEqual(out.splitlines()[0], "As declared: 0 holes, 0 blocked, 32 agree; 9 endpoints as 3 personas")

    def test_a_wrong_one_is_found_out(self) -> None:
        self.project(WRONG)
        out = self.ran("probe", status=1, TARN_WORD="fern")
        flat = " ".join(out.split())
        self.assertIn('HOLE GET /lots declared allow for tess observed shows "Hidden fern"', flat)
        self.assertIn("HOLE POST /lots/{lot_id} [own fails] declared deny (hidden) for tess observed let in", flat)
        self.assertIn("POST /lots/2 answered 200 rules/access.bloodroot:12", flat)
        self.assertIn(
            "INCONCLUSIVE GET /lots/{lot_id} [own holds] declared allow for tess observed nothing found", flat
        )
        self.assertIn(
            "INCONCLUSIVE GET /broken declared sign-in for visitor declared allow for tess, kit observed the application failed in "
            "its handler GET /broken answered 500 first exception: RuntimeError: broken (tarn.py:",
            flat,
        )
        self.assertIn("Next: close the holes", out)

    def test_one_that_refuses_too_much_is_blocked(self) -> None:
        self.project(RIGHT.replace("str(me(request)[1]) !=", "True or str(me(request)[1]) !="))
        out = self.ran("probe", status=1, TARN_WORD="fern")
        self.assertIn("2 blocked", out.splitlines()[0])
        self.assertIn("BLOCKED GET /people/{person_id}  [self holds]", out)

    def test_what_cannot_be_asked_is_said(self) -> None:
        own = SETTINGS[SETTINGS.index("[tool.bloodroot.samples.own]") : SETTINGS.index("[tool.bloodroot.samples.self]")]
        self.project(
            RIGHT,
            SETTINGS.replace(own, "").replace(
                "lot = 1\n[tool.bloodroot.personas.kit]", "[tool.bloodroot.personas.kit]"
            ),
        )
        out = self.ran("probe", status=3, TARN_WORD="fern")
        self.assertIn("2 not tried", out.splitlines()[0])
        self.assertIn(
            "GET /lots/{lot_id}, POST /lots/{lot_id} as tess: depends on own; write [samples.own] with holds and fails",
            out,
        )
        self.project(
            RIGHT,
            SETTINGS.replace("lot_id = 1\n", ""),
            POLICY.replace("/lots/{lot_id}       keeper\n", "/lots/{lot}  keeper\n"),
        )
        self.assertIn(
            "no value for {lot}; write lot = ... under [samples]", self.ran("probe", status=3, TARN_WORD="fern")
        )

    def test_nothing_is_changed_where_nothing_puts_it_back(self) -> None:
        self.project(
            RIGHT.replace("LOTS = {}", "LOTS = {'1': {'owner': 1, 'name': 'x'}}"),
            SETTINGS.replace('reset = "tarn:reset"', ""),
        )
        out = self.ran("probe", status=3, TARN_WORD="fern")
        self.assertIn(
            "it would change data, and nothing puts it back; write reset under [probe]", " ".join(out.split())
        )

    def test_a_command_puts_the_data_back(self) -> None:
        command = "python -c \"open('marks', 'a').write('x')\""
        self.project(RIGHT + "\nreset()\n", SETTINGS.replace('"tarn:reset"', f"'''{command}'''"))
        # It puts nothing back: that what was deleted is gone for the next one is no agreement.
        self.assertIn("probe.reset does not put the data back", self.ran("probe", status=3, TARN_WORD="fern"))
        # Once before everything, and once after each request that changed something.
        self.assertGreater(len((self.folder / "marks").read_text()), 3)

    def test_data_that_cannot_be_seen_to_change(self) -> None:
        for look, words in (
            ("return 1", "probe.state was the same after every request that was let in"),
            ("raise KeyError('lots')", "probe.state failed: KeyError: 'lots'"),
        ):
            self.project(RIGHT.replace("return repr(LOTS)", look))
            run = self.bloodroot("probe", TARN_WORD="fern")
            self.assertEqual(run.status, 3 if "return" in look else 2, run.out + run.err)
            self.assertIn(words, run.out + run.err)
        self.ran("probe", "--allow-unjudged", status=2, TARN_WORD="fern")
        # A page that changes data before it refuses, and one run beside another.
        self.project(
            RIGHT.replace('    if "keeper" not in', '    LOTS["1"]["name"] = ""\n    if "keeper" not in').replace(
                "    if str(me(request)[1]) !=",
                '    LOTS["9"] = {"owner": 9, "name": "seen"}\n    if str(me(request)[1]) !=',
            )
        )
        out = self.ran("probe", status=1, TARN_WORD="fern")
        self.assertIn("HOLE    DELETE /lots/{lot_id}", out)
        self.assertIn("HOLE    GET /people/{person_id}", out)
        self.assertEqual(out.count("answered 403, and changed the data all the same"), 2)
        with (self.folder / "mine.jsonl").open("w") as opened:
            fcntl.flock(opened, fcntl.LOCK_EX)
            run = self.bloodroot("probe", "--journal", "mine.jsonl", TARN_WORD="fern")
            self.assertEqual((run.status, run.out), (2, ""))
            self.assertIn("mine.jsonl: another probe is writing this journal", run.err)
        run = self.bloodroot("probe", "--resume", TARN_WORD="fern")
        self.assertIn("the run of this journal was ended, and nothing of it is left to ask", run.err)
        self.assertEqual(run.status, 2)

    def test_what_goes_wrong_on_the_way_is_told(self) -> None:
        for app, settings, environment, message in (
            (RIGHT, SETTINGS, {}, "requires {env.TARN_WORD}, and TARN_WORD is not set"),
            (RIGHT, SETTINGS.replace("{env.TARN_WORD}", "wrong"), {"TARN_WORD": "fern"}, 'persona "tess" could not sign in: POST /sign-in answered 403'),
            (RIGHT.replace('answer.set_cookie("who", sent["name"])', "pass"), SETTINGS, {"TARN_WORD": "fern"}, "set no cookie"),
            (RIGHT, SETTINGS.replace("tarn:reset", "tarn:rest"), {"TARN_WORD": "fern"}, 'probe.reset = "tarn:rest" cannot be imported'),
            (RIGHT, SETTINGS.replace("tarn:reset", "run 'this"), {"TARN_WORD": "fern"}, "probe.reset cannot be read as a command"),
            (RIGHT, SETTINGS.replace("tarn:reset", "false"), {"TARN_WORD": "fern"}, "probe.reset ended with status 1"),
            (RIGHT, SETTINGS.replace("{persona.name}", "{persona.nick}"), {"TARN_WORD": "fern"}, 'fields.name: no persona has {persona.nick}'),
            (RIGHT, SETTINGS.replace("how = \"json\"", "how = \"json\"\ntoken = \"a.b\""), {"TARN_WORD": "fern"}, 'there is no text at "a.b"'),
        ):  # fmt: skip
            with self.subTest(message):
                self.project(app, settings)
                run = self.bloodroot("probe", **environment)
                self.assertEqual((run.status, run.out), (2, ""), run.err)
                self.assertIn(message, run.err)


SLASHES = """
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.routing import Route

def lots(request):
    return PlainTextResponse("lots", STATUS)

def round_and_round(request):
    path = request.url.path
    return RedirectResponse(path[:-1] if path.endswith("/") else path + "/", 307)

app = Starlette(routes=[
    Route("/lots/", lots),
    Route("/round", round_and_round), Route("/round/", round_and_round),
    Route("/much", lambda request: Response(status_code=429)),
])
"""


class Slashes(InFolder):
    def probed(self, path: str, status: int, requirement: str) -> str:
        self.write("access.bloodroot", f"roles\n  keeper\nendpoints\n  GET {path} {requirement}\n")
        self.write(
            "bloodroot.toml",
            'policy = "access.bloodroot"\napp = "slashes:app"\n[personas.visitor]\nsigned_in = false\n',
        )
        self.write("slashes.py", SLASHES.replace("STATUS", str(status)))
        return self.bloodroot("probe", "--only", path).out

    def test_what_is_behind_the_redirect_of_a_router_counts(self) -> None:
        # The policy says /lots, the application serves /lots/: the router's redirect says nothing about access.
        self.assertIn("1 hole", self.probed("/lots", 200, "keeper"))
        self.assertIn("0 holes, 0 blocked, 1 agree", self.probed("/lots", 401, "keeper"))
        self.assertIn("0 holes, 0 blocked, 1 agree", self.probed("/lots", 200, "anyone"))
        self.assertIn("1 blocked", self.probed("/lots", 403, "anyone"))

    def test_what_says_nothing_is_unclear(self) -> None:
        for path in ("/round", "/much"):
            for requirement in ("anyone", "keeper"):
                out = self.probed(path, 200, requirement)
                self.assertIn("0 holes, 0 blocked, 0 agree", out.splitlines()[0], (path, requirement))
                self.assertNotIn("1 agree", out)


SIGN_OUT = """
import asyncio, secrets
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse
from starlette.routing import Route

LIVE = set()

async def sign_in(request):
    token = secrets.token_hex(4)
    LIVE.add(token)
    answer = PlainTextResponse("in")
    answer.set_cookie("session", token)
    return answer

async def page(request):
    await asyncio.sleep(secrets.randbelow(20) / 1000)
    if request.cookies.get("session") not in LIVE:
        return PlainTextResponse("who?", 401)
    await asyncio.sleep(secrets.randbelow(20) / 1000)
    return PlainTextResponse("page")

async def sign_out(request):
    if request.cookies.get("session") not in LIVE:
        return PlainTextResponse("who?", 401)
    LIVE.discard(request.cookies["session"])
    answer = PlainTextResponse("out")
    answer.delete_cookie("session")
    return answer

app = Starlette(routes=[
    Route("/in", sign_in, methods=["POST"]),
    *(Route(f"/out{n}", sign_out) for n in range(4)), *(Route(f"/page{n}", page) for n in range(40)),
])
"""


class SignOut(InFolder):
    def test_a_persona_that_is_signed_out_on_the_way_is_not_blocked(self) -> None:
        lines = [f"  GET /page{n} signed-in" for n in range(40)] + [f"  GET /out{n} signed-in" for n in range(4)]
        self.write("access.bloodroot", "\n".join(["endpoints", "  POST /in anyone", *lines]) + "\n")
        self.write("out.py", SIGN_OUT)
        self.write(
            "bloodroot.toml",
            'app = "out:app"\n[personas.visitor]\nsigned_in = false\n[personas.ash]\nattributes = { id = 1 }\n'
            '[probe.sign_in]\nhow = "json"\npath = "/in"\n',
        )
        for _ in range(3):
            self.assertIn("0 holes, 0 blocked, 88 agree", self.bloodroot("probe").out)
