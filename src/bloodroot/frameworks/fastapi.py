"""FastAPI."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from .adapter import Watcher
from .starlette import Starlette

if TYPE_CHECKING:
    from ..core.binding import Route


class FastAPI(Starlette):
    """Applications of FastAPI."""

    name = "fastapi"
    title = "FastAPI"

    def routes(self, app: Any) -> list[Route]:
        """As `Adapter.routes`."""
        from ..enforce.fastapi_routes import routes

        return routes(app)

    def watch(self, watcher: Watcher) -> None:
        """Its handlers begin to run once what they depend on has been called."""
        routing: Any = sys.modules.get("fastapi.routing")
        if routing is None:
            return
        called = routing.run_endpoint_function

        async def run_endpoint_function(*, dependant: Any, **others: Any) -> Any:
            watcher.serves(dependant.call)
            return await called(dependant=dependant, **others)

        watcher.replace(routing, "run_endpoint_function", run_endpoint_function)

    def document(self, app: Any) -> Mapping[str, Any] | None:
        """As `Adapter.document`."""
        found = app.openapi()
        return found if isinstance(found, Mapping) else None
