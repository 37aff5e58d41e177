"""Where callers say who they are: a bearer token, a session, a header that a proxy sets."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol

from ..core.caller import Unidentified
from ..settings import ClaimNames
from .claims import Reading, read_claims

if TYPE_CHECKING:
    from .tokens import TokenCheck


class Sent(Protocol):
    """What has to be seen of a request. `bloodroot.enforce` has one for each framework; an application may add its own.

    Attributes:
        path: as the client sent it, still percent-encoded.
        session: the framework's session, a mapping; empty where there is none.
        sender: the address of whoever is connected, or None where it is not known.
    """

    @property
    def path(self) -> str: ...

    @property
    def session(self) -> Mapping[str, Any]: ...

    @property
    def sender(self) -> str | None: ...

    def headers(self, name: str) -> Sequence[str]:
        """The values of a header, one for each time it was sent."""
        ...


class Source(Protocol):
    """One way to say who one is."""

    def read(self, request: Sent) -> Reading | None:
        """The caller of a request, or None where it does not say.

        Raises:
            Unidentified: it says, and is not to be believed.
        """
        ...


class BearerToken:
    """A token in the header ``Authorization`` (RFC 6750, section 2.1)."""

    def __init__(self, check: TokenCheck, names: ClaimNames) -> None:
        self.check = check
        self.names = names

    def read(self, request: Sent) -> Reading | None:
        """The caller that the token of a request speaks of."""
        sent = [each for each in request.headers("authorization") if each[:7].lower() == "bearer "]
        if not sent:
            return None
        if len(sent) > 1:
            raise Unidentified("more than one token was sent", token=True)
        claims = self.check.claims(sent[0][7:].strip())
        try:
            return read_claims(claims, self.names)
        except Unidentified as error:
            raise Unidentified(error.reason, token=True) from None


class Session:
    """The session of the framework, in which the application keeps who has signed in."""

    def __init__(self, names: ClaimNames) -> None:
        self.names = names

    def read(self, request: Sent) -> Reading | None:
        """The caller that a session speaks of."""
        if self.names.id[0] not in request.session:
            return None
        return read_claims(dict(request.session), self.names, "the session")


class Header:
    """Headers that a proxy sets, believed from its address alone."""

    def __init__(self, names: ClaimNames, senders: Sequence[str]) -> None:
        self.names = names
        self._networks = [ipaddress.ip_network(each) for each in senders]

    def read(self, request: Sent) -> Reading | None:
        """The caller that the headers of a request speak of."""
        names = self.names
        if not request.headers(names.id[0]):
            return None
        if not self._is_listed(request.sender):
            told = request.sender or "an unknown address"
            raise Unidentified(f"the header {names.id[0]} came from {told}, which is not among the senders listed")
        claims = {}
        for path in (names.id, names.roles, names.groups, names.scopes, *names.attributes.values()):
            if path is None:
                continue
            name = path[0]
            values = request.headers(name)
            if len(values) > 1:
                raise Unidentified(f"the header {name} was sent {len(values)} times")
            if values:
                claims[name] = values[0]
        return read_claims(claims, names, "the request")

    def _is_listed(self, sender: str | None) -> bool:
        try:
            address = ipaddress.ip_address(sender or "")
        except ValueError:
            return False
        mapped = getattr(address, "ipv4_mapped", None)
        return any((mapped or address) in network for network in self._networks)
