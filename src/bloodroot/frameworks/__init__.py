"""Web frameworks, one adapter each: how an application is recognised, what its routes are, how it is seen into."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from ..language.errors import BloodrootError
from .aiohttp import Aiohttp
from .django import Django
from .falcon import Falcon
from .fastapi import FastAPI
from .flask import Flask
from .litestar import Litestar
from .quart import Quart
from .sanic import Sanic
from .starlette import Starlette

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from ..core.binding import Resolved, Route
    from .adapter import Adapter

# What is built on another one comes before it.
ADAPTERS: tuple[Adapter, ...] = (
    *(FastAPI(), Starlette(), Quart(), Flask(), Django()),
    *(Aiohttp(), Falcon(), Litestar(), Sanic()),
)

# By which names middleware around an application, and servers of static files, have it; a bound method leads to its
# object.
_INNER = ("app", "asgi", "application", "wsgi_app", "asgi_app", "wsgi", "__self__", "__wrapped__")
_MOST_LAYERS = 50


class RoutesError(BloodrootError):
    """The routes of an application cannot be read."""


class AdaptedApp(NamedTuple):
    """An application that is known.

    Attributes:
        adapter: its adapter.
        app: the application within whatever is around it.
    """

    adapter: Adapter
    app: Any


def adapter_of(app: Any) -> AdaptedApp | None:
    """The adapter of an application; None where it is not known."""
    seen: list[Any] = []
    waiting = [app]
    while waiting and len(seen) < _MOST_LAYERS:
        layer = waiting.pop(0)
        if layer is None or any(layer is adapter for adapter in seen):
            continue
        seen.append(layer)
        for adapter in ADAPTERS:
            if adapter.detect(layer):
                return AdaptedApp(adapter, layer)
        waiting += [getattr(layer, name, None) for name in _INNER]
    return None


def routes_of(app: Any) -> list[Route] | None:
    """The routes of an application, by the framework that it is made with; None where that is not known."""
    known = adapter_of(app)
    return None if known is None else routes_read(known)


def resolver_of(app: Any) -> Callable[[str], Resolved | None] | None:
    """What says which route of an application serves a path; None where that is not known."""
    known = adapter_of(app)
    return None if known is None else known.adapter.resolver(known.app)


def routes_read(known: AdaptedApp) -> list[Route]:
    """The routes of an application of a framework.

    Raises:
        RoutesError: its own modules, which may be imported only now, raise something.
    """
    try:
        return known.adapter.routes(known.app)
    except BloodrootError:
        raise
    except Exception as error:
        raise RoutesError(f"the routes of the application cannot be read: {type(error).__name__}: {error}") from error


def titles(adapters: Iterable[Adapter] = ADAPTERS) -> str:
    """The names of the frameworks, for messages."""
    *others, last = sorted((adapter.title for adapter in adapters), key=str.lower)
    return f"{', '.join(others)} and {last}"
