"""Keys that tokens are checked with, and those that development signs with. No message ever shows one."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
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


@dataclass(frozen=True, slots=True)
class _Kind:
    """A kind of key.

    Attributes:
        name: in words.
        kty: ``kty`` in a key set (RFC 7517, section 4.1).
        public: the class of its public keys.
        private: the class of its private keys.
        curve: ``crv`` in a key set, and what the keys themselves call their curve; empty for none.
    """

    name: str
    kty: str
    public: type[Any]
    private: type[Any]
    curve: tuple[str, str] = ("", "")


_RSA = _Kind("RSA", "RSA", rsa.RSAPublicKey, rsa.RSAPrivateKey)
_KINDS: dict[str, _Kind] = {
    **dict.fromkeys(("RS256", "RS384", "RS512", "PS256", "PS384", "PS512"), _RSA),
    **{
        name: _Kind(curve, "EC", ec.EllipticCurvePublicKey, ec.EllipticCurvePrivateKey, (curve, called))
        for name, curve, called in (
            ("ES256", "P-256", "secp256r1"),
            ("ES384", "P-384", "secp384r1"),
            ("ES512", "P-521", "secp521r1"),
        )
    },
    "EdDSA": _Kind("Ed25519", "OKP", ed25519.Ed25519PublicKey, ed25519.Ed25519PrivateKey, ("Ed25519", "")),
}


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

    def ready(self, header: Mapping[str, Any]) -> bool:
        """Whether `key_for` answers without waiting for another machine."""
        ...


class OneKey:
    """The same key for every token."""

    def __init__(self, key: Any) -> None:
        self._key = key

    def key_for(self, header: Mapping[str, Any]) -> Any:
        algorithm = header.get("alg")
        if algorithm != "HS256" and not fits(self._key, str(algorithm)):
            raise NoKey(f"the key that counts here is not one for {algorithm}")
        return self._key

    def version(self) -> int:
        """A number that is another one whenever the keys are."""
        return 0

    def ready(self, header: Mapping[str, Any]) -> bool:  # noqa: ARG002
        return True


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


def fits(key: Any, algorithm: str) -> bool:
    """Whether a public key is one for an algorithm, and long enough."""
    kind = _KINDS.get(algorithm)
    if kind is None or not isinstance(key, kind.public):
        return False
    if kind.curve[1]:
        return bool(key.curve.name == kind.curve[1])
    return kind is not _RSA or key.key_size >= _RSA_BITS


def _check_kind(key: Any, algorithm: str, where: str, *, secret: bool) -> None:
    kind = _KINDS[algorithm]
    if not isinstance(key, kind.private if secret else kind.public):
        raise SettingsError(f"{where}: {algorithm} requires a key of the kind {kind.name}, and this is another")
    if kind.curve[1] and key.curve.name != kind.curve[1]:
        raise SettingsError(f"{where}: {algorithm} requires the curve {kind.name}, and this key is on {key.curve.name}")
    if kind is _RSA and key.key_size < _RSA_BITS:
        raise SettingsError(f"{where}: an RSA key of {key.key_size} bits is too short; take {_RSA_BITS} or more")


@dataclass(frozen=True, slots=True)
class SetKey:
    """A key of a set: its ``kid``, the one algorithm that it is for or None for all that it fits, and the key."""

    name: str | None
    algorithm: str | None
    key: Any

    def is_for(self, algorithm: str) -> bool:
        """Whether signatures by an algorithm may be checked with it."""
        if self.algorithm is not None:
            return self.algorithm == algorithm
        return isinstance(self.key, bytes) if algorithm == "HS256" else fits(self.key, algorithm)


def keys_in(data: Any, algorithms: tuple[str, ...], where: str, *, strict: bool = True) -> list[SetKey]:
    """The keys of a JSON Web Key Set (RFC 7517, section 5) that signatures by some algorithms are checked with.

    Args:
        data: the set, read from JSON.
        algorithms: those that count.
        where: where it is from, for messages.
        strict: whether a key that cannot be read is an error, or is left out, as RFC 7517 advises for sets of others.

    Raises:
        SettingsError: it is no key set, or has no such key.
    """
    entries = data.get("keys") if isinstance(data, dict) else None
    if not isinstance(entries, list):
        raise SettingsError(f'{where}: not a JSON Web Key Set; it has no list "keys"')
    usable: list[SetKey] = []
    for entry in entries:
        if not isinstance(entry, dict) or entry.get("use", "sig") != "sig":
            continue
        operations = entry.get("key_ops", ["verify"])
        if not isinstance(operations, list) or ("verify" not in operations and not strict):
            continue
        algorithm = next((name for name in algorithms if _may_be(entry, name)), None)
        if algorithm is None:
            continue
        try:
            key = jwt.PyJWK(entry, algorithm).key
            if algorithm == "HS256":
                secret_key(key.decode("latin-1"), where)
            else:
                _check_kind(key, algorithm, where, secret=False)
        except (jwt.PyJWTError, ValueError, TypeError) as error:
            if strict:
                raise SettingsError(f"{where}: a key of this set cannot be read") from error
            continue
        except SettingsError:
            if strict:
                raise
            continue
        name = entry.get("kid")
        usable.append(SetKey(name if isinstance(name, str) else None, entry.get("alg"), key))
    if not usable:
        raise SettingsError(f"{where}: there is no key for {' or '.join(algorithms)} in this set")
    return usable


def _may_be(entry: Mapping[str, Any], algorithm: str) -> bool:
    """Whether an entry of a set may be a key for an algorithm."""
    if entry.get("alg", algorithm) != algorithm:
        return False
    if algorithm == "HS256":
        return entry.get("kty") == "oct"
    kind = _KINDS[algorithm]
    return entry.get("kty") == kind.kty and entry.get("crv", "") == kind.curve[0]


def chosen(keys: list[SetKey], header: Mapping[str, Any]) -> Any:
    """The key of a set that a token's ``kid`` names; the only one for its algorithm where the token names none.

    Raises:
        NoKey: there is none, or there are several.
    """
    wanted, algorithm = header.get("kid"), str(header.get("alg"))
    suited = [each for each in keys if each.is_for(algorithm)]
    if wanted is None:
        if len(suited) == 1:
            return suited[0].key
        raise NoKey(f"the token names no key, and there are {len(suited)}")
    named = [each.key for each in suited if each.name == wanted]
    if len(named) != 1:
        raise NoKey("the token names a key that is not in the set")
    return named[0]


class KeySet:
    """A file with a JSON Web Key Set (RFC 7517), read again when it changes."""

    def __init__(self, file: Path, algorithms: tuple[str, ...]) -> None:
        self._file = file
        self._algorithms = algorithms
        self._seen: tuple[int, int, int] | None = None
        self._keys: list[SetKey] = []
        self._version = 0
        self.refresh()

    def refresh(self) -> None:
        """Read the file if it is not the one that was read before.

        Raises:
            SettingsError: it cannot be read, or holds no key for the algorithms.
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
        self._keys = keys_in(data, self._algorithms, self._file.name)
        self._seen = seen
        self._version += 1

    def version(self) -> int:
        """A number that is another one whenever the keys are; the file is read again if it has changed."""
        self.refresh()
        return self._version

    def key_for(self, header: Mapping[str, Any]) -> Any:
        """The key that a token's ``kid`` names; the only key where the token names none."""
        self.refresh()
        return chosen(self._keys, header)

    def ready(self, header: Mapping[str, Any]) -> bool:  # noqa: ARG002
        return True

    def name_of(self, public: Any) -> str | None:
        """The ``kid`` under which a key is in the set, or None."""
        return next((each.name for each in self._keys if each.key == public), None)


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0].split("(")[0].strip().rstrip(".") or "it cannot be read"
