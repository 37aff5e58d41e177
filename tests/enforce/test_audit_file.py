"""The audit log that a thread writes: every decision is there, and what is not to be lost is refused."""

import json
import logging
import os
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import Audit, AuditFile, AuditFullError, asgi, wsgi
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.enforce.orchard import Silent
from tests.servers import ask, serving, serving_wsgi

POLICY = bloodroot.parse("roles\n  keeper\nendpoints\n  GET /lots keeper\n  GET /open anyone\n")
LOG = logging.getLogger("bloodroot.audit")


def record(number: int) -> logging.LogRecord:
    return LOG.makeRecord(LOG.name, logging.INFO, "", 0, "words", (), None, extra={"path": f"/lots/{number}"})


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "audit.jsonl"

    def paths(self) -> list[str]:
        return [json.loads(line)["path"] for line in self.file.read_text("utf-8").splitlines()]

    def test_every_decision_is_written_in_order(self) -> None:
        handler = AuditFile(self.file, room=7)
        for number in range(500):
            handler.handle(record(number))
        handler.close()
        self.assertEqual(self.paths(), [f"/lots/{number}" for number in range(500)])
        handler.handle(record(500))
        handler.close()
        self.assertEqual(len(self.paths()), 501)

    def test_a_process_that_was_forked_writes_as_well(self) -> None:
        handler = AuditFile(self.file)
        handler.handle(record(0))
        child = os.fork()
        if not child:
            handler.handle(record(1))
            handler.close()
            os._exit(0)
        os.waitpid(child, 0)
        handler.close()
        self.assertEqual(sorted(self.paths()), ["/lots/0", "/lots/1"])

    def test_a_disk_that_is_full_for_a_while(self) -> None:
        handler, written = AuditFile(self.file), os.write
        calls = iter(("half", "full", "half", "full"))

        def write(handle: int, data: bytes) -> int:
            what = next(calls, "")
            if what == "full":
                raise OSError(28, "No space left on device")
            return written(handle, data[:5] if what == "half" else data)

        with (
            mock.patch("bloodroot.enforce.audit_file._PATIENCE", 0.01),
            mock.patch("bloodroot.enforce.audit_file.os.write", write),
            self.assertLogs("bloodroot.enforce", "ERROR") as said,
        ):
            handler.handle(record(0))
            handler.handle(record(1))
            handler.close()
        self.assertEqual(len(said.output), 1)
        self.assertIn("No space left on device; it is tried again", said.output[0])
        whole = [line for line in self.file.read_text("utf-8").splitlines() if line.endswith("}")]
        self.assertEqual([json.loads(line)["path"] for line in whole][-2:], ["/lots/0", "/lots/1"])

    def test_what_it_cannot_be_made_with(self) -> None:
        with self.assertRaises(OSError):
            AuditFile(self.file.parent / "nowhere" / "audit.jsonl")
        for bad in ({"full": "drop"}, {"room": 0}):
            with self.assertRaises(ValueError):
                AuditFile(self.file, **bad)

    def test_where_there_is_no_room_it_waits_or_refuses(self) -> None:
        for full in ("wait", "refuse"):
            handler, gate = AuditFile(self.file, full=full, room=2), threading.Event()
            with mock.patch.object(handler, "_write", lambda records, gate=gate: gate.wait(10)):
                sent = threading.Event()

                def send(handler: AuditFile = handler, sent: threading.Event = sent) -> None:
                    for number in range(5):
                        handler.handle(record(number))
                    sent.set()

                if full == "refuse":
                    self.assertRaises(AuditFullError, send)
                else:
                    thread = threading.Thread(target=send)
                    thread.start()
                    self.assertFalse(sent.wait(0.3))
                    gate.set()
                    thread.join(10)
                    self.assertTrue(sent.is_set())
                gate.set()
                handler.close()


class NoRoom(Silent):
    """No application says anything while its decisions cannot be written down, refusals included."""

    def test_nothing_leaves(self) -> None:
        import flask
        from starlette.applications import Starlette
        from starlette.responses import PlainTextResponse
        from starlette.routing import Route

        class Full(logging.Handler):
            def emit(self, record: logging.LogRecord) -> None:
                raise AuditFullError("no room")

        def who(request: object) -> Caller | None:
            return Caller(3, {"keeper"})

        how = {"identify": who, "audit": Audit("all")}
        page = Starlette(routes=[Route("/lots", lambda request: PlainTextResponse("secret"))])
        for_starlette.protect(page, POLICY, **how)
        app = flask.Flask("orchard", static_folder=None)
        app.add_url_rule("/lots", "lots", lambda: "secret")
        for_flask.protect(app, POLICY, **how)

        async def bare(scope: dict, receive: Any, send: Any) -> None:
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b"secret"})

        def bare_wsgi(environ: dict, start: Any) -> list[bytes]:
            start("200 OK", [])
            return [b"secret"]

        full, level = Full(), LOG.level
        LOG.addHandler(full)
        LOG.setLevel(logging.INFO)
        logging.disable(logging.NOTSET)
        self.addCleanup(LOG.setLevel, level)
        self.addCleanup(LOG.removeHandler, full)
        for serve, application in (
            (serving, page),
            (serving_wsgi, app),
            (serving, asgi.AccessMiddleware(bare, POLICY, **how)),
            (serving_wsgi, wsgi.AccessMiddleware(bare_wsgi, POLICY, **how)),
        ):
            with self.subTest(type(application).__module__), serve(application) as port:
                try:
                    status, _, body = ask(port, "GET", "/lots")
                except OSError:
                    continue  # the connection is closed without an answer
                except Exception as error:
                    self.assertIn(type(error).__name__, ("RemoteDisconnected", "BadStatusLine", "IncompleteRead"))
                    continue
                self.assertGreaterEqual(status, 500)
                self.assertNotIn("secret", body)
