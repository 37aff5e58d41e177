"""Ways to sign in, samples that are checked, fields, roles that are taken away, answers that are taught."""

import json
import os
import shutil
import subprocess
import time

from tests.probe.swap.project import listening
from tests.program import PROGRAM, InFolder

POLICY = """
    roles
      keeper
    conditions
      own  record.owner == caller.id
    fields plot
      spot  read keeper      change keeper
      *     read signed-in   change signed-in
    endpoints
      GET POST  /sign-in          anyone
      GET       /desk             signed-in
      GET       /plots/{plot_id}  keeper or own
      PATCH     /plots/{plot_id}  signed-in
      GET       /vault            keeper
      POST      /vault            keeper
    denials
      any  status 403
"""
SETTINGS = """
    policy = "access.bloodroot"
    app = "plots:app"
    [identity]
    from = "jwt"
    key = "{env.PLOT_KEY}"
    roles = "roles"
    [token]
    development_key = "{env.PLOT_KEY}"
    [personas.visitor]
    signed_in = false
    [personas.ash]
    attributes = { id = 1 }
    [personas.hazel]
    roles = ["keeper"]
    attributes = { id = 2 }
    [samples]
    plot_id = 1
    [samples.own]
    holds = { plot_id = "{persona.id}" }
    fails = [{ plot_id = 1 }, { plot_id = 2 }]
    [bodies]
    "PATCH /plots/{plot_id}" = { json = { name = "Upper bed" } }
    "POST /vault" = { form = { key = "round" } }
    [probe]
    reset = "plots:reset"
    state = "plots:state"
    [probe.fields.plot]
    marks = { spot = "51.11, -2.44" }
    change = ["PATCH /plots/{plot_id}"]
    values = { spot = "0, 0" }
"""
APP = """
    import base64, os, jwt
    from starlette.applications import Starlette
    from starlette.responses import JSONResponse, PlainTextResponse, RedirectResponse, HTMLResponse
    from starlette.routing import Route

    PEOPLE = {"ash": (1, set()), "hazel": (2, {"keeper"})}
    PLOTS = {}
    LIVES = 0.4

    def reset():
        PLOTS.clear()
        PLOTS.update({1: {"owner": 1, "name": "Bed", "spot": "51.11, -2.44"}, 2: {"owner": 2, "name": "Tarn", "spot": "x"}})

    def state():
        return PLOTS

    TAKEN = {}

    def take_away(name):
        import time
        TAKEN[name] = time.monotonic()
        return lambda: TAKEN.pop(name)

    def who(request):
        import time
        kind, _, rest = request.headers.get("authorization", "").partition(" ")
        name = request.cookies.get("who") or request.headers.get("x-member")
        if kind == "Basic":
            name = base64.b64decode(rest).decode().partition(":")[0]
        if kind == "Bearer":
            claims = jwt.decode(rest, os.environ["PLOT_KEY"], algorithms=["HS256"])
            name = {1: "ash", 2: "hazel"}[int(claims["sub"])]
        if name not in PEOPLE:
            return None, set()
        number, roles = PEOPLE[name]
        gone = name in TAKEN and time.monotonic() - TAKEN[name] > LIVES
        return number, set() if gone else roles

    async def sign_in(request):
        if request.method == "GET":
            return HTMLResponse('<form method="post"><input type="hidden" name="seal" value="fern"><input type="password" name="word"></form>')
        try:
            sent = await request.json()
        except ValueError:
            form = dict([pair.partition("=")[::2] for pair in (await request.body()).decode().split("&")])
            if form.get("seal") != "fern":
                return PlainTextResponse("no seal", 400)
            sent = form
            answer = RedirectResponse(request.query_params.get("next", "/desk") if NEXT else "/desk", 303)
            answer.set_cookie("who", sent["name"])
            return answer
        answer = JSONResponse({"a": {"token": jwt.encode({"sub": str(PEOPLE[sent["name"]][0])}, os.environ["PLOT_KEY"], "HS256")}})
        answer.set_cookie("who", sent["name"])
        return answer

    def closed(request):
        if who(request)[0] is None:
            if request.headers.get("accept") == "application/json" or not FORM:
                return PlainTextResponse("who?", 401)
            return RedirectResponse("/sign-in?next=" + request.url.path, 303)
        return None

    def desk(request):
        return closed(request) or PlainTextResponse("desk")

    async def plot(request):
        if (answer := closed(request)):
            return answer
        number, roles = who(request)
        found = PLOTS[int(request.path_params["plot_id"])]
        if request.method == "PATCH":
            sent = await request.json()
            if "spot" in sent and "keeper" not in roles:
                REFUSE
            found.update(sent)
            return JSONResponse({})
        if "keeper" not in roles and found["owner"] != number:
            return PlainTextResponse("no", 403)
        return JSONResponse(SHOW)

    async def vault(request):
        if (answer := closed(request)):
            return answer
        if "keeper" not in who(request)[1]:
            return NO
        if request.method == "POST":
            PLOTS["vault"] = (await request.body()).decode()
            return RedirectResponse("/vault", 303)
        return PlainTextResponse("vault")

    app = Starlette(routes=[
        Route("/sign-in", sign_in, methods=["GET", "POST"]), Route("/desk", desk),
        Route("/plots/{plot_id}", plot, methods=["GET", "PATCH"]), Route("/vault", vault, methods=["GET", "POST"]),
    ])
"""
RIGHT = {
    "REFUSE": 'return PlainTextResponse("not the spot", 403)',
    "SHOW": '{key: value for key, value in found.items() if key != "spot" or "keeper" in roles}',
    "NO": 'PlainTextResponse("no", 403)',
    "NEXT": "True",
    "FORM": "False",
}
FIELDS = 'fields = { name = "{persona.name}", word = "x" }\n'
WAYS = {
    "form": f'how = "form"\npath = "/sign-in"\n{FIELDS}lands = "/desk"\n',
    "json": f'how = "json"\npath = "/sign-in"\n{FIELDS}',
    "token": f'how = "json"\npath = "/sign-in"\n{FIELDS}token = "a.token"\n',
    "bearer": f'how = "bearer"\npath = "/sign-in"\n{FIELDS}token = "a.token"\n',
    "made": 'how = "bearer"\n',
    "basic": 'how = "basic"\nfields = { name = "{persona.name}", password = "{env.PLOT_KEY}" }\n',
    "header": 'how = "header"\nfields = { "X-Member" = "{persona.name}" }\n',
}
KEY = "a made-up key of thirty-two characters"


