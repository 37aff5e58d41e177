"""Where callers say who they are: a bearer token, a session, a header that a proxy sets."""

from __future__ import annotations

import ipaddress
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from ..core.caller import Unidentified
from ..request import Request
from ..settings import ClaimNames, SettingsError
from .claims import Reading, read_claims

if TYPE_CHECKING:
    from .tokens import TokenCheck


_KEPT = 1024
_LONGEST = 16_384  # characters of a credential: more than servers take in a header


class Source(Protocol):
    """One way to say who one is."""

    @property
    def headers(self) -> tuple[str, ...]:
        """The headers of a request that it reads."""
        ...

    def read(self, request: Request) -> Reading | None:
        """The caller of a request, or None where it does not say.

        Raises:
            Unidentified: the credentials are not accepted.
        """
        ...

    def waits(self, request: Request) -> bool:
        """Whether reading a request waits for another machine, or for long work."""
        ...


class TokenSource:
    """A source that takes tokens: from the header ``Authorization`` (RFC 6750, section 2.1), or from a cookie.

    Args:
        cookie: the name of the cookie; None for the header.
    """

    def __init__(self, cookie: str | None = None) -> None:
        self.cookie = cookie
        self.headers: tuple[str, ...] = ("Authorization",) if cookie is None else ("Cookie",)

    def token(self, request: Request) -> str | None:
        """The token that a request has for this source, or None.

        Raises:
            Unidentified: it has several, or a longer one than any header.
        """
        if self.cookie is not None:
            sent = request.cookies.get(self.cookie)
            if not sent:
                return None
            pairs = (part.partition("=")[0].strip() for part in "; ".join(request.headers.getlist("cookie")).split(";"))
            if sum(name == self.cookie for name in pairs) > 1:
                # Another site of the same domain may have set one of them.
                raise Unidentified(f"the cookie {self.cookie} was sent more than once")
        else:
            tokens = [header for header in request.headers.getlist("authorization") if header[:7].lower() == "bearer "]
            if not tokens:
                return None
            if len(tokens) > 1:
                raise Unidentified("more than one token was sent", token=True)
            sent = tokens[0][7:].strip(" \t")
        if len(sent) > _LONGEST:
            raise Unidentified("the token is too long", token=self.by_header)
        return sent

    @property
    def by_header(self) -> bool:
        """Whether a client has put the token into a header, and is to hear that it is not valid.

        A cookie is sent by the browser: with one that is not valid, a page leads to the sign-in as without any.
        """
        return self.cookie is None

    def takes(self, token: str) -> bool:
        """Whether a token is for this source, where several take tokens on a path; nothing is believed by that."""
        raise NotImplementedError


class BearerToken(TokenSource):
    """JSON Web Tokens. One that holds is remembered until it expires or the keys change, so that it is checked once."""

    def __init__(self, check: TokenCheck, names: ClaimNames, cookie: str | None = None) -> None:
        super().__init__(cookie)
        self.check = check
        self.names = names
        self._held: dict[str, tuple[Reading, float, int]] = {}

    def takes(self, token: str) -> bool:
        """Whether its issuer is the one of this source."""
        return self.check.issuer_of(token) == self.check.rules.issuer

    def waits(self, request: Request) -> bool:
        """Whether the provider has to be asked for its keys first."""
        token = self.token(request)
        return token is not None and self._remembered(token) is None and not self.check.ready(token)

    def _remembered(self, token: str) -> Reading | None:
        """What a token came to, if it still holds with the present keys."""
        held = self._held.get(token)
        if held is None or held[2] != self.check.keys.version() or time.time() >= held[1]:
            return None
        return held[0]

    def read(self, request: Request) -> Reading | None:
        """The caller that the token of a request identifies."""
        token = self.token(request)
        if token is None:
            return None
        remembered = self._remembered(token)
        if remembered is not None:
            return remembered
        version = self.check.keys.version()
        try:
            claims = self.check.claims(token)
            reading = read_claims(claims, self.names)
        except Unidentified as error:
            raise Unidentified(error.reason, token=self.by_header) from error
        if len(self._held) >= _KEPT:
            # Members hold few tokens; without a limit they could fill the memory.
            self._held.clear()
        self._held[token] = reading, self.check.good_until(claims), version
        return reading


