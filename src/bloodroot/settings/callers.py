"""What the settings say of callers, as plain data: ``[identity]``, ``[directory]`` and ``[token]``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from ..core.paths import Template

_STEP = re.compile(r'(?:"([^"]+)"|([^".]+))(?:\.(?=.)|\Z)')

ClaimPath = tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ClaimedRoles:
    """Where the roles that are held in records of a thing are in claims, and how they are written.

    Attributes:
        at: the way to them.
        id: of a list of objects, the key of the record's identifier.
        role: of a list of objects, the key of the role or the roles.
        pattern: of strings, what each is like, as in ``studio:{id}:{role}``; None for other shapes.
        separator: what is between names, or strings of the pattern, that come as one string; None for nothing.
        drop_prefix: what names of roles begin with; a name without it is no role here.
        names: role names as they come, to those of the policy.
    """

    at: ClaimPath
    id: str = "id"
    role: str = "role"
    pattern: str | None = None
    separator: str | None = None
    drop_prefix: str = ""
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ClaimNames:
    """Where each part of a caller is in claims, in a session or in headers.

    Attributes:
        id: the way to the caller's id.
        roles: the ways to the names of roles, all of which count.
        groups: the way to the names of groups, or None.
        scopes: the way to the scopes of a token made for less than its owner may do, or None.
        attributes: for each attribute, the way to it.
        separator: what is between names that come as one string; None where a string is one name.
        drop_prefix: what role names begin with; a name without it is another application's, and no role here.
        names: role names as they come, to those of the policy.
        roles_in: for each thing, where the roles are that are held in its records.
        actor: the way to the id of who acts for the caller, or None.
        scope_names: for each scope, what a token with it may be used for, as `given_by_scopes` reads it; None where the
            names of scopes are those of permissions.
    """

    id: ClaimPath
    roles: tuple[ClaimPath, ...] = ()
    groups: ClaimPath | None = None
    scopes: ClaimPath | None = None
    attributes: Mapping[str, ClaimPath] = field(default_factory=dict)
    separator: str | None = None
    drop_prefix: str = ""
    names: Mapping[str, str] = field(default_factory=dict)
    roles_in: Mapping[str, ClaimedRoles] = field(default_factory=dict)
    actor: ClaimPath | None = None
    scope_names: Mapping[str, tuple[str, ...]] | None = None


@dataclass(frozen=True, slots=True)
class TokenRules:
    """What makes a bearer token valid (RFC 7519; RFC 8725).

    Attributes:
        algorithms: the ways of signing that count, whatever a token says of itself.
        key: the key as the settings write it, ``{env.NAME}``; None where it comes from a file.
        key_file: a PEM file, or None.
        jwks_file: a file with a JSON Web Key Set (RFC 7517), or None.
        jwks_url: where the provider publishes its key set, or None. Without any key, the issuer says where.
        issuer: what ``iss`` must be, or None.
        audience: what ``aud`` must name one of; empty for tokens without an audience.
        leeway: seconds by which clocks may differ.
        type: what the header's ``typ`` must be, such as ``at+jwt`` (RFC 9068), or None.
    """

    algorithms: tuple[str, ...]
    key: str | None = None
    key_file: Path | None = None
    jwks_file: Path | None = None
    jwks_url: str | None = None
    issuer: str | None = None
    audience: tuple[str, ...] = ()
    leeway: float = 0
    type: str | None = None


@dataclass(frozen=True, slots=True)
class IntrospectionRules:
    """Where a provider is asked about tokens (RFC 7662), and what its answer must be.

    Attributes:
        client: what the application is called at the provider.
        secret: what it shows there, as the settings write it, ``{env.NAME}``.
        url: where to ask; None where the issuer says so.
        issuer: the provider, or None.
        audience: what ``aud`` must name one of; empty for tokens without an audience.
        cache: seconds for which an answer is remembered.
    """

    client: str
    secret: str
    url: str | None = None
    issuer: str | None = None
    audience: tuple[str, ...] = ()
    cache: float = 10


@dataclass(frozen=True, slots=True)
class SourceSettings:
    """One way for callers to say who they are.

    Attributes:
        kind: ``jwt``, ``introspection``, ``key``, ``basic``, ``certificate``, ``session`` or ``header``.
        claims: where each part of a caller is.
        covers: the paths that this way is for; None for all.
        token: for ``jwt``, what a token must be.
        senders: for ``header`` and ``certificate``, the networks from which the headers are trusted.
        asks_directory: whether nothing but the id is taken from here.
        cookie: the cookie that has the token; None for the header ``Authorization``.
        looks_up: whether the directory, if there is one, is asked who this is.
        introspection: for ``introspection``, where to ask.
        header: for ``key`` and ``certificate``, the name of the header.
    """

    kind: str
    claims: ClaimNames
    covers: Template | None = None
    token: TokenRules | None = None
    senders: tuple[str, ...] = ()
    asks_directory: bool = False
    cookie: str | None = None
    looks_up: bool = True
    introspection: IntrospectionRules | None = None
    header: str = ""


@dataclass(frozen=True, slots=True)
class DirectoryTables:
    """Where members, roles and grants are kept.

    Attributes:
        url: the database as SQLAlchemy names it; a relative SQLite file is looked for in the project's folder.
        cache: seconds for which a member's roles are remembered.
        queries: for tables of the application's own, what to ask by name; empty for Bloodroot's tables.
        separator: what is between names that come as one string; None where a string is one name.
        active: the statuses of members who may act.
        keep_suspended: whether a member of another status is still known by name, for the policy to judge.
        roles: ``directory`` where its roles alone count, ``both`` where those of a token or a session do as well.
        json: columns of the member's row that hold JSON as text.
    """

    url: str
    cache: float = 2.0
    queries: Mapping[str, str] = field(default_factory=dict)
    separator: str | None = ","
    active: tuple[str, ...] = ("active",)
    keep_suspended: bool = False
    roles: str = "directory"
    json: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Development:
    """What ``bloodroot token make`` signs with: a key made for development.

    Attributes:
        key: the key as the settings write it, ``{env.NAME}``; None where it comes from a file.
        key_file: a PEM file with a private key, or None.
        minutes: for how long a token is valid.
    """

    key: str | None = None
    key_file: Path | None = None
    minutes: float = 10


class GivenByScopes(NamedTuple):
    """What a token or a key may be used for: what becomes `Caller.scopes` and `Caller.scoped_roles`.

    Attributes:
        scopes: permissions; None for all that the owner has.
        scoped_roles: roles; None for all that the owner holds.
    """

    scopes: frozenset[str] | None
    scoped_roles: frozenset[str] | None


EVERYTHING = GivenByScopes(None, None)


def counts_for_roles(sources: Iterable[SourceSettings]) -> bool:
    """Whether some token or key may count for some roles of its owner alone."""
    return any(
        source.kind == "key"
        or any(
            name == "signed-in" or name.startswith("role ")
            for given in (source.claims.scope_names or {}).values()
            for name in given
        )
        for source in sources
    )


def given_by_scopes(names: Iterable[str], where: ClaimNames) -> GivenByScopes:
    """What scopes let a token be used for.

    Args:
        names: the scopes of a token.
        where: with what each of them gives, if the settings say it: names of permissions, ``role NAME`` and
            ``signed-in`` for lines that ask for these themselves, and ``*`` for all that the owner may do.
    """
    if where.scope_names is None:
        return GivenByScopes(frozenset(names), None)
    return scopes_of([each for name in names for each in where.scope_names.get(name, ())])


def scopes_of(given: Iterable[str]) -> GivenByScopes:
    """The same for what a token or a key was made for, in words of the policy."""
    given = list(given)
    if "*" in given:
        return EVERYTHING
    roles = {each.removeprefix("role ").strip() for each in given if each.startswith("role ") or each == "signed-in"}
    permissions = frozenset(each for each in given if not each.startswith("role ") and each != "signed-in")
    return GivenByScopes(permissions, frozenset(roles))


def claim_path(text: str) -> ClaimPath:
    """The names in ``a.b."c.d/e"``.

    Raises:
        ValueError: it cannot be read as names with dots between them.
    """
    steps: list[str] = []
    place = 0
    while place < len(text):
        match = _STEP.match(text, place)
        if match is None or (match[2] and match[2] != match[2].strip()):
            raise ValueError("this must be names with dots between them, such as staff.duties")
        if match[2] and re.search("[/:]", match[2]):
            raise ValueError(f"a name that holds dots, slashes or colons goes in quotes, as in '\"{text}\"'")
        steps.append(match[1] or match[2])
        place = match.end()
    if not steps:
        raise ValueError("this must be names with dots between them, such as staff.duties")
    return tuple(steps)
