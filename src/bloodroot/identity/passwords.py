"""Passwords, kept as hashes that are slow to guess (Argon2id, RFC 9106)."""

from __future__ import annotations

from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError


@cache
def _hasher() -> PasswordHasher:
    return PasswordHasher()


@cache
def _nobody() -> str:
    """A hash that no password gives, so that an unknown member takes as long to refuse as a known one."""
    return _hasher().hash("nobody has this password" * 4)


def hashed(password: str) -> str:
    """What to keep of a password: a salted hash, with the parameters it was made with."""
    return _hasher().hash(password)


def is_right(stored: str | None, password: str) -> bool:
    """Whether a password is the one a hash was made from. Without a hash the answer is no, just as slowly."""
    try:
        _hasher().verify(stored or _nobody(), password)
    except (Argon2Error, InvalidHashError, UnicodeError):
        return False
    return stored is not None


def is_dated(stored: str) -> bool:
    """Whether a hash was made with parameters that are no longer the best, and should be made again."""
    return _hasher().check_needs_rehash(stored)
