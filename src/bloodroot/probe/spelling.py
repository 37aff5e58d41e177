"""Paths that differ in a slash at their end, which routers hold for the same page."""

from __future__ import annotations

from urllib.parse import urlsplit


def is_same_page(one: str, other: str) -> bool:
    """Whether two paths differ at most in a slash at their end."""
    return (one.rstrip("/") or "/") == (other.rstrip("/") or "/")


def is_other_spelling(path: str, status: int, location: str) -> bool:
    """Whether a response is a redirect to the same path with or without a slash at its end.

    Routers answer with one before any handler, and so before any check.
    """
    found = urlsplit(location).path
    return 300 <= status < 400 and found != path and is_same_page(found, path)
