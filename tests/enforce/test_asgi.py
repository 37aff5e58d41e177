"""The policy in front of an ASGI application, served for real."""

import json
import unittest
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import Refusal, current
from bloodroot.enforce.asgi import AccessMiddleware, Request
from bloodroot.enforce.responses import is_program
from tests.policies import POLICY
from tests.servers import ask, serving

CALLERS = {
    "new": Caller(1, attributes={"status": "active"}),
    "grower": Caller(3, {"grower"}, attributes={"status": "active"}),
    "asleep": Caller(3, {"grower"}, attributes={"status": "asleep"}),
    "keeper": Caller(4, {"keeper"}, attributes={"status": "active"}),
    "clerk": Caller(5, {"clerk"}, attributes={"status": "active"}),
}
PLOTS = {"7": {"grower_id": 3, "state": "dug"}, "8": {"grower_id": 9, "state": "dug"}}


def identify(request: Request) -> Caller | None:
    name = request.headers.get("x-caller")
    if name == "broken":
        raise ValueError("unreadable")
    if name == "wrong":
        return "clerk"  # type: ignore[return-value]
    return CALLERS.get(name or "")


async def application(scope: Any, receive: Any, send: Any) -> None:
    """Says what it was asked; under ``/plots/../sow`` the handler settles, or does what the header says."""
    reached.append((scope["method"], scope["path"]))
    headers = dict(scope["headers"])
    how = headers.get(b"x-how", b"settle").decode()
    status = 200
    if scope["path"].endswith("/sow"):
        plot = PLOTS.get(scope["path"].split("/")[2])
        if how == "swallow":
            try:
                current().settle(plot)
            except Refusal:
                how = "ignore"
        elif how == "other":
            for each in (plot, PLOTS["7"]):
                try:
                    current().settle(each)
                except Refusal:
                    continue
        elif how == "settle":
            current().settle(plot)
        elif how == "missing":
            status = 404
        elif how == "fail":
            raise RuntimeError("out of seed")
    body = f"{scope['method']} {scope['path']} for {current().caller and current().caller.id}".encode()
    await send({"type": "http.response.start", "status": status, "headers": [(b"x-app", b"yes")]})
    await send({"type": "http.response.body", "body": body[:5], "more_body": True})
    await send({"type": "http.response.body", "body": body[5:]})


reached: list[tuple[str, str]] = []


