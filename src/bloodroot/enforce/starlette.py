"""The routes of a Starlette application, as a policy is bound to them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

from starlette.routing import BaseRoute, Mount
from starlette.routing import Route as StarletteRoute

from ..core.binding import Route

_REST = re.compile(r"\{[^{}]*:path\}\Z")
_CONVERTED = re.compile(r"\{([^{}:]*):[^{}]*\}")


def routes(application: Any) -> list[Route]:
    """Every route of an application, mounted ones included.

    Args:
        application: a Starlette application, or a list of its routes.

    Returns:
        A route for each, its action named as Starlette names it: by ``name=``, or by the function that serves it.
    """
    return list(_routes(getattr(application, "routes", application), ""))


def _routes(found: Iterable[BaseRoute], prefix: str) -> Iterator[Route]:
    for route in found:
        if isinstance(route, StarletteRoute):
            methods = tuple(sorted(route.methods - {"HEAD"})) if route.methods else ()
            yield Route(route.name, methods, _template(prefix + route.path))
        elif isinstance(route, Mount):
            if route.routes:
                yield from _routes(route.routes, prefix + route.path)
            else:
                yield Route(route.name or route.path, (), f"{prefix}{route.path}/**")


def _template(path: str) -> str:
    """Starlette's ``{name:converter}`` as a policy writes it."""
    return _CONVERTED.sub(r"{\1}", _REST.sub("**", path))
