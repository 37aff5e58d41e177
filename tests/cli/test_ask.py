"""bloodroot ask: one request to the running application as a persona, beside what is declared."""

from __future__ import annotations

import json

from tests.cli.test_guarded_application import FLASK, POLICY, SETTINGS
from tests.program import InFolder

ECHO = """
    @app.post("/echo")
    @guard("member")
    def echo():
        return f"{request.content_type} {request.headers.get('X-Note')} {request.get_data(as_text=True)}\\x1b[31m"

    policy"""


class Ask(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS + '    [bodies]\n    "POST /echo" = { form = { seed = "fern" } }\n')
        app = FLASK.replace("LEDGER", '@guard("steward")').replace("\n    policy", ECHO, 1)
        self.write("swap.py", app)

    def asked(self, *words: str, status: int = 0) -> dict[str, object]:
        run = self.bloodroot("ask", *words, "--format", "json")
        self.assertEqual(run.status, status, run.err)
        found: dict[str, object] = json.loads(run.out)
        return found

    def test_what_comes_back_beside_what_is_declared(self) -> None:
        for who, method, path, answered, outcome in (
            ("member", "GET", "/ledger", 403, "deny"),
            ("steward", "get", "/ledger", 200, "allow"),
            ("visitor", "GET", "/ledger", 401, "sign-in"),
            ("signed-out", "GET", "/?a=1", 200, "allow"),
            ("member", "DELETE", "/packets/1", 200, "depends"),
            ("member", "DELETE", "/packets/2", 403, "depends"),
            ("member", "GET", "/nowhere", 404, "depends"),
        ):
            with self.subTest(who=who, path=path):
                found = self.asked(who, method, path, status=3 if outcome == "depends" else 0)
                self.assertEqual((found["response"]["status"], found["declared"]["outcome"]), (answered, outcome))  # type: ignore[index]

    def test_an_answer_against_the_policy(self) -> None:
        head = "roles\n  member\n  steward includes member\nconditions\n  own-packet record.by == caller.id\n"
        head += "endpoints\n  POST /echo anyone\n  GET /ledger "
        for requires, who in (("member", "member"), ("nobody", "steward"), ("anyone", "visitor")):
            self.write("other.bloodroot", head + requires)
            out = self.ran("ask", who, "GET", "/ledger", "--policy", "other.bloodroot", status=1)
            self.assertIn("The application does not answer as declared.", out)
        self.ran("ask", "member", "GET", "/nowhere", "--allow-unjudged")

    def test_bodies_and_headers(self) -> None:
        def body(*words: str) -> str:
            return self.asked("member", "POST", "/echo", *words)["response"]["body"]  # type: ignore[index, no-any-return]

        self.assertEqual(body()[:51], "application/x-www-form-urlencoded None seed=fern\x1b[31m"[:51])
        self.write("a.json", '{"a": 1}')
        self.assertIn(
            'application/json hello {"a": 1}', body("--body", "a.json", "--header", "X-Note: hello").replace("\n", "")
        )
        shown = self.bloodroot("ask", "member", "POST", "/echo").out
        self.assertIn("POST /echo as member answered 200 OK", shown)
        self.assertIn("Sent with the body of [bodies] of the settings.", shown)
        self.assertIn("The policy lets this caller in:", shown)
        self.assertNotIn("\x1b", shown)

    def test_mistakes(self) -> None:
        for words, message in (
            (("membr", "GET", "/"), 'unknown persona "membr"; did you mean "member"?'),
            (("member", "GET", "ledger"), '"ledger" is no path'),
            (("member", "GTE", "/ledger"), '"GTE" is no method'),
            (("member", "GET", "/", "--header", "Accept"), "write a name, a colon and a value"),
            (("member", "GET", "/", "--body", "lost.json"), "lost.json: No such file"),
        ):
            run = self.bloodroot("ask", *words)
            self.assertEqual((run.status, run.out), (2, ""), words)
            self.assertIn(message, run.err)
        self.write("bloodroot.toml", SETTINGS.replace('path = "/sign-in"', 'path = "/lost"'))
        self.assertIn("could not sign in", self.bloodroot("ask", "member", "GET", "/").err)
