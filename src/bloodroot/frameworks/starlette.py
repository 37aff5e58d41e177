"""Starlette."""

from __future__ import annotations

import sys
from functools import partial
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Starlette(Adapter):
    """Applications of Starlette."""

    name = "starlette"
    title = "Starlette"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, self.name) and hasattr(layer, "routes")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.starlette_routes import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        routing: Any = sys.modules.get("starlette.routing")
        if routing is None:
            return

        def get(route: Any) -> Any:
            app = route.__dict__["app"]
            # FastAPI asks for its dependencies first, which may refuse.
            begins = not type(route).__module__.startswith("fastapi.")

            async def seen(scope: Any, receive: Any, send: Any) -> None:
                watcher.serves(route.endpoint, begins=begins)
                await app(scope, receive, send)

            return seen

        def put(route: Any, app: Any) -> None:
            route.__dict__["app"] = app

        for kind in (routing.Route, routing.WebSocketRoute):
            kind.app = property(get, put)
            watcher.later(partial(delattr, kind, "app"))
