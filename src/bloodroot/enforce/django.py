"""Django: its request and its session, as `identify` sees them."""

from __future__ import annotations

from typing import Any

from .wsgi import Request


def request(sent: Any) -> Request:
    """A request of Django's, under WSGI or ASGI, with the session that its session middleware has put there.

    Args:
        sent: the ``HttpRequest`` that a middleware or a view is given.
    """
    return Request(sent.META, getattr(sent, "session", None) or {})
