"""A project that declares at its handlers: every command knows what the guards require."""

from __future__ import annotations

import json

from tests.program import InFolder

POLICY = """
    policy "Tarn Seed Swap"

    roles
      member   default
      steward  includes member

    permissions
      packet:remove  steward, member if own-packet

    conditions
      own-packet  record.owner == caller.id

    endpoints
      GET       /         anyone
      GET POST  /sign-in  signed-out
      any       /**       guarded
"""
SETTINGS = """
    policy = "access.bloodroot"
    app = "swap:app"
    [identity]
    from = "session"
    id = "member"
    roles = "roles"
    [personas.visitor]
    signed_in = false
    [personas.member]
    roles = ["member"]
    attributes = { id = "wren" }
    [personas.steward]
    roles = ["steward"]
    attributes = { id = "hazel" }
    [samples]
    packet_id = 1
    [samples.own-packet]
    holds = { packet_id = 1 }
    fails = { packet_id = 2 }
    [probe]
    reset = "swap:reset"
    [[probe.sign_in]]
    how = "form"
    path = "/sign-in"
    fields = { name = "{persona.id}" }
"""
FLASK = """
    from flask import Flask, redirect, request, session
    import bloodroot
    from bloodroot import identity
    from bloodroot.enforce import flask, guard

    app = Flask(__name__, static_folder=None)
    app.secret_key = "made up"
    PACKETS = {"1": {"owner": "wren"}, "2": {"owner": "ash"}}

    def reset(): ...

    @app.get("/")
    def home():
        return "Seed swap"

    @app.route("/sign-in", methods=["GET", "POST"])
    def sign_in():
        if request.method == "POST":
            session["member"] = request.form["name"]
            session["roles"] = ["steward"] if request.form["name"] == "hazel" else ["member"]
            return redirect("/", 303)
        return "<form method=post><input name=name></form>"

    @app.delete("/packets/<packet_id>")
    @guard("packet:remove")
    def remove(packet_id):
        return "gone"

    @app.get("/ledger")
    LEDGER
    def ledger():
        return "ledger"

    policy = bloodroot.load("access.bloodroot")
    flask.protect(app, policy, identify=identity.load("bloodroot.toml"), records={"packet_id": PACKETS.get})
"""
FASTAPI = """
    from fastapi import FastAPI
    from bloodroot.enforce import guard

    app = FastAPI(openapi_url=None)

    @app.get("/")
    def home(): ...

    @app.delete("/packets/{packet_id}")
    @guard("packet:remove")
    def remove(packet_id: str): ...

    @app.get("/ledger")
    @guard("steward")
    def ledger(): ...
"""
ROWS = {
    "GET /": ["allow", "allow", "allow", "allow"],
    "GET /sign-in": ["allow", "deny", "deny", "deny"],
    "POST /sign-in": ["allow", "deny", "deny", "deny"],
    "any /**": ["if guarded", "if guarded", "if guarded", "if guarded"],
    "DELETE /packets/{packet_id}": ["sign-in", "if own-packet", "if own-packet", "allow"],
    "GET /ledger": ["sign-in", "deny", "deny", "allow"],
}


class Guarded(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        self.write("swap.py", FLASK.replace("LEDGER", '@guard("steward")'))

    def test_the_matrix(self) -> None:
        for app in (FLASK.replace("LEDGER", '@guard("steward")'), FASTAPI):
            self.write("swap.py", app)
            run = self.bloodroot("matrix", "--format", "json")
            self.assertEqual(run.err, "")
            rows = json.loads(run.out)["rows"]
            words = {
                f"{' '.join(row['methods'])} {row['template']}": [
                    f"if {cell['remainder']}" if cell["remainder"] else cell["outcome"]
                    for cell in row["cells"].values()
                ]
                for row in rows
            }
            self.assertEqual(words, ROWS)
            guards = {row["template"]: [guard["place"]["file"] for guard in row["guards"]] for row in rows}
            self.assertEqual(guards["/ledger"], ["swap.py"])
            self.assertEqual(guards["/**"], [])

    def test_why_and_check(self) -> None:
        said = self.bloodroot("why", "member", "DELETE", "/packets/2", "--record", '{"owner": "ash"}').out
        self.assertIn("deny (own-packet)", said)
        self.assertRegex(said, r'swap\.py:\d+ +@guard\("packet:remove"\)')
        self.assertEqual(self.bloodroot("check", "--fail-on", "warning").status, 0)
        # A guard that was forgotten, and one that names what the policy does not know.
        self.write("swap.py", FLASK.replace("LEDGER", ""))
        run = self.bloodroot("check", "--only", "guard-missing")
        self.assertEqual((run.status, run.out), (2, ""))
        self.assertIn("GET /ledger is guarded, and no guard is around ledger.", run.err)
        self.write("swap.py", FASTAPI.replace('"steward"', '"stewrad"'))
        self.assertIn('unknown role "stewrad"; did you mean "steward"?', self.bloodroot("check").out)
        run = self.bloodroot("matrix")
        self.assertEqual((run.status, run.out), (2, ""))
        self.assertIn('unknown role "stewrad"; did you mean "steward"?', run.err)

    def test_the_probe(self) -> None:
        self.assertIn("0 holes, 0 blocked, 18 agree;", self.ran("probe"))
        # The ledger's guard is taken off once the application has been read: the probe notices.
        self.write(
            "hole.py",
            """
            import swap

            app = swap.app

            def reset():
                app.view_functions["ledger"] = swap.ledger.__wrapped__
            """,
        )
        self.write("bloodroot.toml", SETTINGS.replace("swap:", "hole:"))
        self.write(
            "access.bloodroot",
            POLICY.replace("any       /**       guarded", "GET /ledger signed-in\n      any /** guarded"),
        )
        run = self.bloodroot("probe")
        self.assertEqual(run.status, 1, run.out + run.err)
        self.assertIn("declared deny for member", run.out)
