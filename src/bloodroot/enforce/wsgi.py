"""What has to be seen of a WSGI request (PEP 3333)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie
from typing import Any
from urllib.parse import quote


@dataclass(frozen=True, slots=True)
class Request:
    """What `identify` gets to see of a request.

    Attributes:
        environ: the WSGI environment, for everything else.
        session: the framework's session; empty where there is none.
    """

    environ: Mapping[str, Any]
    session: Mapping[str, Any] = field(default_factory=dict)

    @property
    def method(self) -> str:
        """The request method, in capitals."""
        return str(self.environ["REQUEST_METHOD"])

    @property
    def path(self) -> str:
        """The path, percent-encoded, mount prefix included."""
        sent = f"{self.environ.get('SCRIPT_NAME', '')}{self.environ.get('PATH_INFO', '')}"
        try:
            # WSGI has the bytes of a path as text, one sign for each.
            seen = sent.encode("latin-1")
        except UnicodeEncodeError:
            seen = sent.encode()
        return quote(seen, safe="/-._~!$&'()*+,=:@")

    def header(self, name: str) -> str | None:
        """The value of a header; None where there is none."""
        return next(iter(self.headers(name)), None)

    def headers(self, name: str) -> list[str]:
        """The value of a header. A server joins several with commas, so that there is one at the most."""
        found = self.environ.get(f"HTTP_{name.upper().replace('-', '_')}")
        return [str(found)] if found is not None else []

    @property
    def cookies(self) -> Mapping[str, str]:
        """The cookies by name; none where the header cannot be read."""
        try:
            return {name: morsel.value for name, morsel in SimpleCookie(self.header("cookie") or "").items()}
        except CookieError:
            return {}

    @property
    def sender(self) -> str | None:
        """The address of whoever is connected, as the server tells it; None where it does not."""
        return self.environ.get("REMOTE_ADDR") or None
