"""Messages of ASGI: what a response begins with, its headers, and refusals as messages."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, MutableMapping
from functools import lru_cache
from typing import Any

from ..core.answers import Answer
from . import responses

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

# What a response begins with. A WebSocket that is accepted, or closed instead, has no status.
BEGINNINGS = ("http.response.start", "websocket.accept", "websocket.http.response.start", "websocket.close")


async def send_response(response: responses.Response, send: Send, *, body: bool) -> None:
    """Send a refusal."""
    headers = [(name.encode("latin-1"), value.encode("latin-1", "replace")) for name, value in response.headers]
    await send({"type": "http.response.start", "status": response.status, "headers": headers})
    await send({"type": "http.response.body", "body": response.body if body else b""})


def status_of(beginning: Message) -> int:
    """The status of what a response begins with: of a WebSocket, whether it is accepted."""
    status: int | None = beginning.get("status")
    if status is not None:
        return status
    return 101 if beginning["type"] == "websocket.accept" else 403


async def refuse_socket(answer: Answer, send: Send) -> None:
    """Refuse a WebSocket, before it is accepted or later. Nothing is waited for: a client may never send anything."""
    # 1008: policy violation (RFC 6455, section 7.4.1). Before acceptance, servers turn it into a 403. A reason has
    # 123 bytes at the most (section 5.5).
    reason = answer.message.encode()[:123].decode("utf-8", "ignore")
    await send({"type": "websocket.close", "code": 1008, "reason": reason})


def with_headers(headers: Iterable[tuple[bytes, bytes]], more: Iterable[tuple[str, str]]) -> list[tuple[bytes, bytes]]:
    """Headers with others set, in the place of those of the same name."""
    new = [(name.lower().encode("latin-1"), value.encode("latin-1", "replace")) for name, value in more]
    names = {name for name, _ in new}
    return [header for header in headers if header[0].lower() not in names] + new


def private_headers(headers: Iterable[tuple[bytes, bytes]], names: tuple[str, ...]) -> list[tuple[bytes, bytes]]:
    """The headers of a response for one caller alone, which varies by headers of these names."""
    found, there, says = [], b"", False
    for header in headers:
        name = header[0].lower()
        if name == b"vary":
            there = there + b", " + header[1] if there else header[1]
            continue
        says = says or name == b"cache-control"
        found.append(header)
    vary = _varied(there, names)
    if vary:
        found.append((b"vary", vary))
    if not says:
        found.append(_PRIVATE)
    return found


@lru_cache(maxsize=256)
def _varied(there: bytes, names: tuple[str, ...]) -> bytes:
    """The values of ``vary`` with names more."""
    return responses.varied(there.decode("latin-1"), names).encode("latin-1") or there


_PRIVATE = (b"cache-control", responses.PRIVATE.encode())


def texts_of(headers: Iterable[tuple[bytes, bytes]]) -> list[tuple[str, str]]:
    """Headers as text, with names in lower case."""
    return [(name.decode("latin-1").lower(), value.decode("latin-1")) for name, value in headers]


def is_sized(status: int, headers: Iterable[tuple[bytes, bytes]]) -> bool:
    """Whether the length of a body is known when it begins to leave."""
    return status < 200 or status in (204, 304) or any(name.lower() == b"content-length" for name, _ in headers)
