"""Messages of ASGI: what a response begins with, its headers, and refusals as messages."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, MutableMapping
from typing import Any

from ..core.answers import Answer
from . import responses

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

# An accepted WebSocket has no status.
BEGINNINGS = ("http.response.start", "websocket.accept", "websocket.http.response.start")


async def send_response(response: responses.Response, send: Send, *, body: bool) -> None:
    """Send a refusal."""
    headers = [(name.encode("latin-1"), value.encode("latin-1", "replace")) for name, value in response.headers]
    await send({"type": "http.response.start", "status": response.status, "headers": headers})
    await send({"type": "http.response.body", "body": response.body if body else b""})


async def refuse_socket(answer: Answer, receive: Receive, send: Send) -> None:
    """Refuse a WebSocket handshake."""
    await receive()
    # 1008: policy violation (RFC 6455, section 7.4.1). Before acceptance, servers turn it into a 403. A reason has
    # 123 bytes at the most (section 5.5).
    reason = answer.message.encode()[:123].decode("utf-8", "ignore")
    await send({"type": "websocket.close", "code": 1008, "reason": reason})


_WHOLE_VARY = (b"vary", ", ".join(responses.VARY).encode())
_PRIVATE = (b"cache-control", responses.PRIVATE.encode())


def with_caching(headers: Iterable[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """The headers of a response that is for one caller alone."""
    found = [*headers]
    has_vary = has_caching = False
    for name, _ in found:
        lower = name.lower()
        if lower == b"vary":
            has_vary = True
        elif lower == b"cache-control":
            has_caching = True
    if not has_vary:
        found.append(_WHOLE_VARY)
    else:
        more = responses.varied([value.decode("latin-1") for name, value in found if name.lower() == b"vary"])
        if more:
            found.append((b"vary", more.encode()))
    if not has_caching:
        found.append(_PRIVATE)
    return found


def is_sized(status: int, headers: Iterable[tuple[bytes, bytes]]) -> bool:
    """Whether the length of a body is known when it begins to leave."""
    return status < 200 or status in (204, 304) or any(name.lower() == b"content-length" for name, _ in headers)
