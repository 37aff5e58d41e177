"""API keys as they are made, and what is kept of them."""

from __future__ import annotations

import datetime
import hashlib
import secrets
from dataclasses import dataclass
from typing import Any

BEGINNING = "brk_"  # so that scanners for secrets find keys in places where they do not belong


@dataclass(frozen=True, slots=True)
class KeyRow:
    """What is kept of a key.

    Attributes:
        owner: the id of the member whose key it is.
        scopes: the permissions that it was made for, with ``role NAME`` and ``signed-in`` for lines that ask for
            these themselves; None for all that its owner may do.
        until: from when on it is not accepted any more; None for no end.
        name: what people call it.
    """

    owner: Any
    scopes: tuple[str, ...] | None = None
    until: datetime.datetime | None = None
    name: str = ""


def made_key() -> str:
    """A new key, which cannot be guessed: 256 bits of chance."""
    return BEGINNING + secrets.token_urlsafe(32)


def hash_of(key: str) -> str:
    """What is kept of a key. A key is no password, and cannot be guessed: one round of SHA-256 is enough."""
    return hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()
