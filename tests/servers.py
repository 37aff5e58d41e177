"""Real servers on loopback."""

import asyncio
import contextlib
import http.client
import socket
import threading
from collections.abc import Iterator
from typing import Any

import uvicorn


@contextlib.contextmanager
def serving(app: Any) -> Iterator[int]:
    """An ASGI application served by uvicorn; gives its port, and stops the server at the end."""
    listener = socket.socket()
    listener.bind(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(app, log_level="critical", lifespan="off", proxy_headers=False))
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


def ask(port: int, method: str, target: str, **headers: str) -> tuple[int, dict[str, str], str]:
    """One request, its target sent as it is; names of headers are written with _ for -."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
    try:
        connection.putrequest(method, target, skip_accept_encoding=True)
        for name, value in headers.items():
            connection.putheader(name.replace("_", "-"), value)
        connection.endheaders()
        response = connection.getresponse()
        told = {name.lower(): value for name, value in response.getheaders()}
        return response.status, told, response.read().decode("utf-8", "replace")
    finally:
        connection.close()
