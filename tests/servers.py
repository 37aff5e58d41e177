"""Real servers on loopback."""

import asyncio
import contextlib
import http.client
import io
import socket
import socketserver
import threading
import wsgiref.simple_server
from collections.abc import Iterator
from typing import Any

import uvicorn


@contextlib.contextmanager
def serving(app: Any, *, lifespan: str = "off") -> Iterator[int]:
    """An ASGI application served by uvicorn; gives its port, and stops the server at the end."""
    listener = socket.socket()
    listener.bind(("127.0.0.1", 0))
    server = uvicorn.Server(
        uvicorn.Config(app, log_level="critical", lifespan=lifespan, proxy_headers=False, timeout_keep_alive=60)
    )
    thread = threading.Thread(target=lambda: asyncio.run(server.serve([listener])), daemon=True)
    thread.start()
    try:
        for _ in range(500):
            if server.started:
                break
            threading.Event().wait(0.01)
        yield listener.getsockname()[1]
    finally:
        server.should_exit = True
        thread.join(10)
        listener.close()


class _Server(socketserver.ThreadingMixIn, wsgiref.simple_server.WSGIServer):
    daemon_threads = True
    request_queue_size = 128


class _Quiet(wsgiref.simple_server.WSGIRequestHandler):
    def log_message(self, *_: object) -> None: ...

    def get_stderr(self) -> Any:
        return io.StringIO()  # exceptions that tests cause


@contextlib.contextmanager
def serving_wsgi(app: Any, *, threads: bool = True) -> Iterator[int]:
    """A WSGI application on loopback, a thread a request or one for all; gives its port."""
    kind = _Server if threads else wsgiref.simple_server.WSGIServer
    server = wsgiref.simple_server.make_server("127.0.0.1", 0, app, kind, _Quiet)
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        thread.join(10)
        server.server_close()


def ask(port: int, method: str, target: str, **headers: str) -> tuple[int, dict[str, str], str]:
    """One request, its target sent as it is; names of headers are written with _ for -."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    try:
        connection.putrequest(method, target, skip_accept_encoding=True)
        for name, value in headers.items():
            connection.putheader(name.replace("_", "-"), value)
        connection.endheaders()
        response = connection.getresponse()
        headers_by_name: dict[str, str] = {}
        for name, value in response.getheaders():
            before = headers_by_name.get(name.lower())
            headers_by_name[name.lower()] = value if before is None else f"{before}, {value}"
        return response.status, headers_by_name, response.read().decode("utf-8", "replace")
    finally:
        connection.close()
