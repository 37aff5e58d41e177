"""Names and passwords with each request (RFC 7617), held against the directory."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import secrets
from typing import TYPE_CHECKING, Any

from ..core.caller import Caller, Unidentified
from ..request import Request
from .claims import Reading
from .fresh import Remembered, Unknown

if TYPE_CHECKING:
    from .directory import Directory

_LONGEST = 4096


class _Pair:
    """A name and a password, remembered by their digest."""

    __slots__ = ("_digest", "login", "password")

    def __init__(self, login: str, password: str, digest: str) -> None:
        self.login = login
        self.password = password
        self._digest = digest

    def __str__(self) -> str:
        return self._digest

    __repr__ = __str__


class Basic:
    """The header ``Authorization: Basic`` against passwords of Bloodroot's own tables.

    A pair that was right is remembered as long as a member is, under a digest that only this process can make, since
    a password takes long to check.

    Args:
        directory: where passwords are kept.
    """

    headers: tuple[str, ...] = ("Authorization",)
    asks_for_password = True

    def __init__(self, directory: Directory) -> None:
        self.directory = directory
        self._secret = secrets.token_bytes(32)
        self._remembered: Remembered[Any] = Remembered(self._check, directory.cached_for)
        directory.when_forgetting(self._remembered.forget)

    def _pair(self, request: Request) -> _Pair | None:
        sent = [header for header in request.headers.getlist("authorization") if header[:6].lower() == "basic "]
        if not sent:
            return None
        try:
            if len(sent) > 1 or len(sent[0]) > _LONGEST:
                raise ValueError
            login, colon, password = base64.b64decode(sent[0][6:].strip(" \t"), validate=True).decode().partition(":")
            if not colon or not login:
                raise ValueError
        except (ValueError, binascii.Error) as error:
            raise Unidentified("the name and the password that were sent cannot be read") from error
        text = f"{len(login)}:{login}{password}".encode("utf-8", "surrogateescape")
        return _Pair(login, password, hmac.new(self._secret, text, hashlib.sha256).hexdigest())

    def _check(self, pair: Any) -> Any:
        member = self.directory.member_with_password(pair.login, pair.password)
        return member.id if member is not None else None

    def waits(self, request: Request) -> bool:
        """Whether a password has to be checked."""
        pair = self._pair(request)
        return pair is not None and isinstance(self._remembered.remembered(pair), Unknown)

    def read(self, request: Request) -> Reading | None:
        """The member whose name and password a request has."""
        pair = self._pair(request)
        if pair is None:
            return None
        number = self._remembered.found(pair)
        if number is None:
            raise Unidentified("the directory has no member with this name and password")
        return Reading(Caller(number), ())
