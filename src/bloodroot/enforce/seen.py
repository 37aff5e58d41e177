"""What enforcement has to see of a request, the same for every kind of server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from http.cookies import CookieError, SimpleCookie
from typing import Any
from urllib.parse import parse_qs, quote, unquote_to_bytes

_IN_A_PATH = "/-._~!$&'()*+,=:@"
_MOST_PARAMETERS = 1000


class Seen:
    """A request as `identify` gets to see it; each kind of server has its own.

    Attributes:
        method: in capitals.
        path: as the client sent it, still percent-encoded; an empty text, which no line covers, where servers and
            layers do not agree on it.
        query_string: as the client sent it.
        session: the framework's session; empty where there is none.
        sender: the address of whoever is connected, as the server tells it; None where it does not.
    """

    __slots__ = ()
    method: str
    path: str
    query_string: str

    @property
    def session(self) -> Mapping[str, Any]:
        raise NotImplementedError

    @property
    def sender(self) -> str | None:
        raise NotImplementedError

    def headers(self, name: str) -> Sequence[str]:
        """The values of a header, one for each time it was sent."""
        raise NotImplementedError

    def header(self, name: str) -> str | None:
        """The value of a header, the first one where there are several; None where there is none."""
        return next(iter(self.headers(name)), None)

    @property
    def cookies(self) -> Mapping[str, str]:
        """The cookies by name; none where the header cannot be read."""
        try:
            return {name: morsel.value for name, morsel in SimpleCookie(self.header("cookie") or "").items()}
        except CookieError:
            return {}

    @property
    def is_preflight(self) -> bool:
        """Whether this asks, before a cross-origin request, if it may be sent (Fetch standard, section 4.9)."""
        if self.method != "OPTIONS":
            return False
        return bool(self.headers("origin")) and bool(self.headers("access-control-request-method"))

    @property
    def asked_for(self) -> str | None:
        """The page to come back to after signing in; None for what is no page."""
        if self.method not in ("GET", "HEAD"):
            return None
        return self.path + (f"?{self.query_string}" if self.query_string else "")


def encoded(path: str | bytes) -> str:
    """A path that a server has decoded, percent-encoded again."""
    return quote(path, safe=_IN_A_PATH)


def same_path(sent: bytes, *served: str) -> bool:
    """Whether what the client sent, decoded once, is one of the paths that may be served for it.

    Otherwise some layer has rewritten the path: the policy would decide one page, and the application serve another.
    """
    return unquote_to_bytes(sent).decode("utf-8", "replace") in served


def query_of(text: str) -> dict[str, Any] | None:
    """The parameters of a query: text, or a list where one is given more than once, which equals nothing.

    Returns:
        By name; None where there are more than any page asks for.
    """
    if not text:
        return {}
    try:
        values = parse_qs(text, keep_blank_values=True, max_num_fields=_MOST_PARAMETERS)
    except ValueError:
        return None
    return {name: found[0] if len(found) == 1 else found for name, found in values.items()}
