"""Connections that end when nothing whole arrives over them."""

from __future__ import annotations

import asyncio
from typing import ClassVar

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

_ARRIVING = (h11.IDLE, h11.SEND_BODY)


class BoundedHTTP(H11Protocol):
    """HTTP/1.1 whose requests begin and arrive within a time; a connection that is kept waits for the next one apart.

    There is one parser, whatever else is installed: it reads the body of a request that offers HTTP/2 beside.

    Attributes:
        seconds: how long a request may take to arrive; one whose body does not is answered with 408.
    """

    seconds: ClassVar[float] = 10.0
    _ending: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Read, and wait for the rest of a request that is not whole."""
        super().data_received(data)
        if self.conn.their_state not in _ARRIVING:
            self._stop_waiting()
        elif self._ending is None:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """End."""
        self._stop_waiting()
        super().connection_lost(exc)

    def _wait(self) -> None:
        self._ending = self.loop.call_later(self.seconds, self._give_up)

    def _give_up(self) -> None:
        self._ending = None
        if self.transport.is_closing():
            return
        if self.conn.our_state is h11.SEND_RESPONSE and self.conn.their_state is h11.SEND_BODY:
            called = [(name, value) for name, value in self.headers if name == b"x-request-id"]
            headers = [(b"connection", b"close"), (b"content-length", b"0"), *called[:1]]
            self.transport.write(self.conn.send(h11.Response(status_code=408, headers=headers)) or b"")
        self.transport.close()

    def _stop_waiting(self) -> None:
        if self._ending is not None:
            self._ending.cancel()
            self._ending = None
