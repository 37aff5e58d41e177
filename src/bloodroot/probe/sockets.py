"""Handshakes of WebSockets (RFC 6455): asked of an application in this process, or over the network.

A handshake is answered as a request is: with 101 and what is sent first, or with the status of a refusal.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

import httpx

_FIRST = 0.3  # seconds in which a server sends what it sends by itself, or takes back that it has accepted
_MOST = 20  # messages
_AGREED = (1000, 1001)  # how a connection is closed that nothing was wrong with (section 7.4.1)
_SIGN_IN = (3000, 4401)  # how one is closed whose caller is to sign in

App = Callable[[dict[str, Any], Callable[[], Awaitable[Any]], Callable[[Any], Awaitable[None]]], Awaitable[None]]


async def shake_in_process(app: App, sent: httpx.Request) -> httpx.Response:
    """Ask an ASGI application for a WebSocket."""
    received: list[dict[str, Any]] = []
    came = asyncio.Event()
    inbox = iter([{"type": "websocket.connect"}])

    async def receive() -> Any:
        found = next(inbox, None)
        if found is None:
            # A client that says nothing, and leaves when it has waited for a while.
            await asyncio.sleep(_FIRST)
            return {"type": "websocket.disconnect", "code": 1001}
        return found

    async def send(message: Any) -> None:
        received.append(message)
        came.set()

    async def first() -> None:
        await came.wait()
        await asyncio.sleep(2 * _FIRST)

    serving = asyncio.ensure_future(app(_scope_of(sent), receive, send))
    waiting = asyncio.ensure_future(first())
    try:
        await asyncio.wait([serving, waiting], return_when=asyncio.FIRST_COMPLETED)
    finally:
        waiting.cancel()
        serving.cancel()
        failed, _ = await asyncio.gather(serving, waiting, return_exceptions=True)
    if not received and isinstance(failed, Exception):
        return httpx.Response(500, request=sent)
    return _answer_of(received, sent)


def _scope_of(sent: httpx.Request) -> dict[str, Any]:
    return {
        "type": "websocket",
        "asgi": {"version": "3.0", "spec_version": "2.3"},
        "http_version": "1.1",
        "scheme": "ws",
        "path": sent.url.path,
        "raw_path": sent.url.raw_path.partition(b"?")[0],
        "query_string": sent.url.query,
        "root_path": "",
        "headers": [(name.lower(), value) for name, value in sent.headers.raw],
        "client": ("127.0.0.1", 123),
        "server": (sent.url.host, sent.url.port or 80),
        "subprotocols": [],
        "state": {},
        "extensions": {"websocket.http.response": {}},
    }


def _answer_of(received: list[dict[str, Any]], sent: httpx.Request) -> httpx.Response:
    first: dict[str, Any] = received[0] if received else {"type": "websocket.close"}
    if first["type"] == "websocket.http.response.start":
        body = b"".join(message.get("body", b"") for message in received[1:])
        return httpx.Response(first["status"], headers=first.get("headers", []), content=body, request=sent)
    if first["type"] != "websocket.accept":
        return httpx.Response(403, request=sent)
    messages = [message.get("text") or message.get("bytes") or b"" for message in received if "send" in message["type"]]
    closed = next((message.get("code", 1000) for message in received if message["type"] == "websocket.close"), None)
    return _accepted(messages, closed, first.get("headers", []), sent)


def _accepted(messages: list[str | bytes], closed: int | None, headers: Any, sent: httpx.Request) -> httpx.Response:
    """The answer of a server that has accepted, and may have closed at once, which is how many of them refuse."""
    content = b"\n".join(message.encode() if isinstance(message, str) else message for message in messages)
    if closed is not None and closed not in _AGREED:
        # What it has sent before is looked at all the same.
        return httpx.Response(401 if closed in _SIGN_IN else 403, content=content, request=sent)
    return httpx.Response(101, headers=headers, content=content, request=sent)


async def shake_over_network(sent: httpx.Request) -> httpx.Response:
    """Ask a server for a WebSocket.

    Raises:
        httpx.ConnectError: nothing answers there.
        httpx.RemoteProtocolError: it answers otherwise than the protocol says.
    """
    from websockets.asyncio.client import connect
    from websockets.exceptions import ConnectionClosed, InvalidHandshake, InvalidStatus

    own = ("host", "accept-encoding", "connection", "content-length")
    headers = [(name, value) for name, value in sent.headers.multi_items() if name.lower() not in own]
    address = str(sent.url.copy_with(scheme="wss" if sent.url.scheme == "https" else "ws"))
    messages: list[str | bytes] = []
    closed = None
    try:
        async with connect(address, additional_headers=headers, proxy=None) as socket:
            answer = socket.response
            try:
                async with asyncio.timeout(_FIRST):
                    while len(messages) < _MOST:
                        messages.append(await socket.recv())
            except TimeoutError:
                pass
            except ConnectionClosed as ended:
                closed = ended.rcvd.code if ended.rcvd is not None else 1006
    except InvalidStatus as refused:
        response = refused.response
        headers = list(response.headers.raw_items())
        return httpx.Response(response.status_code, headers=headers, content=bytes(response.body or b""), request=sent)
    except InvalidHandshake as error:
        raise httpx.RemoteProtocolError(str(error)) from error
    except OSError as error:
        raise httpx.ConnectError(str(error)) from error
    headers = list(answer.headers.raw_items()) if answer is not None else []
    return _accepted(messages, closed, headers, sent)
