"""Flask."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any

from .adapter import Adapter, Watcher, made_with

if TYPE_CHECKING:
    from ..core.binding import Route


class Flask(Adapter):
    """Applications of Flask."""

    name = "flask"
    title = "Flask"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`."""
        return made_with(layer, "flask") and hasattr(layer, "url_map")

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.flask_routes import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        flask: Any = sys.modules.get("flask")
        if flask is None:
            return
        ensured = flask.Flask.ensure_sync

        def ensure_sync(self: Any, func: Callable[..., Any]) -> Callable[..., Any]:
            run: Callable[..., Any] = ensured(self, func)
            # It is asked for functions of every kind: the view is the one that the URL map has chosen.
            if not flask.has_request_context() or self.view_functions.get(flask.request.endpoint or "") is not func:
                return run

            @functools.wraps(run)
            def seen(*args: Any, **values: Any) -> Any:
                watcher.serves(getattr(func, "view_class", func))
                return run(*args, **values)

            return seen

        watcher.replace(flask.Flask, "ensure_sync", ensure_sync)

    def around_loaders(self, app: Any) -> AbstractContextManager[Any]:
        """Its extensions want the context of the application."""
        app_context: AbstractContextManager[Any] = app.app_context()
        return app_context
