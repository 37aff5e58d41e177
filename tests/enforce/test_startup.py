"""What is told at start, and what is an error there: what is declared and could never take effect."""

import unittest
from typing import Any

import fastapi
import flask
from starlette.applications import Starlette
from starlette.routing import Route, WebSocketRoute

import bloodroot
from bloodroot.enforce import StartUpError, current, guard, wsgi
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from bloodroot.enforce.guards import guards_of
from tests.enforce.stacks import POLICY, identify


class StartingUp(unittest.TestCase):
    TEXT = """
roles
  keeper
endpoints
  GET  /lots          keeper
  GET  /lots/{lot_id}  keeper
  PUT  /lots/{lot_id}  keeper
  GET  /memos         guarded
  GET  /drafts        guarded
  GET  /hidden        guarded  accept guard-missing "its class asks"
  GET  /gone          keeper
always
  /old/**             keeper
"""

    def test_what_is_declared_and_can_never_take_effect(self) -> None:
        policy = bloodroot.parse(self.TEXT, "tarn.bloodroot")

        @guard("keeper", policy=policy)
        def memos(request: Any) -> Any: ...

        def other(request: Any) -> Any: ...

        def calling(request: Any) -> Any:
            return memos(request)

        unguarded = Starlette(routes=[Route("/drafts", other)])
        with self.assertRaisesRegex(
            StartUpError, r"GET /drafts is guarded, and no guard is around other\. Put a guard"
        ):
            for_starlette.protect(unguarded, policy, identify=identify)
        app = Starlette(
            routes=[
                Route("/lots", other),
                Route("/lots/{lot_id}", other, methods=["GET", "DELETE"]),
                Route("/memos", memos),
                Route("/drafts", calling),
                Route("/hidden", other),
                WebSocketRoute("/live", other),
            ]
        )
        with self.assertLogs("bloodroot.enforce", "INFO") as logs:
            started = for_starlette.protect(app, policy, identify=identify)
        self.assertEqual((started.endpoints, started.closed), (7, ("DELETE /lots/{lot_id}", "WEBSOCKET /live")))
        expected = [
            r"INFO:.*7 endpoints, 2 without a line, \d+ guards",
            r"WARNING:.*no line covers DELETE /lots/\{lot_id\}, so it is closed to all callers",
            r"WARNING:.*no line covers WEBSOCKET /live",
            r"WARNING:.*tarn.bloodroot:7: No endpoint of the application is at /lots/\{lot_id\}\. Correct",
            r"WARNING:.*tarn.bloodroot:11: No endpoint of the application is at /gone\.",
            r"WARNING:.*tarn.bloodroot:13: No endpoint of the application is covered by /old/\*\* keeper\.",
            r"WARNING:.*tarn.bloodroot:9: GET /drafts is guarded, and no guard is around calling. It calls a function",
        ]
        self.assertEqual(len(logs.output), len(expected))
        for line, pattern in zip(logs.output, expected, strict=True):
            self.assertRegex(line, pattern)

    def test_too_late_is_told(self) -> None:
        app = Starlette()
        app.middleware_stack = app.build_middleware_stack()
        with self.assertRaisesRegex(StartUpError, "the application has started"):
            for_starlette.protect(app, POLICY.bind([bloodroot.Route("send_parcel", (), "/x")]), identify=identify)
        with self.assertRaisesRegex(bloodroot.PolicyError, "unknown action"):
            for_flask.protect(flask.Flask("tarn"), POLICY, identify=identify)

    def test_wsgi_waits_for_nothing(self) -> None:
        async def later(request: Any) -> Any: ...

        policy = bloodroot.parse(self.TEXT)
        for how in ({"identify": later}, {"identify": identify, "records": {"lot_id": later}}):
            with self.assertRaisesRegex(TypeError, "later is async, and WSGI waits for nothing"):
                wsgi.AccessMiddleware(lambda environ, start: [], policy, **how)

    def test_records_that_nothing_loads(self) -> None:
        policy = bloodroot.parse(
            "conditions\n  own record.owner == caller.id\n  inside record.plot == records.plot_id.id\nendpoints\n"
            "  GET /mine own\n  GET /settled own\n  GET /plots/{plot_id}/{note_id} inside\n  GET /notes/{note_id} own\n"
        )

        def plain(request: Any) -> Any: ...

        def settled(request: Any) -> Any:
            helper()

        def helper() -> None:
            current().settle({"owner": 3})

        routes = {"/mine": plain, "/settled": settled, "/plots/{plot_id}/{note_id}": plain, "/notes/{note_id}": plain}
        for paths, records, message in (
            (("/mine",), {}, r"GET /mine depends on a record, and has no parameter .* its handler does not settle it"),
            (("/settled",), {}, None),
            (("/notes/{note_id}",), {"note_id": str}, None),
            (
                ("/plots/{plot_id}/{note_id}",),
                {"note_id": str},
                "depends on records.plot_id.id, and there is no loader for",
            ),
            (("/plots/{plot_id}/{note_id}",), {"note_id": str, "plot_id": str}, None),
            (("/settled",), {"plot": str}, 'records has a loader for "plot", which is no parameter of any route'),
        ):
            app = Starlette(routes=[Route(each, routes[each]) for each in paths])
            with self.subTest(paths, records=records):
                if message is None:
                    started = for_starlette.protect(app, policy, identify=identify, records=records)
                    self.assertNotIn("record-not-settled", [each.name for each in started.findings])
                    continue
                with self.assertRaisesRegex(StartUpError, message):
                    for_starlette.protect(app, policy, identify=identify, records=records)
        # With a parameter, what the handler calls may settle the record out of sight: start-up says what it sees.
        app = Starlette(routes=[Route("/notes/{note_id}", plain)])
        started = for_starlette.protect(app, policy, identify=identify)
        self.assertIn("GET /notes/{note_id} depends on a record, and has no loader for a parameter", str(started.idle))
        self.assertIn("its handler does not settle it", str(started.idle))


class NeverRun(unittest.TestCase):
    """A guard that the framework would not run is an error at start."""

    POLICY = bloodroot.parse("roles\n  grower\n  keeper\n  clerk\nendpoints\n  any /lots/{lot_id} keeper\n")

    def test_above_the_decorator_of_a_route(self) -> None:
        app = flask.Flask("tarn", static_folder=None)

        @guard("keeper", policy=self.POLICY)
        @app.get("/lots/<lot_id>")
        def lot(lot_id: str) -> str:
            return "lot"

        api = fastapi.FastAPI(openapi_url=None, docs_url=None)

        @guard("keeper", policy=self.POLICY)
        @api.get("/lots/{lot_id}")
        def lot_of_api(lot_id: str) -> str:
            return "lot"

        for protect, each in ((for_flask.protect, app), (for_fastapi.protect, api)):
            with self.assertRaisesRegex(
                StartUpError, r"guard\(\"keeper\"\): this guard is never run: .*put the guard below"
            ):
                protect(each, self.POLICY, identify=identify)
        self.assertTrue(guards_of(lot) and guards_of(lot_of_api))
