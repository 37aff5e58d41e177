"""aiohttp."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Aiohttp(Adapter):
    """Applications of aiohttp, which serve themselves: nothing else can call them."""

    name = "aiohttp"
    title = "aiohttp"
    serves_itself = True

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, self.name) and hasattr(layer, "router")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.aiohttp import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`: no request of this process gets there."""