class Asgi(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        async def slow_record(text: str) -> Any:
            return PLOTS.get(text)

        wrapped = AccessMiddleware(application, POLICY, identify=identify, settles=["* /plots/*"])
        left_open = AccessMiddleware(application, POLICY, identify=identify, settles=["PATCH *"])
        loaded = AccessMiddleware(application, POLICY, identify=identify, records={"plot_id": PLOTS.get})
        waited = AccessMiddleware(application, POLICY, identify=identify, records={"plot_id": slow_record})
        cls.ports = {}
        for name, app in (("settled", wrapped), ("open", left_open), ("loaded", loaded), ("waited", waited)):
            server = serving(app)
            cls.ports[name] = server.__enter__()
            cls.addClassCleanup(server.__exit__, None, None, None)

    def setUp(self) -> None:
        reached.clear()

    def test_each_request_gets_its_answer(self) -> None:
        for app, caller, method, path, status in (
            ("settled", "", "GET", "/", 200),
            ("settled", "", "GET", "/lots", 401),
            ("settled", "new", "GET", "/lots", 200),
            ("settled", "new", "GET", "/lots/", 200),
            ("settled", "new", "GET", "/lots?page=2", 200),
            ("settled", "new", "PUT", "/lots/7", 403),
            ("settled", "keeper", "PUT", "/lots/7", 200),
            ("settled", "keeper", "GET", "/nowhere", 403),
            ("settled", "asleep", "PATCH", "/plots/7", 403),
            ("settled", "new", "GET", "/people/1", 200),
            ("settled", "new", "GET", "/people/2", 403),
            ("settled", "broken", "GET", "/", 500),
            ("settled", "wrong", "GET", "/", 500),
            ("settled", "grower", "PATCH", "/plots/7", 500),
            ("loaded", "grower", "PATCH", "/plots/7", 200),
            ("loaded", "grower", "PATCH", "/plots/8", 403),
            ("loaded", "grower", "PATCH", "/plots/9", 404),
            ("loaded", "new", "PATCH", "/plots/9", 403),
            ("loaded", "", "PATCH", "/plots/9", 401),
            ("loaded", "keeper", "PATCH", "/plots/9", 200),
            ("waited", "grower", "PATCH", "/plots/7", 200),
            ("waited", "grower", "PATCH", "/plots/8", 403),
            ("waited", "grower", "PATCH", "/plots/9", 404),
        ):
            with self.subTest(f"{app}: {method} {path} as {caller or 'nobody'}"):
                reached.clear()
                with self.assertNoLogs("x"), _quiet():
                    got, headers, _ = ask(self.ports[app], method, path, x_caller=caller)
                self.assertEqual(got, status)
                self.assertEqual("x-app" in headers, status == 200)
                if status in (400, 401, 403, 404):
                    self.assertEqual(reached, [])

    def test_the_handler_settles_what_depends(self) -> None:
        for caller, path, how, status in (
            ("grower", "/plots/7/sow", "settle", 200),
            ("grower", "/plots/8/sow", "settle", 403),
            ("grower", "/plots/8/sow", "swallow", 403),
            ("grower", "/plots/8/sow", "other", 403),
            ("grower", "/plots/7/sow", "other", 200),
            ("grower", "/plots/7/sow", "ignore", 500),
            ("grower", "/plots/9/sow", "missing", 404),
            ("grower", "/plots/9/sow", "settle", 500),
            ("grower", "/plots/7/sow", "fail", 500),
            ("clerk", "/plots/7/sow", "ignore", 403),
        ):
            with self.subTest(f"{how} {path} as {caller}"), _quiet():
                got, headers, body = ask(self.ports["settled"], "POST", path, x_caller=caller, x_how=how)
                self.assertEqual(got, status)
                self.assertEqual("x-app" in headers, status == 200)
                self.assertEqual("sow for 3" in body, status == 200)

    def test_what_nothing_settles_does_not_run(self) -> None:
        with self.assertLogs("bloodroot.enforce", "ERROR") as logs:
            self.assertEqual(ask(self.ports["open"], "POST", "/plots/7/sow", x_caller="grower", x_how="settle")[0], 500)
        self.assertEqual(reached, [])
        self.assertIn("nothing settled ready", logs.output[0])
        with self.assertRaisesRegex(bloodroot.BloodrootError, "there is no such endpoint"):
            AccessMiddleware(application, POLICY, identify=identify, settles=["/nothing/*"])

    def test_what_nobody_settled_is_told_in_the_log(self) -> None:
        with self.assertLogs("bloodroot.enforce", "ERROR") as logs:
            ask(self.ports["settled"], "POST", "/plots/7/sow", x_caller="grower", x_how="ignore")
        self.assertIn("nothing settled ready, which tarn.bloodroot:41 requires", logs.output[0])

    def test_bypasses_reach_no_handler(self) -> None:
        for method, target in (
            *(("GET", target) for target in ("//lots/new", "/lots//new", "/lots/./new", "/x/../lots/new")),
            *(
                ("GET", target)
                for target in ("/lots%2fnew", "/lots%2Fnew", "/%2e%2e/lots/new", "/lots/new;a=b", "/lots/%00")
            ),
            *(("GET", target) for target in ("/lots%5cnew", "/LOTS/NEW", "/lots/new%20", "/lots/%6eew", "/lots/new/")),
            *(("HEAD", "/lots/new"), ("GET", "/lots/new?_method=GET"), ("TRACE", "/lots/new")),
        ):
            with self.subTest(f"{method} {target}"):
                reached.clear()
                status, _, _ = ask(
                    self.ports["settled"], method, target, x_caller="clerk", x_http_method_override="GET"
                )
                if (method, target) in (("GET", "/LOTS/NEW"), ("GET", "/lots/new%20")):
                    # Another page as far as the application is concerned too: no line, or the line for one lot.
                    self.assertIn(status, (200, 403))
                else:
                    self.assertIn(status, (400, 403))
                    self.assertEqual(reached, [])

    def test_bodies_and_headers(self) -> None:
        port = self.ports["settled"]
        status, headers, body = ask(port, "GET", "/lots", accept="application/json")
        self.assertEqual(headers["content-type"], "application/problem+json")
        problem = {"type": "about:blank", "title": "Unauthorized", "status": 401, "detail": "Sign in to use this."}
        self.assertEqual(json.loads(body), problem)
        self.assertEqual(headers["www-authenticate"], 'Bearer realm="Tarn Bank"')
        self.assertEqual(headers["cache-control"], "no-store")
        self.assertIn("Cookie", headers["vary"])
        status, headers, body = ask(port, "GET", "/lots/new", x_caller="new", accept="text/html,*/*;q=0.8")
        self.assertEqual((status, headers["content-type"]), (403, "text/html; charset=utf-8"))
        self.assertIn("<h1>Forbidden</h1>", body)
        self.assertNotIn("www-authenticate", headers)
        status, headers, body = ask(port, "HEAD", "/lots", accept="text/html")
        self.assertEqual((status, body), (401, ""))

    def test_a_preflight_has_no_special_door(self) -> None:
        port = self.ports["settled"]
        asked = {"origin": "https://tarn.example", "access_control_request_method": "PUT"}
        for method, headers in (("OPTIONS", asked), ("OPTIONS", {}), ("PUT", asked)):
            self.assertIn(ask(port, method, "/lots/new", **headers)[0], (401, 403))
        self.assertEqual(reached, [])


class Redirects(unittest.TestCase):
    policy = bloodroot.parse(
        "roles\n  keeper\nendpoints\n  GET /in signed-out\n  GET /desk signed-in\n  GET POST /lots/{id} keeper\n"
        "denials\n  signed-out go /in\n  signed-in go /desk\n  /lots/* role hide\n"
    )

    def test_pages_are_sent_on_and_programs_are_told(self) -> None:
        app = AccessMiddleware(application, self.policy, identify=identify)
        with serving(app) as port:
            for method, target, caller, accept, status, location in (
                ("GET", "/desk", "", "text/html", 303, "/in?next=/desk"),
                ("GET", "/lots/7?a=b&c=%2F", "", "text/html", 303, "/in?next=/lots/7%3Fa%3Db%26c%3D%252F"),
                ("HEAD", "/desk", "", "", 303, "/in?next=/desk"),
                ("POST", "/lots/7", "", "text/html", 303, "/in"),
                ("GET", "/desk", "", "application/json", 401, None),
                ("GET", "/in", "new", "text/html", 303, "/desk"),
                ("GET", "/in", "new", "application/json", 403, None),
                ("GET", "//evil.example/x", "", "text/html", 400, None),
                ("GET", "/lots/7", "new", "text/html", 404, None),
            ):
                with self.subTest(f"{method} {target} as {caller or 'nobody'} for {accept}"):
                    got, headers, body = ask(port, method, target, x_caller=caller, accept=accept)
                    self.assertEqual((got, headers.get("location")), (status, location))
                    if status == 404:
                        self.assertIn("There is nothing here.", body)


class WithoutAServer(unittest.IsolatedAsyncioTestCase):
    async def test_what_servers_and_layers_may_do(self) -> None:
        sent: list[Any] = []

        async def send(message: Any) -> None:
            sent.append(message)

        async def receive() -> Any:
            return {"type": "websocket.connect"}

        app = AccessMiddleware(application, POLICY, identify=identify)
        base = {"type": "http", "method": "GET", "headers": [], "query_string": b""}
        for scope, status in (
            # What is served counts, whatever was rewritten before; what was sent must be unambiguous as well.
            ({**base, "path": "/lots/new", "raw_path": b"/"}, 401),
            ({**base, "path": "/", "raw_path": b"/x/../"}, 400),
            ({**base, "path": "/lots/new", "raw_path": b"/lots%2fnew"}, 400),
            ({**base, "path": "/lots//new", "raw_path": b"/lots/new"}, 400),
            ({**base, "method": "get", "path": "/"}, 400),
            ({**base, "method": "GET ", "path": "/"}, 400),
            ({**base, "path": "/", "raw_path": b"/lots/.."}, 400),
            ({**base, "path": "/lots", "raw_path": None}, 401),
            ({**base, "path": "/app/lots/new", "raw_path": b"/app/lots/new", "root_path": "/app"}, 401),
            ({**base, "path": "/app", "raw_path": b"/app", "root_path": "/app"}, 200),
            ({**base, "path": "/apples", "raw_path": b"/apples", "root_path": "/app"}, 403),
        ):
            sent.clear()
            await app(scope, receive, send)
            self.assertEqual(sent[0]["status"], status, scope)
        sent.clear()
        await app({"type": "websocket", "path": "/lots", "headers": [], "query_string": b""}, receive, send)
        self.assertEqual([(each["type"], each["code"]) for each in sent], [("websocket.close", 1008)])
        sent.clear()
        with self.assertLogs("bloodroot.enforce"):
            await app({"type": "telegraph", "path": "/"}, receive, send)
        self.assertEqual(sent, [])

    async def test_current_needs_a_middleware(self) -> None:
        with self.assertRaisesRegex(RuntimeError, "no caller acts here"):
            current()


class Programs(unittest.TestCase):
    def test_who_is_a_program(self) -> None:
        sent = {"authorization": "Bearer x"}
        for accept, more, program, by_token in (
            ("", {}, False, True),
            ("*/*", {}, False, True),
            ("text/html", {}, False, False),
            ("application/json", {}, True, True),
            ("application/problem+json", {}, True, True),
            ("text/html,application/json;q=0.9", sent, False, False),
            ("text/html;q=0.5,application/json", {}, True, True),
            ("application/json, text/html", sent, False, False),
            ("application/json;q=x", {}, False, True),
            ("application/json;q=7, text/html;q=0.2", {}, False, False),
            ("text/html, application/xhtml+xml, */*", sent, False, False),
            ("", sent, True, True),
            ("*/*", {"content-type": "application/json; charset=utf-8"}, True, True),
            ("*/*", {"content-type": "application/x-www-form-urlencoded"}, False, True),
        ):
            headers = [(b"accept", accept.encode()), *((k.encode(), v.encode()) for k, v in more.items())]
            request = Request({"path": "/", "headers": headers})
            with self.subTest(accept, **more):
                self.assertEqual((is_program(request), is_program(request, by_token=True)), (program, by_token))


class _quiet:
    """Keeps what is logged on purpose out of the test's output."""

    def __enter__(self) -> None:
        import logging

        logging.disable(logging.CRITICAL)

    def __exit__(self, *_: object) -> None:
        import logging

        logging.disable(logging.NOTSET)
