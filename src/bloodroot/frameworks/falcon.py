"""Falcon."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, before, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Falcon(Adapter):
    """Applications of Falcon, under WSGI and ASGI."""

    name = "falcon"
    title = "Falcon"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, "falcon") and hasattr(layer, "add_route")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.falcon import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        falcon: Any = sys.modules.get("falcon.app")
        if falcon is None:
            return
        chosen: Callable[..., Any] = falcon.App._get_responder

        def get_responder(self: Any, request: Any) -> Any:
            responder, params, resource, template = chosen(self, request)
            if resource is not None:
                responder = before(responder, lambda: watcher.serves(resource))
            return responder, params, resource, template

        watcher.replace(falcon.App, "_get_responder", get_responder)
