"""Bearer tokens: JSON Web Tokens (RFC 7519), checked as RFC 8725 advises."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import jwt

from ..core.caller import Unidentified
from ..settings import Development, Settings, SettingsError, TokenRules
from .keys import Keys, KeySet, NoKey, OneKey, private_key, public_key, secret_key

_UNREADABLE = "this is not a token that can be read"
_LONGEST = 16_384  # characters; no header is longer


class TokenCheck:
    """Believes tokens that keep the rules, and no others.

    Args:
        rules: what a token must be.
        keys: where its key comes from.
    """

    def __init__(self, rules: TokenRules, keys: Keys) -> None:
        self.rules = rules
        self.keys = keys

    def claims(self, token: str) -> dict[str, Any]:
        """The claims of a token that holds.

        Args:
            token: three parts with dots between them, as after ``Bearer`` in a request.

        Raises:
            Unidentified: the token is not valid; the reason says why.
            SettingsError: the key file has become unreadable.
        """
        if len(token) > _LONGEST:
            raise Unidentified("the token is longer than any header", token=True)
        try:
            claims = self._claims(token)
            self.good_until(claims)  # a time that no clock can hold is none
            return claims
        except NoKey as error:
            raise Unidentified(str(error), token=True) from error
        except jwt.PyJWTError as error:
            raise Unidentified(self._reason(error), token=True) from error
        except (ValueError, TypeError, ArithmeticError, RecursionError, LookupError, AttributeError) as error:
            # Numbers too large, JSON too deep, text that is none: whatever a client can write into a token.
            raise Unidentified(_UNREADABLE, token=True) from error

    def _claims(self, token: str) -> dict[str, Any]:
        header = jwt.get_unverified_header(token)
        algorithm = header.get("alg")
        if algorithm not in self.rules.algorithms:
            # RFC 8725, section 3.1: the checking side says which algorithms count, never the token.
            only = f", and only {self.rules.algorithms[0]} counts here" if len(self.rules.algorithms) == 1 else ""
            raise NoKey(f'the token says alg "{algorithm}"{only or ", which does not count here"}')
        if "crit" in header:
            # RFC 7515, section 4.1.11: what must be understood and is not makes the token invalid.
            raise NoKey("the token requires extensions that are not understood here")
        if self.rules.type is not None and _type(header.get("typ")) != _type(self.rules.type):
            raise NoKey(f'the token is not of the type "{self.rules.type}"')
        required = ["exp", *(["iss"] if self.rules.issuer else []), *(["aud"] if self.rules.audience else [])]
        claims: dict[str, Any] = jwt.decode(
            token,
            self.keys.key_for(header),
            algorithms=[algorithm],
            audience=self.rules.audience or None,
            issuer=self.rules.issuer,
            leeway=self.rules.leeway,
            options={"require": required},
        )
        return claims

    def ready(self, token: str) -> bool:
        """Whether `claims` answers without waiting for the provider."""
        try:
            header = jwt.get_unverified_header(token)
            return header.get("alg") not in self.rules.algorithms or self.keys.ready(header)
        except (jwt.PyJWTError, ValueError, TypeError, RecursionError, AttributeError):
            return True  # it is refused

    def issuer_of(self, token: str) -> str | None:
        """The issuer that a token names, not yet believed; None where it names none, or is no such token."""
        try:
            issuer = unchecked(token).claims.get("iss")
        except (ValueError, TypeError, RecursionError, AttributeError):
            return None
        return issuer if isinstance(issuer, str) else None

    def good_until(self, claims: Mapping[str, Any]) -> float:
        """The time until which claims that hold now go on to hold, in seconds since 1970."""
        return float(claims["exp"]) + self.rules.leeway

    def _reason(self, error: jwt.PyJWTError) -> str:
        """Why a token is not valid, in words that show neither the token nor a key."""
        if isinstance(error, jwt.MissingRequiredClaimError):
            if error.claim == "exp":
                return "the token has no exp, so it would be valid for ever"
            return f"the token has no {error.claim}"
        for kind, reason in (
            (jwt.ExpiredSignatureError, "the token has expired"),
            (jwt.ImmatureSignatureError, "the token is not valid yet"),
            (jwt.InvalidAudienceError, _audience(self.rules.audience)),
            (jwt.InvalidIssuerError, f"the token does not come from {self.rules.issuer}"),
            (jwt.InvalidSignatureError, "the token was not signed with the key that counts here"),
            (jwt.InvalidIssuedAtError, "the token's iat is no time"),
            (jwt.DecodeError, _UNREADABLE),
        ):
            if isinstance(error, kind):
                return reason
        return "the token is not valid"


def _audience(wanted: Sequence[str]) -> str:
    if not wanted:
        return "the token is meant for an audience, and the settings name none; write audience"
    return f"the token is not meant for {' or '.join(wanted)}"


def _type(name: object) -> str:
    """A media type without the part that may be left out (RFC 7515, section 4.1.9)."""
    return str(name).lower().removeprefix("application/")


def token_check(rules: TokenRules, settings: Settings) -> TokenCheck:
    """The check that settings describe, with its key read.

    Raises:
        SettingsError: the key is missing, unreadable, or not one for the algorithm.
    """
    if rules.jwks_file is not None:
        return TokenCheck(rules, KeySet(rules.jwks_file, rules.algorithms))
    if rules.key_file is not None:
        return TokenCheck(rules, OneKey(_public(_read(rules.key_file), rules, rules.key_file.name)))
    if rules.key is None:
        from .remote_keys import ProviderKeys

        return TokenCheck(rules, ProviderKeys(rules.algorithms, issuer=rules.issuer, url=rules.jwks_url))
    text = settings.fill(rules.key, None, "identity.key")
    if rules.algorithms == ("HS256",):
        return TokenCheck(rules, OneKey(secret_key(text, "identity.key")))
    return TokenCheck(rules, OneKey(_public(text.encode(), rules, "identity.key")))


def _public(data: bytes, rules: TokenRules, where: str) -> Any:
    """The public key in PEM text, which is one for some of the algorithms."""
    *others, last = rules.algorithms
    for algorithm in others:
        with contextlib.suppress(SettingsError):
            return public_key(data, algorithm, where)
    return public_key(data, last, where)


def make_token(
    claims: Mapping[str, Any], rules: TokenRules, development: Development, settings: Settings, now: datetime.datetime
) -> str:
    """A token for development, signed with the key made for it.

    Args:
        claims: what the token says of the caller.
        rules: what the application asks of tokens; its issuer, audience and type are put in.
        development: the key, and for how long the token is valid.
        settings: for ``{env.NAME}``.
        now: when it is issued.

    Raises:
        SettingsError: the key is missing or unreadable, or the application would not accept the token.
    """
    check = token_check(rules, settings)
    if rules.key is None and rules.key_file is None and rules.jwks_file is None:
        raise SettingsError("a token of this source is signed by its provider, with a key that only the provider has")
    algorithm, key = _signing_key(rules, development, settings)
    ends = now + datetime.timedelta(minutes=development.minutes)
    said: dict[str, Any] = {**claims, "iat": now, "exp": ends}
    if rules.issuer is not None:
        said["iss"] = rules.issuer
    if rules.audience:
        said["aud"] = rules.audience[0]
    header: dict[str, Any] = {"typ": rules.type} if rules.type is not None else {}
    if isinstance(check.keys, KeySet):
        name = check.keys.name_of(key if isinstance(key, bytes) else key.public_key())
        header |= {"kid": name} if name is not None else {}
    token = jwt.encode(said, key, algorithm, header)
    try:
        check.claims(token)
    except Unidentified as error:
        raise SettingsError(
            f"token.development_key: a token made with this key would be refused: {error.reason}"
        ) from error
    return token


def _signing_key(rules: TokenRules, development: Development, settings: Settings) -> tuple[str, Any]:
    """The key for development, and the first of the algorithms that it is for."""
    is_secret = rules.algorithms == ("HS256",)
    if development.key_file is not None:
        if is_secret:
            raise SettingsError("token.development_key_file: HS256 signs with a secret; write development_key instead")
        data, where = _read(development.key_file), development.key_file.name
    else:
        text, where = settings.fill(development.key or "", None, "token.development_key"), "token.development_key"
        if is_secret:
            return "HS256", secret_key(text, where)
        data = text.encode()
    *others, last = rules.algorithms
    for algorithm in others:
        with contextlib.suppress(SettingsError):
            return algorithm, private_key(data, algorithm, where)
    return last, private_key(data, last, where)


class UncheckedToken(NamedTuple):
    """What a token says, whether it holds or not.

    Attributes:
        header: its header.
        claims: its claims.
    """

    header: dict[str, Any]
    claims: dict[str, Any]


def unchecked(token: str) -> UncheckedToken:
    """Header and claims of a token, without asking whether it holds; to look at, never to act on.

    Raises:
        ValueError: it is no token.
    """
    try:
        header = jwt.get_unverified_header(token)
        # Nothing is decided on these: they are shown to those who hold the token already.
        claims = jwt.decode(token, options={"verify_signature": False, "verify_exp": False, "verify_aud": False})
    except jwt.PyJWTError as error:
        raise ValueError(str(error)) from error
    return UncheckedToken(header, claims)


def _read(file: Any) -> bytes:
    try:
        data: bytes = file.read_bytes()
    except OSError as error:
        raise SettingsError(f"{file.name}: {error.strerror}") from error
    return data
