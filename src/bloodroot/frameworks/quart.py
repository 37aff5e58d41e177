"""Quart."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, before, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Quart(Adapter):
    """Applications of Quart."""

    name = "quart"
    title = "Quart"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, "quart") and hasattr(layer, "url_map")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.quart import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        quart: Any = sys.modules.get("quart")
        if quart is None:
            return
        ensured = quart.Quart.ensure_async

        def ensure_async(self: Any, func: Callable[..., Any]) -> Callable[..., Any]:
            run: Callable[..., Any] = ensured(self, func)
            # It is asked for functions of every kind: the view is the one that the URL map has chosen.
            sent = quart.request if quart.has_request_context() else None
            sent = quart.websocket if sent is None and quart.has_websocket_context() else sent
            if sent is None or self.view_functions.get(sent.endpoint or "") is not func:
                return run
            return before(run, lambda: watcher.serves(getattr(func, "view_class", func)))

        watcher.replace(quart.Quart, "ensure_async", ensure_async)
