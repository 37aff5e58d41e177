"""The application under probe, run in this process."""

from __future__ import annotations

import asyncio
from contextlib import asynccontextmanager
from typing import TYPE_CHECKING, Any

from ..settings import SettingsError

if TYPE_CHECKING:
    from collections.abc import AsyncIterator


@asynccontextmanager
async def running(app: Any) -> AsyncIterator[None]:
    """The application between its start-up and its shut-down (ASGI lifespan protocol).

    Raises:
        SettingsError: it fails to start.
    """
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
