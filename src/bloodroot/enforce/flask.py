"""Flask: its request and its session, as `identify` sees them."""

from __future__ import annotations

import flask

from .wsgi import Request


def request() -> Request:
    """The request that Flask is serving, with the session of the application."""
    return Request(flask.request.environ, flask.session)
