"""An application that runs in the thread of a test, so that what the test has in its database is there."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Coroutine
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from typing import TYPE_CHECKING, Any, TypeVar

import httpx

from ..probe.application import InProcessApp, Wsgi

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

    from ..core.binding import Route

T = TypeVar("T")


class InTests:
    """An application of ASGI or of WSGI, called by tests.

    A WSGI application runs in the thread that asks. An ASGI application runs in an event loop and a thread of its own,
    so that tests may have a loop themselves.
    """

    base = "http://127.0.0.1"
    here = True

    def __init__(self, app: Any) -> None:
        inner = InProcessApp(app)
        self.app = app
        self.wsgi = inner.wsgi
        self.routes: list[Route] | None = inner.routes
        self.made_with = inner.made_with
        self.transport: httpx.AsyncBaseTransport = _InThread(app) if inner.wsgi else inner.transport
        self._inner = inner
        self._loop: asyncio.AbstractEventLoop | None = None
        self._around: AbstractAsyncContextManager[None] | None = None

    def start(self) -> None:
        """Start the application.

        Raises:
            SettingsError: it fails to start.
        """
        if not self.wsgi:
            self._loop = asyncio.new_event_loop()
            threading.Thread(target=self._loop.run_forever, daemon=True).start()
        self._around = self._inner.running()
        self.run(self._around.__aenter__())

    def stop(self) -> None:
        """Shut the application down."""
        if self._around is not None:
            self.run(self._around.__aexit__(None, None, None))
            self._around = None
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._loop = None

    @asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        """As `Application.running`: it does run already."""
        yield

    def run(self, work: Coroutine[Any, Any, T]) -> T:
        """Run what sends requests to its end."""
        if self._loop is not None:
            return asyncio.run_coroutine_threadsafe(work, self._loop).result()
        # Nothing in it waits, as each response is there at once: it needs no loop, and an application that asks whether
        # there is one finds none.
        try:
            work.send(None)
        except StopIteration as done:
            t: T = done.value
            return t
        work.close()
        raise RuntimeError("an application of WSGI does not wait")


class _InThread(httpx.AsyncBaseTransport):
    """A WSGI application, called at once."""

    def __init__(self, app: Any) -> None:
        self._wsgi = Wsgi(app)

    async def handle_async_request(self, sent: httpx.Request) -> httpx.Response:
        return self._wsgi.answered(sent, await sent.aread())
