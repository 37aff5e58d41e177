"""Frameworks beside the four: every cell of a small matrix, over sockets; their routes; sockets; odd spellings."""

import contextlib
import json
import logging
import unittest
from pathlib import Path
from typing import Any

from websockets.exceptions import WebSocketException
from websockets.sync.client import connect

from tests.frameworks.potteries import ALL, TEXT, WSGI
from tests.program import InFolder, forked
from tests.servers import ask

ROOT = str(Path(__file__).parent.parent.parent)

# What a signed-out caller, a member and a keeper get.
CELLS = (
    ("GET", "/open", (200, 200, 200)),
    ("GET", "/pieces", (401, 200, 200)),
    ("GET", "/pieces/1", (401, 200, 200)),
    ("GET", "/pieces/2", (401, 403, 200)),
    ("GET", "/pieces/7", (401, 404, 200)),
    ("PUT", "/pieces/1", (401, 403, 200)),
    ("PATCH", "/pieces/1", (401, 403, 200)),
    ("GET", "/memos", (401, 403, 200)),
    ("GET", "/broken", (401, 403, 500)),
    ("GET", "/closed", (403, 403, 403)),
    ("GET", "/staff/kilns", (404, 404, 200)),
    ("GET", "/staff/nothing", (404, 404, 404)),
    ("HEAD", "/pieces/2", (401, 403, None)),
    ("DELETE", "/pieces/1", (403, 403, 403)),
    ("OPTIONS", "/pieces/1", (403, 403, 403)),
    ("get", "/pieces/1", (400, 400, 400)),
    ("GET", "/pieces/%32", (401, 403, 200)),
    ("GET", "/PIECES/2", (404, 404, 404)),
)
ODD = (
    "/pieces//2",
    "/pieces/2/",
    "/./pieces/2",
    "/open/../pieces/2",
    "/open%2f..%2fpieces/2",
    "/pieces/2;x",
    "/pieces%2f2",
)


class OtherFrameworks(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)
        cls.made = {name: make() for name, make in ALL.items()}
        cls.ports = {name: cls.enterClassContext(made.serve(made.app)) for name, made in cls.made.items()}

    def test_every_cell_of_each(self) -> None:
        for name, port in self.ports.items():
            with self.subTest(name):
                for method, path, statuses in CELLS:
                    for who, status in zip((None, "ash", "hazel"), statuses, strict=True):
                        headers = {"x_who": who} if who else {}
                        with self.subTest(name, who=who, asked=f"{method} {path}"):
                            found, sent, body = ask(port, method, path, **headers)
                            if status is not None:
                                # Without routes what is not declared is closed, whether it is there or not.
                                closed = name == "Litestar" and path == "/PIECES/2"
                                # Sanic does not decode its parameters: there is no such record.
                                missing = name == "Sanic" and path == "/pieces/%32" and who == "ash"
                                self.assertEqual(found, 403 if closed else 404 if missing else status)
                            if found in (401, 403):
                                self.assertEqual(sent["cache-control"], "no-store")
                            if found >= 400 and path != "/broken":
                                self.assertNotRegex(body, "piece 2|kilns|closed|put|changed")
                for path in ODD:
                    with self.subTest(name, odd=path):
                        status, _, body = ask(port, "GET", path, x_who="ash")
                        self.assertNotIn("piece 2", body)
                        self.assertGreaterEqual(status, 301)
                hidden = [ask(port, "GET", path, x_who="ash") for path in ("/staff/kilns", "/staff/nothing")]
                self.assertEqual(*((status, body) for status, _, body in hidden), name)

    def test_sockets(self) -> None:
        for name, port in self.ports.items():
            if name not in WSGI:
                for who, opens in ((None, False), ("ash", False), ("hazel", True)):
                    with self.subTest(name, who=who):
                        self.assertEqual(_said(port, who), "live" if opens else None)

    def test_their_routes(self) -> None:
        for name, made in self.made.items():
            found = {(method, route.path) for route in made.routes(made.app) for method in route.methods}
            with self.subTest(name):
                expected = {(method, path) for method, path, _ in CELLS[:4]} - {
                    ("GET", "/pieces/1"),
                    ("GET", "/pieces/2"),
                }
                self.assertLessEqual(expected | {("PUT", "/pieces/{piece}"), ("GET", "/pieces/{piece}")}, found)
                self.assertTrue(all(route.exact for route in made.routes(made.app)))


