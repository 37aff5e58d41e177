"""Keys that tokens are checked with, and those that development signs with. No message ever shows one."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Protocol

import jwt
from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import load_pem_private_key, load_pem_public_key

from ..language.errors import BloodrootError
from ..settings import SettingsError

_SECRET_BYTES = 32  # RFC 7518, section 3.2
_RSA_BITS = 2048  # RFC 7518, section 3.3
_KINDS: dict[str, tuple[str, type[Any], type[Any]]] = {
    "RS256": ("RSA", rsa.RSAPublicKey, rsa.RSAPrivateKey),
    "ES256": ("P-256", ec.EllipticCurvePublicKey, ec.EllipticCurvePrivateKey),
    "EdDSA": ("Ed25519", ed25519.Ed25519PublicKey, ed25519.Ed25519PrivateKey),
}
_KEY_TYPES = {"HS256": "oct", "RS256": "RSA", "ES256": "EC", "EdDSA": "OKP"}


class NoKey(BloodrootError):
    """There is no key for a token; the message says why."""


class Keys(Protocol):
    """Where the key for a token comes from."""

    def key_for(self, header: Mapping[str, Any]) -> Any:
        """The key for a token with this header.

        Raises:
            NoKey: there is none.
        """
        ...

    def version(self) -> int:
        """A number that is another one whenever the keys are."""
        ...


class OneKey:
    """The same key for every token."""

    def __init__(self, key: Any) -> None:
        self._key = key

    def key_for(self, header: Mapping[str, Any]) -> Any:  # noqa: ARG002
        return self._key

    def version(self) -> int:
        """A number that is another one whenever the keys are."""
        return 0


def secret_key(text: str, where: str) -> bytes:
    """A secret that HMAC may use.

    Raises:
        SettingsError: it is too short to be one.
    """
    key = text.encode()
    if len(key) < _SECRET_BYTES:
        raise SettingsError(
            f"{where}: the key has {len(key)} bytes, and HS256 requires {_SECRET_BYTES} or more (RFC 7518, section 3.2)"
        )
    return key


def public_key(data: bytes, algorithm: str, where: str) -> Any:
    """The public key in PEM text, a certificate's too.

    Raises:
        SettingsError: there is none, or it is not one for this algorithm.
    """
    if b"PRIVATE KEY" in data:
        raise SettingsError(f"{where}: this holds a private key; checking tokens needs the public one alone")
    try:
        if b"BEGIN CERTIFICATE" in data:
            key: Any = x509.load_pem_x509_certificate(data).public_key()
        else:
            key = load_pem_public_key(data)
    except (ValueError, UnsupportedAlgorithm) as error:
        raise SettingsError(f"{where}: there is no public key in PEM here: {_first_line(error)}") from error
    _check_kind(key, algorithm, where, secret=False)
    return key


def private_key(data: bytes, algorithm: str, where: str) -> Any:
    """The private key in PEM text.

    Raises:
        SettingsError: there is none, or it is not one for this algorithm.
    """
    try:
        pem_private_key = load_pem_private_key(data, None)
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise SettingsError(f"{where}: there is no private key in PEM here: {_first_line(error)}") from error
    _check_kind(pem_private_key, algorithm, where, secret=True)
    return pem_private_key


def _check_kind(key: Any, algorithm: str, where: str, *, secret: bool) -> None:
    name, public, private = _KINDS[algorithm]
    if not isinstance(key, private if secret else public):
        raise SettingsError(f"{where}: {algorithm} requires a key of the kind {name}, and this is another")
    if name == "P-256" and key.curve.name != "secp256r1":
        raise SettingsError(f"{where}: ES256 requires the curve P-256, and this key is on {key.curve.name}")
    if name == "RSA" and key.key_size < _RSA_BITS:
        raise SettingsError(f"{where}: an RSA key of {key.key_size} bits is too short; take {_RSA_BITS} or more")


class KeySet:
    """A file with a JSON Web Key Set (RFC 7517), read again when it changes."""

    def __init__(self, file: Path, algorithm: str) -> None:
        self._file = file
        self._algorithm = algorithm
        self._seen: tuple[int, int, int] | None = None
        self._keys: list[tuple[str | None, Any]] = []
        self._version = 0
        self.refresh()

    def refresh(self) -> None:
        """Read the file if it is not the one that was read before.

        Raises:
            SettingsError: it cannot be read, or holds no key for the algorithm.
        """
        try:
            status = self._file.stat()
            seen = (status.st_mtime_ns, status.st_size, status.st_ino)
            if seen == self._seen:
                return
            data = json.loads(self._file.read_bytes())
        except OSError as error:
            raise SettingsError(f"{self._file.name}: {error.strerror}") from error
        except ValueError as error:
            raise SettingsError(f"{self._file.name}: this is not JSON: {error}") from error
        self._keys = self._usable(data)
        self._seen = seen
        self._version += 1

    def version(self) -> int:
        """A number that is another one whenever the keys are; the file is read again if it has changed."""
        self.refresh()
        return self._version

    def _usable(self, data: Any) -> list[tuple[str | None, Any]]:
        """The keys of the set that are for signatures by the algorithm, with their ids."""
        entries = data.get("keys") if isinstance(data, dict) else None
        if not isinstance(entries, list):
            raise SettingsError(f'{self._file.name}: not a JSON Web Key Set; it has no list "keys"')
        usable: list[tuple[str | None, Any]] = []
        for entry in entries:
            if not isinstance(entry, dict) or entry.get("kty") != _KEY_TYPES[self._algorithm]:
                continue
            if entry.get("alg", self._algorithm) != self._algorithm or entry.get("use", "sig") != "sig":
                continue
            try:
                key = jwt.PyJWK(entry, self._algorithm).key
            except (jwt.PyJWTError, ValueError, TypeError) as error:
                raise SettingsError(f"{self._file.name}: a key of this set cannot be read") from error
            if self._algorithm == "HS256":
                secret_key(key.decode("latin-1"), self._file.name)
            else:
                _check_kind(key, self._algorithm, self._file.name, secret=False)
            usable.append((entry.get("kid"), key))
        if not usable:
            raise SettingsError(f"{self._file.name}: there is no key for {self._algorithm} in this set")
        return usable

    def key_for(self, header: Mapping[str, Any]) -> Any:
        """The key that a token's ``kid`` names; the only key where the token names none."""
        self.refresh()
        wanted = header.get("kid")
        if wanted is None:
            if len(self._keys) == 1:
                return self._keys[0][1]
            raise NoKey(f"the token names no key, and there are {len(self._keys)}")
        keys = [key for kid, key in self._keys if kid == wanted]
        if len(keys) != 1:
            raise NoKey("the token names a key that is not in the set")
        return keys[0]

    def name_of(self, public: Any) -> str | None:
        """The ``kid`` under which a key is in the set, or None."""
        return next((kid for kid, key in self._keys if key == public), None)


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0].split("(")[0].strip().rstrip(".") or "it cannot be read"
