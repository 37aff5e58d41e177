"""Sanic."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, before, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Sanic(Adapter):
    """Applications of Sanic."""

    name = "sanic"
    title = "Sanic"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, self.name) and hasattr(layer, "router")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.sanic import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        router: Any = sys.modules.get("sanic.router")
        ours: Any = sys.modules.get("bloodroot.enforce.sanic")
        if router is None:
            return
        chosen = router.Router.get

        def noting(handler: Any) -> Any:
            return before(handler, lambda: watcher.serves(getattr(handler, "view_class", handler)))

        def get(self: Any, *words: Any) -> Any:
            route, handler, values = chosen(self, *words)
            # What enforcement is around begins later.
            return route, handler if hasattr(handler, "__bloodroot_serves__") else noting(handler), values

        watcher.replace(router.Router, "get", get)
        if ours is not None:
            run = ours.run_handler
            watcher.replace(ours, "run_handler", lambda handler, *given, **named: run(noting(handler), *given, **named))
