"""Drafts: a policy from a survey, with everything in it and everything closed."""

import json
import re

from bloodroot import Caller, load
from bloodroot.core.decision import Outcome
from bloodroot.language.reader import RESERVED
from bloodroot.settings import read_settings
from tests.program import InFolder
from tests.survey.test_survey import FASTAPI, FLASK, OPENAPI, STARLETTE, line

ODD = ["GET", "x y", "%7Bz%7D", "1", "-", "_", "ä", "a'b", "a:b", "a.b", "#", "roles", "endpoints", "policy", "series"]


class Drafts(InFolder):
    def document(self, paths: dict[str, dict], name: str = "odd.json") -> None:
        self.write(name, json.dumps({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}))

    def test_every_source_gives_a_policy_that_covers_it_and_opens_nothing(self) -> None:
        self.write("tarn.py", STARLETTE)
        self.write("bank.py", FLASK)
        self.write("quick.py", FASTAPI)
        self.write("tarn.yaml", OPENAPI.replace("parts/lot.yaml#/lot", "#/paths/~1lots"))
        segments = [*sorted(RESERVED), *ODD]
        self.document(
            {f"/{each}/{{a}}/{each}": {"get": {"summary": 'say "no"\\\n#'}, "post": {}} for each in segments}
            | {f"/{each}": {"delete": {}} for each in segments}
            | {"/{a}/{b}": {"trace": {}}, "/{b}": {"get": {}}, "/q/{a}.json": {"get": {}}, "/q/{b}.xml": {"get": {}}}
        )
        self.write("a.log", "".join(line("GET", f"/lots/{number}/{word}") for number in range(3) for word in ODD[3:7]))
        callers = [None, Caller("ash", roles={"user"}), Caller("elm", roles={"admin"})]
        for number, source in enumerate(
            ("tarn:app", "bank:app", "quick:app", "tarn.yaml", "odd.json", "a.log", ("bank:app", "odd.json"))
        ):
            with self.subTest(source):
                sources = source if isinstance(source, tuple) else (source,)
                out = f"policy{number}.bloodroot"
                run = self.bloodroot("draft", *sources, "--out", out)
                self.assertEqual(run.status, 0, run.err)
                self.assertRegex(
                    run.out,
                    rf"^wrote {out}: \d+ endpoints?, all of them closed( but for 1 that their guards decide)?\n",
                )
                self.assertEqual(self.bloodroot("format", "--check", out).status, 0)
                run = self.bloodroot("survey", *sources, "--policy", out, "--format", "json")
                result = json.loads(run.out)
                uncovered = [each["template"] for each in result["endpoints"] if each["line"] is None]
                self.assertEqual((run.status, uncovered, result["idle"]), (0, [], []), run.err)
                policy = load(self.folder / out)
                for each in result["endpoints"]:
                    self.assertRegex(each["requirement"], r"^(guarded|[\w-]+:[\w-]+)$")
                    path = re.sub(r"\{[^}]*\}", "7", each["template"])
                    closed = {Outcome.DENY, Outcome.SIGN_IN}
                    if each["requirement"] == "guarded":
                        closed = {Outcome.DEPENDS}
                    for caller in callers:
                        decision = policy.decide(caller, each["method"].replace("any", "PUT"), path)
                        self.assertIn(decision.outcome, closed, (path, caller))

    def test_names_say_what_they_stand_for(self) -> None:
        self.document(
            {
                "/api/v2/trials": {"get": {}, "post": {}},
                "/api/v2/trials/new": {"get": {}},
                "/api/v2/trials/{trial}": {"get": {}, "post": {}, "patch": {}, "delete": {}},
                "/api/v2/trials/{trial}/edit": {"get": {}, "post": {}},
                "/api/v2/trials/{trial}/entries": {"get": {}},
                "/": {"get": {}},
            }
        )
        self.bloodroot("draft", "odd.json", "--name", "Tarn Bank")
        text = (self.folder / "access.bloodroot").read_text("utf-8")
        self.assertTrue(text.startswith('policy "Tarn Bank"\n'))
        for method, path, permission in (
            ("GET", "/", "page:read"),
            ("GET", "/api/v2/trials", "trial:list"),
            ("POST", "/api/v2/trials", "trial:add"),
            ("GET", "/api/v2/trials/new", "trial:add"),
            ("GET", "/api/v2/trials/{trial}", "trial:read"),
            ("POST", "/api/v2/trials/{trial}", "trial:edit"),
            ("PATCH", "/api/v2/trials/{trial}", "trial:edit"),
            ("DELETE", "/api/v2/trials/{trial}", "trial:remove"),
            ("POST", "/api/v2/trials/{trial}/edit", "trial:edit"),
            ("GET", "/api/v2/trials/{trial}/entries", "entry:list"),
        ):
            self.assertRegex(text, rf"(?m)^  {method} +{re.escape(path)} +{permission}$")
            self.assertRegex(text, rf"(?m)^  {permission} +nobody$")

    def test_guards_and_declared_security_are_carried_over(self) -> None:
        self.write("tarn.py", STARLETTE)
        self.write("tarn.yaml", OPENAPI.replace("parts/lot.yaml#/lot", "#/paths/~1lots"))
        self.bloodroot("draft", "tarn:app", "tarn.yaml")
        text = (self.folder / "access.bloodroot").read_text("utf-8")
        self.assertRegex(text, r"POST +/open/\*\* +guarded")
        self.assertRegex(text, r'(?m)^  keeper +"named by a guard')
        self.assertRegex(text, r'GET +/v1/lots +\S+ +"Every lot.; declared: bearer read"')
        self.assertRegex(text, r'POST +/v1/lots +\S+ +"declared: open"')
        self.write("tarn.py", STARLETTE.replace('"keeper or args', '"keeper and not sealed or args'))
        run = self.bloodroot("draft", "tarn:app", "--out", "not.bloodroot")
        self.assertEqual(run.status, 0, run.err)
        text = (self.folder / "not.bloodroot").read_text("utf-8")
        self.assertRegex(text, r"POST +/open/\*\* +nobody")
        self.assertRegex(text, r"(?m)^  sealed +\"named by a guard")
        # The settings that come with it are read as they are, and name what the parameters need.
        settings = read_settings(self.folder / "bloodroot.toml")
        self.assertEqual((settings.app, settings.openapi), ("tarn:app", self.folder / "tarn.yaml"))
        self.assertEqual([*settings.personas], ["visitor", "user", "editor", "admin"])
        self.assertIn("# lot = 1", (self.folder / "bloodroot.toml").read_text("utf-8"))
        self.write("tarn.py", STARLETTE)
        for command in ("matrix", "survey"):
            run = self.bloodroot(command)
            self.assertEqual(run.status, 0, run.err)

    def test_update_adds_what_is_missing_and_touches_nothing_else(self) -> None:
        old = "roles\n  keeper   # as ever\n\nendpoints\n  GET /lots    keeper\n  GET /gone   anyone\n\n\n"
        self.write("access.bloodroot", old)
        self.write("tarn.py", STARLETTE)
        run = self.bloodroot("draft", "tarn:app", "--update")
        self.assertEqual(run.status, 0, run.err)
        self.assertIn("access.bloodroot: 7 lines added, for nobody yet", run.out)
        text = (self.folder / "access.bloodroot").read_text("utf-8")
        self.assertTrue(text.startswith(old.rstrip() + "\n\nendpoints\n"))
        added = text.removeprefix(old.rstrip()).splitlines()[3:]
        self.assertEqual(len(added), 7)
        self.assertTrue(all(re.search(r" nobody( |$)", each) for each in added), added)
        self.assertEqual(self.bloodroot("survey", "tarn:app").status, 0)
        run = self.bloodroot("draft", "tarn:app", "--update")
        self.assertIn("covers every endpoint", run.out)
        self.assertEqual((self.folder / "access.bloodroot").read_text("utf-8"), text)
        self.assertFalse((self.folder / "bloodroot.toml").exists())

    def test_refused_and_nothing_written(self) -> None:
        self.document({}, "none.json")
        self.document({"/x": {"get": {}}})
        self.write("there.bloodroot", "endpoints\n")
        self.write("broken.bloodroot", "endpoints\n  GET /x keper\n")
        for words, message in (
            (("none.json",), "none.json: there are no endpoints to draft a policy for"),
            (("odd.json", "--out", "there.bloodroot"), "there.bloodroot is there already; --update adds"),
            (("odd.json", "--update"), "there is no access.bloodroot to update"),
            (("odd.json", "--update", "--out", "broken.bloodroot"), "keper"),
            (("nowhere:app",), "nowhere"),
            ((), "there is nothing to survey"),
        ):
            with self.subTest(words):
                run = self.bloodroot("draft", *words)
                self.assertEqual((run.status, run.out), (2, ""), run.err)
                self.assertIn(message, run.err)
        self.assertEqual(
            sorted(file.name for file in self.folder.iterdir()),
            ["broken.bloodroot", "none.json", "odd.json", "there.bloodroot"],
        )
        self.assertEqual((self.folder / "there.bloodroot").read_text("utf-8"), "endpoints\n")
