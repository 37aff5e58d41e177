"""What was made for a caller is kept from caches that give it to others; what is open stays as it was."""

import unittest
from typing import Any

import flask
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse, StreamingResponse
from starlette.routing import Route

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import asgi, current, guard
from bloodroot.enforce import flask as for_flask
from bloodroot.enforce import starlette as for_starlette
from tests.servers import ask, serving, serving_wsgi

GROWER = Caller(3, {"grower"}, attributes={"status": "active"})


def identify(request: Any) -> Caller | None:
    return GROWER if request.headers.get("x-caller") else None


class Caching(unittest.TestCase):
    """What was made for a caller is for that caller alone."""

    POLICY = bloodroot.parse(
        'roles\n  keeper\nconditions\n  active caller.status == "active"\nendpoints\n  GET /** anyone\n'
        "always\n  /ruled  active or signed-out\nfields lot\n  place read keeper\n"
    )

    def handlers(self) -> dict[str, Any]:
        @guard("anyone", policy=self.POLICY)
        def guarded() -> str:
            return "guarded"

        def flags() -> str:
            return str(current().flags(["GET /ruled"]))

        def fields() -> str:
            return str(current().readable("lot", {"place": 1}))

        def asking() -> Any:
            yield "one "
            yield str(current().caller)

        return {
            "/plain": lambda: "plain",
            "/ruled": lambda: "ruled",
            "/guarded": guarded,
            "/flags": flags,
            "/fields": fields,
            "/asking": asking,
        }

    def check(self, port: int) -> None:
        for target in self.handlers():
            status, headers, body = ask(port, "GET", target, X_Caller="grower")
            with self.subTest(target):
                self.assertEqual(status, 200, body)
                vary = [name.strip().lower() for name in headers.get("vary", "").split(",") if name.strip()]
                self.assertEqual(len(vary), len(set(vary)))
                self.assertEqual("private" in headers.get("cache-control", ""), target != "/plain")
                self.assertEqual({"cookie", "authorization"} <= set(vary), target != "/plain")
                if target == "/asking":
                    self.assertIn("one Caller(id=3", body)

    def test_starlette(self) -> None:
        def endpoint(handler: Any) -> Any:
            def serve(request: Any) -> Any:
                made = handler()
                how = {"headers": {"vary": "Cookie, accept"}} if handler.__name__ == "flags" else {}
                return PlainTextResponse(made, **how) if isinstance(made, str) else StreamingResponse(made)

            return serve

        app = Starlette(routes=[Route(path, endpoint(handler)) for path, handler in self.handlers().items()])
        for_starlette.protect(app, self.POLICY, identify=identify)
        with serving(app) as port:
            self.check(port)

    def test_flask(self) -> None:
        app = flask.Flask("tarn", static_folder=None)
        for path, handler in self.handlers().items():
            app.add_url_rule(path, path, lambda handler=handler: handler())
        for_flask.protect(app, self.POLICY, identify=identify)
        with serving_wsgi(app) as port:
            self.check(port)

    def test_who_asks_too_late_is_told(self) -> None:
        async def late(scope: Any, receive: Any, send: Any) -> None:
            await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"3")]})
            try:
                current()
            except RuntimeError as error:
                logged.append(str(error))
            await send({"type": "http.response.body", "body": b"end"})

        logged: list[str] = []
        with serving(asgi.AccessMiddleware(late, self.POLICY, identify=identify)) as port:
            self.assertEqual(ask(port, "GET", "/plain")[2], "end")
        self.assertIn("a response leaves that is open to anyone and may be cached", logged[0])
