"""Callers with keys that are kept in the directory as hashes, each with its owner and perhaps an end."""

from __future__ import annotations

import datetime
import hashlib
import secrets
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..core.caller import Caller, Unidentified
from ..request import Request
from .claims import Reading
from .fresh import Remembered, Unknown

if TYPE_CHECKING:
    from .directory import Directory

BEGINNING = "brk_"  # so that scanners for secrets find keys in places where they do not belong
_LONGEST = 512


@dataclass(frozen=True, slots=True)
class KeyRow:
    """What is kept of a key.

    Attributes:
        owner: the id of the member whose key it is.
        scopes: the permissions that it was made for; None for all that its owner may do.
        until: from when on it is not accepted any more; None for no end.
        name: what people call it.
    """

    owner: Any
    scopes: tuple[str, ...] | None = None
    until: datetime.datetime | None = None
    name: str = ""


def made_key() -> str:
    """A new key, which nobody can guess: 256 bits of chance."""
    return BEGINNING + secrets.token_urlsafe(32)


def hash_of(key: str) -> str:
    """What is kept of a key. A key is no password, and cannot be guessed: one round of SHA-256 is enough."""
    return hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()


class ApiKey:
    """A key in a header, such as ``X-Api-Key``.

    Args:
        directory: where keys are kept.
        header: the name of the header.
    """

    def __init__(self, directory: Directory, header: str) -> None:
        self.directory = directory
        self.headers: tuple[str, ...] = (header,)
        self._remembered: Remembered[KeyRow] = Remembered(directory.key_row, directory.cached_for)
        directory.when_forgetting(self._remembered.forget)

    def _sent(self, request: Request) -> str | None:
        sent = request.headers.getlist(self.headers[0])
        if not sent:
            return None
        if len(sent) > 1 or len(sent[0]) > _LONGEST:
            raise Unidentified("more than one key was sent" if len(sent) > 1 else "this is no key")
        return hash_of(sent[0].strip(" \t"))

    def waits(self, request: Request) -> bool:
        """Whether the directory has to be asked."""
        hashed = self._sent(request)
        return hashed is not None and isinstance(self._remembered.remembered(hashed), Unknown)

    def read(self, request: Request) -> Reading | None:
        """The owner of the key of a request, with no more than the key was made for."""
        hashed = self._sent(request)
        if hashed is None:
            return None
        row = self._remembered.found(hashed)
        if row is None:
            raise Unidentified("the directory has no such key")
        if row.until is not None and row.until <= datetime.datetime.now(datetime.UTC):
            raise Unidentified("the key has ended")
        return Reading(Caller(row.owner, scopes=row.scopes, notes=(f"by the key {row.name}",) if row.name else ()), ())
