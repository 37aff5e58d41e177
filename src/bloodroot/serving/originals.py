"""The request that a proxy asks about, read off the headers that it sets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.caller import Unidentified
from ..core.methods import WEBSOCKET
from ..identity.sources import Senders

if TYPE_CHECKING:
    from starlette.requests import Request

    from ..core.policy import Policy

# Each with the header of the target and that of the method.
_NAMES = (("x-original-uri", "x-original-method"), ("x-forwarded-uri", "x-forwarded-method"))


@dataclass(frozen=True, slots=True)
class Original:
    """A request as its client has sent it.

    Attributes:
        method: the method.
        path: the path, as it was sent.
        query: the query, without its question mark.
        headers: the headers of the client.
        is_handshake: whether it offers to open a WebSocket (RFC 6455, section 4.1).
    """

    method: str
    path: str
    query: str
    headers: tuple[tuple[str, str], ...]
    is_handshake: bool


def original_of(request: Request, senders: Sequence[str]) -> Original | str:
    """The request that a proxy asks about, or why there is none that can be believed.

    Args:
        request: what the proxy sends.
        senders: addresses and networks of proxies.
    """
    given = [(names, [request.headers.getlist(name) for name in names]) for names in _NAMES]
    found = [(names, values) for names, values in given if any(values)]
    if len(found) != 1:
        return "the proxy must send X-Original-URI and X-Original-Method, or X-Forwarded-Uri and X-Forwarded-Method"
    (of_target, of_method), (targets, methods) = found[0]
    if len(targets) != 1 or len(methods) != 1:
        return f"the proxy must send {of_target} and {of_method} once each"
    try:
        Senders(senders).check(request.client.host if request.client is not None else None, of_target)
    except Unidentified as error:
        return error.reason
    path, _, query = targets[0].partition("?")
    if not path.startswith("/") or "#" in path:
        return f"{of_target} must be the target as the client sent it, such as /items/7?sort=name"
    ours = {name for names in _NAMES for name in names}
    headers = tuple((name, value) for name, value in request.headers.items() if name not in ours)
    upgrades = any(name == "upgrade" and value.lower() == "websocket" for name, value in headers)
    return Original(methods[0], path, query, headers, upgrades and methods[0] == "GET")


def asked_methods(policy: Policy, original: Original) -> tuple[str, ...]:
    """The methods that a request must be allowed for.

    A request that offers to open a WebSocket is one more than a GET: only the application knows whether it takes the
    offer, or answers as to any GET. So it must be allowed as both, unless a line is for the WebSocket itself and none
    for a GET.
    """
    if not original.is_handshake:
        return (original.method,)
    lines = {method: policy.lookup.for_request(method, original.path) for method in (WEBSOCKET, "GET")}
    is_named = {method: line is not None and method in line.methods for method, line in lines.items()}
    return (WEBSOCKET,) if is_named[WEBSOCKET] and not is_named["GET"] else (WEBSOCKET, "GET")
