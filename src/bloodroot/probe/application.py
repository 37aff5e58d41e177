"""The application under probe, run in this process."""

from __future__ import annotations

import asyncio
import inspect
from contextlib import asynccontextmanager
from typing import TYPE_CHECKING, Any

import httpx

from ..settings import SettingsError

if TYPE_CHECKING:
    from collections.abc import AsyncIterator


def transport_to(app: Any) -> httpx.AsyncBaseTransport:
    """What sends requests to an application, of ASGI or of WSGI (PEP 3333)."""
    if is_wsgi(app):
        return _InThreads(app)
    return httpx.ASGITransport(app=app, raise_app_exceptions=False)


def is_wsgi(app: Any) -> bool:
    """Whether an application is called with an environment and a function, and not awaited."""
    if inspect.iscoroutinefunction(app) or inspect.iscoroutinefunction(getattr(app, "__call__", None)):  # noqa: B004
        return False
    try:
        parameters = inspect.signature(app).parameters.values()
    except (TypeError, ValueError):
        return False
    return len([each for each in parameters if each.default is each.empty]) == 2


class _InThreads(httpx.AsyncBaseTransport):
    """A WSGI application, each request in a thread."""

    def __init__(self, app: Any) -> None:
        self._transport = httpx.WSGITransport(app=app, raise_app_exceptions=False)

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        content = await request.aread()
        sent = httpx.Request(request.method, request.url, headers=request.headers, content=content)

        def answered() -> httpx.Response:
            response = self._transport.handle_request(sent)
            return httpx.Response(response.status_code, headers=response.headers, content=response.read())

        return await asyncio.to_thread(answered)


@asynccontextmanager
async def running(app: Any) -> AsyncIterator[None]:
    """The application between its start-up and its shut-down (ASGI lifespan protocol).

    Raises:
        SettingsError: it fails to start.
    """
    if is_wsgi(app):
        yield
        return
    inbox: asyncio.Queue[dict[str, Any]] = asyncio.Queue()
    outbox: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()

    async def serve() -> None:
        try:
            await app({"type": "lifespan", "asgi": {"version": "3.0"}, "state": {}}, inbox.get, outbox.put)
        except Exception:
            # The protocol is optional: an application without it raises, and is used without.
            return
        finally:
            await outbox.put(None)

    task = asyncio.create_task(serve())
    await inbox.put({"type": "lifespan.startup"})
    answer = await outbox.get()
    if answer is not None and answer["type"] == "lifespan.startup.failed":
        await task
        raise SettingsError(f"the application failed to start: {answer.get('message') or 'it does not say why'}")
    try:
        yield
    finally:
        if answer is not None:
            await inbox.put({"type": "lifespan.shutdown"})
            await outbox.get()
        await task