OBSERVED = ("--observed", ".bloodroot/probe.jsonl")


class AnswerSettings(InFolder):
    def project(self, way: str = "header", settings: str = SETTINGS, **changes: str) -> None:
        app = APP
        for name, text in {**RIGHT, **({"FORM": "True"} if way == "form" else {}), **changes}.items():
            app = app.replace(name, text)
        self.write("access.bloodroot", POLICY)
        self.write("plots.py", app)
        if way in ("made", "basic", "header"):
            settings = settings.replace("[bodies]", '[bodies]\n    "POST /sign-in" = { json = { name = "ash" } }')
        file = self.write("bloodroot.toml", settings)
        file.write_text(file.read_text() + "[probe.sign_in]\n" + WAYS[way])

    def probed(self, *words: str, status: int = 1) -> dict[str, object]:
        run = self.bloodroot("probe", "--format", "json", *words, PLOT_KEY=KEY)
        self.assertEqual(run.status, status, run.err + run.out[:2000])
        return json.loads(run.out)

    def holes(self, *words: str) -> set[tuple[str, str, str]]:
        found = self.probed(*words)["observations"]
        return {
            (f"{each['method']} {each['path']}", each["persona"], each["text"])
            for each in found
            if each["verdict"] == "hole"
        }

    def refused(self, *words: str) -> str:
        run = self.bloodroot("probe", *words, PLOT_KEY=KEY)
        self.assertEqual((run.status, run.out), (2, ""), run.out)
        return run.err

    def test_every_way_to_sign_in(self) -> None:
        for way in WAYS:
            with self.subTest(way):
                self.project(way)
                counts = self.probed(status=0)["counts"]
                self.assertEqual((counts["agree"], sum(counts.values())), (25, 25))

    def test_command_lines_repeat_a_request(self) -> None:
        self.assertIsNotNone(shutil.which("curl"))
        self.project()
        environment = {**os.environ, "PLOT_KEY": KEY, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}"}
        port, descriptor = self.enterContext(listening())
        server = subprocess.Popen(
            [str(PROGRAM.parent / "uvicorn"), "plots:app", "--fd", str(descriptor), "--log-level", "critical"],
            cwd=self.folder,
            env=environment,
            pass_fds=[descriptor],
        )
        try:
            for way in WAYS:
                with self.subTest(way):
                    self.project(way)
                    file = self.folder / "bloodroot.toml"
                    file.write_text(f'url = "http://127.0.0.1:{port}"\n' + file.read_text())
                    for who, method, path, wanted in (
                        ("hazel", "GET", "/vault", "200"),
                        ("ash", "POST", "/vault", "403"),
                    ):
                        lines = self.ran("ask", who, method, path, "--curl", PLOT_KEY=KEY)
                        self.assertNotIn(KEY, lines)
                        if way != "form":  # the seal of the form is in none of these lines
                            done = subprocess.run(
                                ["bash", "-c", lines],
                                cwd=self.folder,
                                env=environment,
                                capture_output=True,
                                text=True,
                                timeout=30,
                            )
                            self.assertIn(f"HTTP/1.1 {wanted}", done.stdout.splitlines()[0], lines + done.stderr)
        finally:
            server.kill()
            server.wait()

    def test_where_signing_in_leads(self) -> None:
        self.project("form", NEXT="False")
        found = self.probed("--methods", "GET")
        self.assertEqual(
            found["sign_in_faults"],
            ["ash asked for /plots/1, was sent to /sign-in, and after signing in led to /desk, not back to /plots/1"],
        )
        self.project("form", SETTINGS, FORM="False")
        self.assertIn("did not lead to /sign-in", self.probed("--methods", "GET")["sign_in_faults"][0])
        self.project("form")
        file = self.folder / "bloodroot.toml"
        file.write_text(file.read_text().replace('lands = "/desk"', 'lands = "/vault"'))
        self.assertIn(
            'persona "ash" could not sign in: POST /sign-in answered 303 and led to /desk, not to /vault',
            self.refused(),
        )

    def test_a_sign_in_that_fails_says_why(self) -> None:
        for way, change, message in (
            (
                "form",
                ('sent["name"]', 'sent["nmae"]'),
                "answered 500: the application raised KeyError: 'nmae' (plots.py:",
            ),
            ("form", ('value="fern"', 'value="moss"'), "POST /sign-in answered 400; are the fields"),
            ("form", ('answer.set_cookie("who", sent["name"])\n        return', "return"), "set no cookie"),
            ("token", ('{"a": {"token"', '{"b": {"token"'), 'there is no text at "a.token" in the answer'),
        ):
            with self.subTest(message):
                self.project(way)
                file = self.folder / "plots.py"
                file.write_text(file.read_text().replace(*change))
                self.assertIn(message, self.refused())

    def test_samples_are_checked_first(self) -> None:
        wrong = SETTINGS.replace("    conditions", "").replace(
            'holds = { plot_id = "{persona.id}" }', "holds = { plot_id = 1 }"
        )
        self.project(settings=wrong.replace("[samples]", "[samples.self]\n    holds = { plot_id = 7 }\n    [samples]"))
        policy = self.folder / "access.bloodroot"
        policy.write_text(
            policy.read_text()
            .replace("conditions\n", "conditions\n  self path.plot_id == caller.id\n")
            .replace("keeper or own", "keeper or own or self")
        )
        # A sample that suits nobody is said, and all else is asked for.
        out = " ".join(self.ran("probe", status=3, PLOT_KEY=KEY).split())
        self.assertIn("samples.self.holds: self fails there for every persona; correct the sample", out)

    def test_what_cannot_be_is_not_asked_for(self) -> None:
        conditions = "  low record.size < 3\n  small record.size < 5\n  mine record.team in caller.teams\n"
        conditions += "  left caller.left == true\n"
        self.write(
            "other.bloodroot",
            f"roles\n  keeper\nconditions\n{conditions}endpoints\n  GET /a/{{plot_id}} keeper if low and small\n"
            "  GET /b/{plot_id} keeper if mine\n  GET /c/{plot_id} keeper if low and left\n",
        )
        self.write(
            "other.toml",
            'policy = "other.bloodroot"\nurl = "http://127.0.0.1:9"\n[personas.hazel]\nroles = ["keeper"]\n'
            "attributes = { id = 1, teams = [], left = false }\n[samples]\nplot_id = 1\n[samples.low]\n"
            "holds = { plot_id = 1 }\nfails = { plot_id = 3 }\n[samples.small]\nholds = { plot_id = 1 }\n",
        )
        out = self.ran("probe", "--settings", "other.toml", "--list")
        # A low plot is small; nobody is in no team; hazel has not left.
        self.assertIn("1 cannot be tried", out)
        self.assertIn("no sample where low fails and small holds", " ".join(out.split()))
        self.assertIn("/b/1 deny hazel", " ".join(out.split()))
        # Where a role is held in other records is not known before there is one.
        other = self.folder / "other.bloodroot"
        other.write_text(
            "things\n  yard {yard_id}\n  shed {shed_id} in yard by yard_id\nroles\n  keeper\nroles in yard\n  tender\nconditions\n"
            "  low record.size < 3\n  small record.size < 5\nendpoints\n  GET /sheds/{shed_id} tender if low\n"
        )
        settings = self.folder / "other.toml"
        settings.write_text(
            settings.read_text()
            .replace("left = false }", 'left = false }\nroles_in = { yard = { 7 = ["tender"] } }')
            .replace("plot_id = 1\n[", "shed_id = 1\n[")
        )
        self.assertIn("1 cannot be tried", self.ran("probe", "--settings", "other.toml", "--list"))

    def test_a_condition_on_the_query(self) -> None:
        self.project(
            settings=SETTINGS.replace(
                "[samples.own]",
                '[samples.brief]\n    holds = { query = { all = "no" } }\n    fails = { query = { all = "yes" } }\n    [samples.own]',
            )
        )
        policy = self.folder / "access.bloodroot"
        text = policy.read_text().replace("conditions\n", 'conditions\n  brief  query.all == "no"\n')
        policy.write_text(
            text.replace("/vault            keeper\n  POST", "/vault            keeper or signed-in and brief\n  POST")
        )
        found = self.probed("--only", "GET /vault", "--persona", "ash")["observations"]
        self.assertEqual(
            {(each["path"], each["declared"], each["verdict"]) for each in found},
            {("/vault?all=no", "allow", "blocked"), ("/vault?all=yes", "deny", "agree")},
        )

    def test_values_from_a_list_of_the_application(self) -> None:
        listed = SETTINGS.replace("plot_id = 1\n    [samples.own]", "[samples.own]").replace(
            "    [probe.fields.plot]",
            '    [probe.values]\n    plot_id = { list = "/vault", at = "beds.0", as = "hazel" }\n    [probe.fields.plot]',
        )
        self.project(settings=listed)
        self.assertIn("probe.values.plot_id: GET /vault as hazel did not answer JSON", self.refused())
        file = self.folder / "plots.py"
        file.write_text(file.read_text().replace('PlainTextResponse("vault")', 'JSONResponse({"beds": [2, 1]})'))
        paths = {each["path"] for each in self.probed(status=0)["observations"] if "plots" in each["path"]}
        self.assertIn("/plots/2", paths)
        file.write_text(file.read_text().replace("beds", "boxes"))
        self.assertIn('has no text or number at "beds.0"', self.refused())
        self.assertIn("is taken from a list of the application", self.bloodroot("probe", "--list", PLOT_KEY=KEY).out)

    def test_the_application_runs_in_one_event_loop(self) -> None:
        self.write(
            "loops.py",
            """
            import asyncio
            starts = []

            async def app(scope, receive, send):
                if scope["type"] == "lifespan":
                    await receive()
                    starts.append(asyncio.get_running_loop())
                    await send({"type": "lifespan.startup.complete"})
                    await receive()
                    await send({"type": "lifespan.shutdown.complete"})
                    return
                alone = starts == [asyncio.get_running_loop()]
                body = b'{"beds": [2]}' if alone else b'{"beds": "another loop"}'
                found = alone and scope["path"] in ("/beds", "/beds/2")
                headers = [(b"content-type", b"application/json")]
                await send({"type": "http.response.start", "status": 200 if found else 500, "headers": headers})
                await send({"type": "http.response.body", "body": body})
            """,
        )
        self.write("access.bloodroot", "endpoints\n  GET /beds anyone\n  GET /beds/{bed_id} anyone\n")
        self.write(
            "bloodroot.toml",
            """
            policy = "access.bloodroot"
            app = "loops:app"
            [personas.visitor]
            signed_in = false
            [probe.values]
            bed_id = { list = "/beds", at = "beds.0", as = "visitor" }
            """,
        )
        self.assertIn("0 holes, 0 blocked, 2 agree", self.ran("probe"))

    def test_fields_that_are_shown_and_accepted(self) -> None:
        self.project()
        self.assertEqual(self.probed(status=0)["counts"]["hole"], 0)
        self.project(SHOW="found", REFUSE="pass")
        self.assertEqual(
            self.holes(),
            {
                ("GET /plots/1", "ash", 'shows "51.11, -2.44", which is spot of plot, and not for them to read'),
                ("PATCH /plots/1", "ash", "accepted a change of spot of plot"),
            },
        )
        self.project(REFUSE="sent.pop('spot')")
        texts = {each["text"] for each in self.probed(status=0)["observations"]}
        self.assertIn("spot of plot was left as it was", texts)
        self.project(settings=SETTINGS.replace("{ spot =", "{ spto ="))
        self.assertEqual(self.probed(status=0)["counts"]["hole"], 0)  # a field without a rule of its own is one of *
        self.project(settings=SETTINGS.replace("fields.plot", "fields.plto"))
        self.assertIn('the policy knows no fields "plto"; did you mean "plot"?', self.refused())

    def test_answers_are_taught(self) -> None:
        self.project(NO='RedirectResponse("/desk", 303)')
        found = {(each["method"], each["persona"]): each for each in self.probed("--only", "/vault")["observations"]}
        self.assertEqual(found["GET", "ash"]["verdict"], "inconclusive")
        self.assertIn('refused = ["303 /desk"]', found["GET", "ash"]["settle"])
        # The data shows that nothing was done.
        self.assertEqual(found["POST", "ash"]["verdict"], "other")
        self.project(
            NO='RedirectResponse("/desk", 303)',
            settings=SETTINGS + '    [probe.answers]\n    refused = ["303 /desk"]\n',
        )
        self.assertEqual(
            {each["verdict"] for each in self.probed("--only", "/vault", status=0)["observations"]}, {"agree"}
        )
        self.project(NO='PlainTextResponse("You may not see this.")')
        self.assertEqual({who for _, who, _ in self.holes("--only", "/vault")}, {"ash"})
        self.project(
            NO='PlainTextResponse("You may not see this.")',
            settings=SETTINGS + '    [probe.answers]\n    refused = ["200 You may not"]\n',
        )
        self.probed("--only", "/vault", status=0)
        for text, message in (
            ('["200"]', '"200" would be every page'),
            ('["302"]', "write where it leads too"),
            ('["home"]', "write a status"),
        ):
            self.project(settings=SETTINGS + f"    [probe.answers]\n    refused = {text}\n")
            self.assertIn(message, self.refused())

    def test_roles_that_are_taken_away(self) -> None:
        self.project(
            settings=SETTINGS
            + '    take_away = "plots:take_away"\n'.replace("    take_away", "    [probe.x]\n    take_away")
        )
        self.assertIn("unknown key", self.refused())
        settings = SETTINGS.replace('state = "plots:state"', 'state = "plots:state"\n    take_away = "plots:take_away"')
        self.project(settings=settings)
        (found,) = self.probed("--methods", "GET", "--stale", "3", status=0)["stale"]
        self.assertEqual((found["persona"], found["path"], found["how"]), ("hazel", "/vault", "session"))
        self.assertTrue(0.3 < found["seconds"] < 2, found)
        self.project(settings=settings)
        file = self.folder / "plots.py"
        file.write_text(file.read_text().replace("LIVES = 0.4", "LIVES = 60"))
        (found,) = self.probed("--methods", "GET", "--stale", "0.5")["stale"]
        self.assertIsNone(found["seconds"])
        self.project()
        self.assertIn("there is nothing to take away", self.refused("--methods", "GET", "--stale", "3"))

    def test_reviewed_tables(self) -> None:
        self.project()
        self.assertIn("there is no such file", self.bloodroot("expect", "seen.csv", *OBSERVED).err)
        self.ran("probe", PLOT_KEY=KEY)
        self.assertIn("Wrote seen.csv", self.ran("expect", "seen.csv", "--update", *OBSERVED))
        table = (self.folder / "seen.csv").read_text()
        self.assertIn("GET,/plots/{plot_id},sign-in,if own,allow\n", table)
        self.assertEqual(self.bloodroot("expect", "seen.csv", *OBSERVED).status, 0)
        # The table of the probe and that of the policy are one.
        self.assertEqual(self.bloodroot("expect", "seen.csv", "--personas").status, 0)
        self.project(NO='PlainTextResponse("vault")')
        self.ran("probe", PLOT_KEY=KEY, status=1)
        run = self.bloodroot("expect", "seen.csv", *OBSERVED)
        self.assertEqual(run.status, 1)
        self.assertRegex(run.out, r"GET /vault +ash +deny +allow +seen.csv:\d+")

    def test_watching(self) -> None:
        self.project()
        with (self.folder / "out.txt").open("w") as out:
            watching = subprocess.Popen(
                [str(PROGRAM), "probe", "--watch"],
                cwd=self.folder,
                stdout=out,
                stderr=subprocess.STDOUT,
                env={**os.environ, "PLOT_KEY": KEY},
            )
        try:
            for part, change in (("watching ", 'PlainTextResponse("no", 403)'), ("1 hole at 1 endpoint", "")):
                for _ in range(400):
                    time.sleep(0.1)
                    if part in (self.folder / "out.txt").read_text():
                        break
                said = (self.folder / "out.txt").read_text()
                self.assertIn(part, said)
                if change:
                    time.sleep(1)
                    file = self.folder / "plots.py"
                    file.write_text(
                        file.read_text()
                        .replace(f"return {change}", "pass", 1)
                        .replace(
                            'return PlainTextResponse("no", 403)\n        if request.method',
                            "pass\n        if request.method",
                        )
                    )
            self.assertIn("plots.py changed", said)
        finally:
            watching.kill()
            watching.wait()
