"""Requests as identification sees them, without a server."""

from collections.abc import Mapping
from typing import Any


class Sent:
    """A request that was sent; names of headers are written with _ for -, a list stands for several."""

    def __init__(
        self, path: str = "/", session: Mapping[str, Any] | None = None, sender: str | None = None, **headers: Any
    ) -> None:
        self.path = path
        self.session = session or {}
        self.sender = sender
        self._headers = {name.replace("_", "-").lower(): value for name, value in headers.items()}

    def headers(self, name: str) -> list[str]:
        found = self._headers.get(name.lower(), [])
        return found if isinstance(found, list) else [found]
