"""Callers with keys that are kept in the directory as hashes, each with its owner and perhaps an end."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

from ..core.caller import Caller, Unidentified
from ..request import Request
from ..settings import scopes_of
from ..settings.callers import EVERYTHING
from .claims import Reading
from .fresh import Remembered, Unknown
from .stored_keys import KeyRow, hash_of

if TYPE_CHECKING:
    from .directory import Directory

_LONGEST = 512


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
        scopes, roles = scopes_of(row.scopes) if row.scopes is not None else EVERYTHING
        notes = (f"by the key {row.name}",) if row.name else ()
        return Reading(Caller(row.owner, scopes=scopes, scoped_roles=roles, notes=notes), ())
