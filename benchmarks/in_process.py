"""One application called in process: python in_process.py NAME BEHIND PATH, and a line of input for each round."""

from __future__ import annotations

import asyncio
import io
import sys
import time
from collections.abc import Callable
from typing import Any

import applications

ROUND = 100


def environ(path: str, cookie: str = "", method: str = "GET") -> dict[str, Any]:
    """What a WSGI server gives for a request."""
    path, _, query = path.partition("?")
    return {
        "REQUEST_METHOD": method,
        "SCRIPT_NAME": "",
        "PATH_INFO": path,
        "QUERY_STRING": query,
        "SERVER_NAME": "x",
        "SERVER_PORT": "80",
        "SERVER_PROTOCOL": "HTTP/1.1",
        "REMOTE_ADDR": "127.0.0.1",
        "HTTP_COOKIE": cookie,
        "wsgi.input": io.BytesIO(),
        "wsgi.errors": io.StringIO(),
        "wsgi.url_scheme": "http",
        "wsgi.version": (1, 0),
        "wsgi.multithread": False,
        "wsgi.multiprocess": False,
        "wsgi.run_once": False,
    }


def call_wsgi(app: Any, asked: dict[str, Any]) -> dict[str, str]:
    """One request to a WSGI application; gives its headers."""
    answered: list[Any] = []
    body = app(asked, lambda status, headers, exc_info=None: answered.append((status, headers)))
    content = b"".join(body)
    getattr(body, "close", lambda: None)()
    if not answered[0][0].startswith("200") or content != b"seed":
        raise SystemExit(f"{answered[0][0]}: {content!r}")
    return {name.lower(): value for name, value in answered[0][1]}


def scope(path: str, cookie: str = "", method: str = "GET") -> dict[str, Any]:
    """What an ASGI server gives for a request."""
    path, _, query = path.partition("?")
    return {
        "type": "http",
        "method": method,
        "path": path,
        "raw_path": path.encode(),
        "root_path": "",
        "query_string": query.encode(),
        "headers": [(b"host", b"x"), (b"cookie", cookie.encode())],
        "client": ("127.0.0.1", 1),
        "server": ("x", 80),
        "scheme": "http",
        "http_version": "1.1",
    }


async def call_asgi(app: Any, asked: dict[str, Any]) -> dict[str, str]:
    """One request to an ASGI application; gives its headers."""
    sent: list[Any] = []

    async def send(message: Any) -> None:
        sent.append(message)

    async def receive() -> Any:
        return {"type": "http.request", "body": b"", "more_body": False}

    await app(asked, receive, send)
    if sent[0]["status"] != 200:
        raise SystemExit(str(sent))
    return {name.decode(): value.decode() for name, value in sent[0]["headers"]}


def rounds(work: Callable[[], None]) -> None:
    """Time a round of requests for each line that is read, in microseconds a request."""
    for _ in sys.stdin:
        began = time.perf_counter()
        work()
        print((time.perf_counter() - began) / ROUND * 1e6, flush=True)


def main(name: str, behind: str, path: str) -> None:
    app = applications.APPLICATIONS[name](behind == "True")
    if name == "starlette":

        async def ask_all() -> None:
            for _ in range(ROUND):
                await call_asgi(app, scope(path, cookie))

        with asyncio.Runner() as runner:
            cookie = runner.run(call_asgi(app, scope("/in?id=0", "", "POST")))["set-cookie"].split(";")[0]
            rounds(lambda: runner.run(ask_all()))
    else:
        cookie = call_wsgi(app, environ("/in?id=0", "", "POST"))["set-cookie"].split(";")[0]

        def ask() -> None:
            for _ in range(ROUND):
                call_wsgi(app, environ(path, cookie))

        rounds(ask)


main(*sys.argv[1:])