def _said(port: int, who: str | None) -> Any:
    """What a socket says first; None where it does not open."""
    try:
        with connect(
            f"ws://127.0.0.1:{port}/live", additional_headers={"x-who": who} if who else {}, proxy=None
        ) as there:
            return there.recv(5)
    except WebSocketException:
        return None


SETTINGS = """
policy = "access.bloodroot"
app = "pots:app"
{url}
[personas.visitor]
signed_in = false
[personas.ash]
roles = ["member"]
attributes = {{ id = 1 }}
[personas.hazel]
roles = ["keeper"]
attributes = {{ id = 2 }}
[samples]
piece = "1"
[samples.own]
holds = {{ piece = "1" }}
fails = {{ piece = "2", mark = "piece 2" }}
[probe]
reset = "pots:reset"
exclude = ["PATCH *", "GET /broken", "GET /memos"{more}]
[probe.sign_in]
how = "header"
fields = {{ "x-who" = "{{persona.name}}" }}
"""
MODULE = """
from tests.frameworks.potteries import {make}
app = {make}({how}).app
def reset(): ...
"""


class Probed(InFolder):
    """Each as the commands see it, protected and not; what is seen is the table of docs/frameworks.md."""

    runs = staticmethod(forked)

    def test_survey_check_and_probe(self) -> None:
        text = TEXT.replace("guarded  accept guard-missing", "keeper  accept guard-missing")
        table = ["| framework | survey | enforced | guards | probe | sockets |", "|---|---|---|---|---|---|"]
        for name, make in ALL.items():
            lines = [line for line in text.splitlines() if name not in WSGI or "WEBSOCKET" not in line]
            self.write("access.bloodroot", "\n".join(lines).replace('accept guard-missing "found by its name"', ""))
            module = {"make": make.__name__, "how": ""}
            with self.subTest(name), contextlib.ExitStack() as stack:
                url = ""
                if name == "aiohttp":
                    made = make()
                    port = stack.enter_context(made.serve(made.app))
                    url = f'url = "http://127.0.0.1:{port}"'
                self.write("bloodroot.toml", SETTINGS.format(url=url, more=', "PUT *"' if url else ""))
                self.write("pots.py", MODULE.format(**module))
                found = json.loads(self.ran("survey", "--format", "json", status=1, PYTHONPATH=ROOT))
                self.assertEqual({row["template"] for row in found["endpoints"] if row["line"] is None}, {"/closed"})
                self.assertIn(
                    "GET /closed", self.ran("check", "--only", "endpoint-without-line", status=1, PYTHONPATH=ROOT)
                )
                runs = self.installed if name == "Sanic" else self.bloodroot
                probed = runs("probe", PYTHONPATH=ROOT)
                self.assertIn("As declared: 0 holes, 0 blocked", probed.out)
                if name not in ("aiohttp", "Sanic"):  # a second application of Sanic does not begin in a process
                    self.write("pots.py", MODULE.format(**{**module, "how": "protected=False"}))
                    open_one = json.loads(self.ran("probe", "--format", "json", status=1, PYTHONPATH=ROOT))
                    holes = {
                        (row["method"], row["template"]) for row in open_one["observations"] if row["verdict"] == "hole"
                    }
                    self.assertGreaterEqual(len(holes), 5, holes)
                by = "path" if name == "Litestar" else "route"
                where = "over HTTP" if name == "aiohttp" else "here, over HTTP"
                table.append(f"| {name} | yes | by {by} | yes | {where} | {'no' if name in WSGI else 'yes'} |")
        document = (Path(ROOT) / "docs" / "frameworks.md").read_text("utf-8")
        self.assertIn("\n".join(table), document, "write this table into docs/frameworks.md")

    def test_what_is_only_reported_is_a_hole(self) -> None:
        """The refusals of the log are none of the application's."""
        self.write("access.bloodroot", "\n".join(line for line in TEXT.splitlines() if "guarded" not in line))
        self.write("bloodroot.toml", SETTINGS.format(url="", more=""))
        self.write(
            "pots.py",
            """
            from tests.frameworks import potteries
            potteries.HOW["report_only"] = True
            app = potteries.of_flask().app
            def reset(): ...
            """,
        )
        found = json.loads(self.ran("probe", "--format", "json", status=1, PYTHONPATH=ROOT))
        holes = {(row["template"], row["persona"]) for row in found["observations"] if row["verdict"] == "hole"}
        self.assertLessEqual({("/pieces", "visitor"), ("/pieces/{piece}", "ash"), ("/closed", "hazel")}, holes)
