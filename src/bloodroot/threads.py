"""Work that may wait, in threads: of each kind at most so many at a time, so that no kind keeps another waiting."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import anyio.to_thread
from anyio.lowlevel import RunVar

T = TypeVar("T")


class Threads:
    """Runs functions in threads of an event loop, of asyncio or trio.

    Args:
        most: how many run at the same time in one event loop.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._limiter: RunVar[anyio.CapacityLimiter] = RunVar(f"bloodroot {id(self):x}")

    async def run(self, function: Callable[..., T], *arguments: Any) -> T:
        """Call a function in a thread, with the context variables of the task that asks."""
        try:
            limiter = self._limiter.get()
        except LookupError:
            limiter = anyio.CapacityLimiter(self._most)
            self._limiter.set(limiter)
        return await anyio.to_thread.run_sync(function, *arguments, limiter=limiter)