class Session:
    """The session of the framework, in which the application keeps who has signed in."""

    headers: tuple[str, ...] = ("Cookie",)

    def __init__(self, names: ClaimNames) -> None:
        self.names = names

    def waits(self, request: Request) -> bool:  # noqa: ARG002
        return False

    def read(self, request: Request) -> Reading | None:
        """The caller that a session identifies."""
        session = request.session
        if self.names.id[0] not in session:
            return None
        return read_claims(dict(session.items()), self.names, "the session")


class Header:
    """Headers that a proxy sets, trusted from its address alone."""

    def __init__(self, names: ClaimNames, senders: Sequence[str]) -> None:
        self.names = names
        self._senders = Senders(senders)

    def waits(self, request: Request) -> bool:  # noqa: ARG002
        return False

    def read(self, request: Request) -> Reading | None:
        """The caller that the headers of a request identify."""
        names = self.names
        sent = request.headers.getlist(names.id[0])
        if not sent:
            return None
        self._senders.check(request.sender, names.id[0])
        claims = {}
        for name in self.header_names():
            values = request.headers.getlist(name)
            if len(values) > 1:
                raise Unidentified(f"the header {name} was sent {len(values)} times")
            if not values:
                continue
            if len(values[0]) > _LONGEST:
                raise Unidentified(f"the header {name} is too long")
            if request.joins_headers and may_be_joined(name, values[0]):
                raise Unidentified(f"the header {name} may have been sent more than once, or under another name")
            claims[name] = values[0]
        return read_claims(claims, names, "the request")

    @property
    def headers(self) -> tuple[str, ...]:
        """The headers of a request that it reads."""
        return tuple(self.header_names())

    def header_names(self) -> list[str]:
        """The headers that are trusted."""
        names = self.names
        paths = (names.id, *names.roles, names.groups, names.scopes, names.actor, *names.attributes.values())
        return [path[0] for path in paths if path is not None]

    def check_for_wsgi(self) -> None:
        """See that no other header can be taken for a trusted one where the server is a WSGI server.

        Raises:
            SettingsError: a name has ``-`` or ``_`` in it, or values would be parted by commas.
        """
        for name in self.header_names():
            if "-" in name or "_" in name:
                raise SettingsError(
                    f'identity: under WSGI the header "{name}" cannot be distinguished from the same name with - and _ '
                    f"exchanged, which a client may send; let the proxy send it without them, such as "
                    f'"{name.replace("-", "").replace("_", "")}"'
                )
        if self.names.separator == ",":
            raise SettingsError(
                "identity.separator: under WSGI a header that was sent twice comes as one with a comma between; let "
                'the proxy part names by another separator, such as ";"'
            )


class Senders:
    """The addresses and networks of a proxy, whose headers are trusted."""

    def __init__(self, senders: Sequence[str]) -> None:
        self._networks = [ipaddress.ip_network(sender) for sender in senders]

    def check(self, sender: str | None, header: str) -> None:
        """See that a header came from one of them.

        Raises:
            Unidentified: it did not.
        """
        try:
            address = ipaddress.ip_address(sender or "")
        except ValueError as error:
            who = sender or "an unknown address"
            raise Unidentified(f"the header {header} came from {who}, which is not among the senders listed") from error
        mapped = getattr(address, "ipv4_mapped", None)
        if not any((mapped or address) in network for network in self._networks):
            raise Unidentified(f"the header {header} came from {sender}, which is not among the senders listed")


def may_be_joined(name: str, value: str) -> bool:
    """Whether a server that gives headers as one may have made a value of several, or of another header.

    WSGI servers put a comma between the values of headers with one name, and take ``X-User`` and ``X_User`` for one
    name (PEP 3333).
    """
    return "," in value or "-" in name or "_" in name
