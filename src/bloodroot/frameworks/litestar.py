"""Litestar."""

from __future__ import annotations

import sys
from functools import partial
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, before, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Litestar(Adapter):
    """Applications of Litestar."""

    name = "litestar"
    title = "Litestar"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, self.name) and hasattr(layer, "asgi_handler")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.litestar import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        base: Any = sys.modules.get("litestar.handlers.base")
        if base is None:
            return
        kind = base.BaseRouteHandler
        read = kind.fn

        def get(handler: Any) -> Any:
            function = read.fget(handler)
            return before(function, lambda: watcher.serves(getattr(function, "__wrapped__", function)))

        kind.fn = property(get)
        watcher.later(partial(setattr, kind, "fn", read))
