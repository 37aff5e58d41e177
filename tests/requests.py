"""Requests as identification sees them, without a server."""

from collections.abc import Mapping
from typing import Any

from bloodroot.request import Headers, Request


class Sent(Request):
    """A request that was sent; names of headers are written with _ for -, a list stands for several."""

    method = "GET"
    prefix = query_string = path = ""
    headers = session = sender = None

    def __init__(
        self, path: str = "/", session: Mapping[str, Any] | None = None, sender: str | None = None, **headers: Any
    ) -> None:
        self.path = path
        self.segments = [part for part in path.split("/") if part]
        self.session = session or {}
        self.sender = sender
        sent = {name.replace("_", "-").lower(): value for name, value in headers.items()}

        def values(name: str) -> list[str]:
            found = sent.get(name, [])
            return found if isinstance(found, list) else [found]

        self.headers = Headers(values, lambda: list(sent))
