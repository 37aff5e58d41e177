"""One token looked at from all sides: what it says, whether it holds, and what comes of it."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..core.caller import Caller, Unidentified
from ..core.endpoint_outcomes import remainders
from ..core.formulas import TRUE, can_be_true
from ..core.paths import read_path
from ..core.policy import Policy
from ..language.problems import suggestion
from ..settings import Settings, SettingsError, SourceSettings
from .claims import ClaimStep, read_claims
from .identification import directory_of
from .tokens import token_check, unchecked


@dataclass(frozen=True, slots=True)
class Examined:
    """What a token came to.

    Attributes:
        header: what it says of itself.
        claims: what it says of its owner, whether it holds or not.
        fault: why it is not valid, or None.
        ends: until when it is valid, or None where it does not say.
        steps: how the claims were read.
        hints: role and group names that the policy does not know, with what may have been meant.
        caller: the caller that it makes, before the directory is asked; None for a signed-out one.
        fresh: what the directory says, in words, or None where none was asked.
        counts: the caller that counts in the end; None for a signed-out one.
        permissions: what that caller may do: each permission, and what it depends on or None.
        lacking: permissions that it has not.
    """

    header: dict[str, Any]
    claims: dict[str, Any]
    fault: str | None
    ends: datetime.datetime | None
    steps: tuple[ClaimStep, ...] = ()
    hints: tuple[str, ...] = ()
    caller: Caller | None = None
    fresh: str | None = None
    counts: Caller | None = None
    permissions: tuple[tuple[str, str | None], ...] = ()
    lacking: tuple[str, ...] = ()


def examine(token: str, source: SourceSettings, settings: Settings, policy: Policy) -> Examined:
    """Look at a token as the application would, and show what it could not.

    Args:
        token: three parts with dots between them.
        source: the way of saying who one is that takes tokens.
        settings: the key, and the directory if there is one.
        policy: what knows the roles.

    Raises:
        ValueError: it is no token at all.
        SettingsError: the key cannot be read.
    """
    header, claims = unchecked(token)
    assert source.token is not None
    fault = None
    try:
        token_check(source.token, settings).claims(token)
    except Unidentified as error:
        fault = error.reason
    ends = _datetime(claims.get("exp"))
    try:
        reading = read_claims(claims, source.claims)
    except Unidentified as error:
        return Examined(header, claims, fault or error.reason, ends)
    steps = reading.steps
    hints = tuple(_hints(reading.caller, policy))
    if fault is not None:
        return Examined(header, claims, fault, ends, steps, hints, reading.caller)
    fresh, counts, fault = _fresh(reading.caller, settings)
    permissions, lacking = _permissions(counts, policy) if counts is not None else ((), ())
    return Examined(header, claims, fault, ends, steps, hints, reading.caller, fresh, counts, permissions, lacking)


def _issuer(token: str) -> object:
    try:
        return unchecked(token).claims.get("iss")
    except ValueError:
        return None


def _datetime(seconds: Any) -> datetime.datetime | None:
    try:
        return datetime.datetime.fromtimestamp(seconds, datetime.UTC)
    except (TypeError, ValueError, OverflowError, OSError):
        return None


def _hints(caller: Caller, policy: Policy) -> list[str]:
    hints = []
    for name in sorted(caller.roles):
        if name not in policy.roles.bit:
            same = next((role for role in policy.roles.bit if role.lower() == name.lower()), None)
            guess = f'; write names = {{ "{name}" = "{same}" }}' if same else suggestion(name, policy.roles.bit)
            hints.append(f'the policy knows no role "{name}"{guess}')
    for name in sorted(caller.groups):
        if name not in policy.roles.groups:
            hints.append(f'the policy knows no group "{name}"{suggestion(name, policy.roles.groups)}')
    return hints


class _Fresh(NamedTuple):
    """What the directory says of the caller of a token.

    Attributes:
        words: what it says; None where there is no directory.
        caller: the caller that results, if any.
        reason: why there is none.
    """

    words: str | None
    caller: Caller | None
    reason: str | None


def _fresh(caller: Caller, settings: Settings) -> _Fresh:
    """What the directory says of a caller."""
    if settings.directory is None:
        return _Fresh(None, caller, None)
    directory = directory_of(settings)
    directory.check()
    try:
        found = directory.caller(caller.id, caller)
    except Unidentified as error:
        return _Fresh(error.reason, None, error.reason)
    text = f"member {found.id}: {', '.join(sorted(found.roles)) or 'no role of its own'}"
    text += f"; groups {', '.join(sorted(found.groups))}" if found.groups else ""
    granted = (f"{name} by {giver}" for name, giver in sorted(found.granted.items()))
    text += f"; granted {', '.join(granted)}" if found.granted else ""
    return _Fresh(text, found, None)


def _permissions(caller: Caller, policy: Policy) -> tuple[tuple[tuple[str, str | None], ...], tuple[str, ...]]:
    """Which permissions a caller has, on what they depend, and which it has not."""
    has: list[tuple[str, str | None]] = []
    lacking = []
    for name, formula in remainders(policy, caller).items():
        if formula is TRUE:
            has.append((name, None))
        elif can_be_true(formula):
            has.append((name, formula.words()))
        else:
            lacking.append(name)
    return tuple(has), tuple(lacking)


def token_source(settings: Settings, path: str | None = None, token: str | None = None) -> SourceSettings:
    """The way of saying who one is that takes tokens.

    Args:
        settings: the settings.
        path: the path that is asked for; None for any.
        token: the token: where several take tokens, its issuer says which one counts.

    Raises:
        SettingsError: there is none, or there are several and nothing says which one is meant.
    """
    sources = [source for source in settings.identity if source.token is not None]
    if path is not None:
        segments = read_path(path)
        if segments is None:
            raise SettingsError(f"{path} is no path that can be read in one way")
        placed = [each for each in settings.identity if each.covers is not None and each.covers.covers(segments)]
        if placed:
            sources = [source for source in placed if source.token is not None]
        else:
            sources = [source for source in sources if source.covers is None]
        if not sources:
            raise SettingsError(f"{settings.file.name}: no source takes tokens on {path}")
    if len(sources) > 1 and token is not None:
        issuer = _issuer(token)
        sources = [
            source for source in sources if source.token is not None and source.token.issuer == issuer
        ] or sources
    if len(sources) > 1 and token is not None:
        raise SettingsError(
            f"{settings.file.name}: {len(sources)} sources take tokens, and the issuer of this one is that of none or "
            "several; name a path that it is sent to: --path /api"
        )
    if sources:
        return sources[0]
    raise SettingsError(
        f'{settings.file.name}: nothing says how tokens are read; write [identity] with from = "jwt" and a key'
    )
