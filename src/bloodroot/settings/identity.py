"""What the settings say of callers: ``[identity]``, ``[directory]`` and ``[token]``."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.paths import Template
from .checked import Checked

ALGORITHMS = ("HS256", "RS256", "ES256", "EdDSA")
KINDS = ("jwt", "session", "header", "directory")
QUERIES = ("member", "roles", "groups", "permissions", "members")
_SECRET = re.compile(r"\{env\.[^{}]+\}")
_STEP = re.compile(r'(?:"([^"]+)"|([^".]+))(?:\.(?=.)|\Z)')
_PASSWORD_IN_URL = re.compile(r"://[^/@:]*:(?!\{env\.)[^/@]+@")
_BOUND = re.compile(r"(?<![:\w]):(\w+)")

ClaimPath = tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ClaimNames:
    """Where a caller's particulars stand in claims, in a session or in headers.

    Attributes:
        id: the way to the caller's id.
        roles: the way to the names of roles, or None where there are none.
        groups: the way to the names of groups, or None.
        scopes: the way to the scopes of a token made for less than its owner may do, or None.
        attributes: for each attribute, the way to it.
        separator: what is between names that come as one text; None where a text is one name.
        drop_prefix: what role names begin with; a name without it is another application's, and no role here.
        names: role names as they come, to those of the policy.
    """

    id: ClaimPath
    roles: ClaimPath | None = None
    groups: ClaimPath | None = None
    scopes: ClaimPath | None = None
    attributes: Mapping[str, ClaimPath] = field(default_factory=dict)
    separator: str | None = None
    drop_prefix: str = ""
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class TokenRules:
    """What a bearer token must be to be believed (RFC 7519; RFC 8725).

    Attributes:
        algorithm: the one way of signing that counts, whatever a token says of itself.
        key: the key as the settings write it, ``{env.NAME}``; None where it comes from a file.
        key_file: a PEM file, or None.
        jwks_file: a file with a JSON Web Key Set (RFC 7517), or None.
        issuer: what ``iss`` must be, or None.
        audience: what ``aud`` must name, or None for tokens without an audience.
        leeway: seconds by which clocks may differ.
        type: what the header's ``typ`` must be, such as ``at+jwt`` (RFC 9068), or None.
    """

    algorithm: str
    key: str | None = None
    key_file: Path | None = None
    jwks_file: Path | None = None
    issuer: str | None = None
    audience: str | None = None
    leeway: float = 0
    type: str | None = None


@dataclass(frozen=True, slots=True)
class Source:
    """One way for callers to say who they are.

    Attributes:
        kind: ``jwt``, ``session`` or ``header``.
        claims: where their particulars stand.
        covers: the paths that this way is for; None for all.
        token: for ``jwt``, what a token must be.
        senders: for ``header``, the networks from which the headers are believed.
        asks_directory: whether nothing but the id is taken from here.
    """

    kind: str
    claims: ClaimNames
    covers: Template | None = None
    token: TokenRules | None = None
    senders: tuple[str, ...] = ()
    asks_directory: bool = False


@dataclass(frozen=True, slots=True)
class DirectoryTables:
    """Where members, roles and grants are kept.

    Attributes:
        url: the database as SQLAlchemy names it; a relative SQLite file is looked for in the project's folder.
        cache: seconds for which a member's roles are remembered.
        queries: for tables of the application's own, what to ask by name; empty for Bloodroot's tables.
        separator: what is between names that come as one text; None where a text is one name.
        active: the statuses of members who may act.
        keep_suspended: whether a member of another status is still known by name, for the policy to judge.
    """

    url: str
    cache: float = 2.0
    queries: Mapping[str, str] = field(default_factory=dict)
    separator: str | None = ","
    active: tuple[str, ...] = ("active",)
    keep_suspended: bool = False


@dataclass(frozen=True, slots=True)
class Development:
    """What ``bloodroot token make`` signs with: a key made for development.

    Attributes:
        key: the key as the settings write it, ``{env.NAME}``; None where it comes from a file.
        key_file: a PEM file with a private key, or None.
        minutes: for how long a token is good.
    """

    key: str | None = None
    key_file: Path | None = None
    minutes: float = 10


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


_FOR_NAMES = ("id", "roles", "groups", "scopes", "attributes", "separator", "drop_prefix", "names")
_FOR_TOKENS = ("algorithm", "key", "key_file", "jwks_file", "issuer", "audience", "leeway", "type")
_KEYS = {
    "jwt": ("from", "for", *_FOR_NAMES, *_FOR_TOKENS),
    "session": ("from", "for", *_FOR_NAMES),
    "header": ("from", "for", *_FOR_NAMES, "senders"),
    "directory": ("from", "for", "id"),
}


def read_sources(checked: Checked, value: Any) -> tuple[Source, ...]:
    """``[identity]``, or several with ``[[identity]]``."""
    tables = [value] if isinstance(value, dict) else value
    if not isinstance(tables, list):
        raise checked.fail("identity", "this must be a table, or several with [[identity]]")
    return tuple(_source(checked, checked.table("identity", each)) for each in tables)


def _source(checked: Checked, table: dict[str, Any]) -> Source:
    kind = checked.choice("identity.from", table.get("from"), KINDS)
    _known_for(checked, kind, table)
    covers = checked.template("identity.for", table.get("for"))
    claims = _claims(checked, kind, table)
    if kind == "directory":
        # The session says who it is, and everything else is looked up.
        return Source("session", claims, covers, asks_directory=True)
    if kind == "jwt":
        return Source(kind, claims, covers, _rules(checked, table))
    if kind == "header":
        return Source(kind, claims, covers, senders=_senders(checked, table))
    return Source(kind, claims, covers)


def _known_for(checked: Checked, kind: str, table: dict[str, Any]) -> None:
    """Every key must mean something for this kind of source."""
    for key in table:
        others = [other for other, keys in _KEYS.items() if key in keys]
        if others and kind not in others:
            message = " or ".join(f'from = "{other}"' for other in others)
            raise checked.fail(f"identity.{key}", f'this belongs to {message}, and here from = "{kind}"')
    checked.check_keys("identity", table, _KEYS[kind])


def _claims(checked: Checked, kind: str, table: dict[str, Any]) -> ClaimNames:
    if "id" not in table and kind != "jwt":
        where = {"header": 'the name of a header, such as id = "X-Member"'}
        message = where.get(kind, 'the name that the session has it under, such as id = "member"')
        raise checked.fail("identity", f"id is missing: where does the caller's id stand? Write {message}")

    def path(key: str, value: Any) -> ClaimPath | None:
        text = checked.text(f"identity.{key}", value, None)
        try:
            return claim_path(text) if text is not None else None
        except ValueError as error:
            raise checked.fail(f"identity.{key}", str(error)) from None

    attributes = {
        name: path(f"attributes.{name}", each)
        for name, each in checked.table("identity.attributes", table.get("attributes", {})).items()
    }
    names = {
        name: checked.text(f'identity.names."{name}"', each, None) or ""
        for name, each in checked.table("identity.names", table.get("names", {})).items()
    }
    return ClaimNames(
        path("id", table.get("id", "sub")) or (),
        path("roles", table.get("roles")),
        path("groups", table.get("groups")),
        path("scopes", table.get("scopes")),
        {name: each for name, each in attributes.items() if each is not None},
        checked.text("identity.separator", table.get("separator"), None),
        checked.text("identity.drop_prefix", table.get("drop_prefix"), None) or "",
        names,
    )


def _rules(checked: Checked, table: dict[str, Any]) -> TokenRules:
    where = "identity"
    given = [key for key in ("key", "key_file", "jwks_file") if key in table]
    if len(given) != 1:
        message = f"{' and '.join(given)} are all given" if given else "there is no key to check tokens with"
        raise checked.fail(
            where, f'{message}; write one of key = "{{env.NAME}}", key_file = "..." or jwks_file = "..."'
        )
    algorithm = table.get("algorithm", "HS256" if given == ["key"] else None)
    if algorithm is None:
        raise checked.fail(where, f"algorithm is missing; tokens do not choose it: one of {', '.join(ALGORITHMS)}")
    if isinstance(algorithm, str) and algorithm.lower() == "none":
        raise checked.fail("identity.algorithm", "a token without a signature proves nothing, and is never believed")
    algorithm = checked.choice("identity.algorithm", algorithm, ALGORITHMS)
    if algorithm == "HS256" and "key_file" in table:
        raise checked.fail(
            "identity.key_file", 'HS256 signs with a secret, and a file holds no secret here; write key = "{env.NAME}"'
        )
    return TokenRules(
        algorithm,
        _secret(checked, "identity.key", table.get("key")),
        _file(checked, "identity.key_file", table.get("key_file")),
        _file(checked, "identity.jwks_file", table.get("jwks_file")),
        checked.text("identity.issuer", table.get("issuer"), None),
        checked.text("identity.audience", table.get("audience"), None),
        checked.number("identity.leeway", table.get("leeway", 0), least=0, most=300, unit="seconds"),
        checked.text("identity.type", table.get("type"), None),
    )


def _senders(checked: Checked, table: dict[str, Any]) -> tuple[str, ...]:
    senders = checked.texts("identity.senders", table.get("senders", []))
    if not senders:
        raise checked.fail(
            "identity", 'senders is missing: anyone can send a header; write senders = ["127.0.0.1"], the proxy\'s own'
        )
    for each in senders:
        try:
            ipaddress.ip_network(each)
        except ValueError:
            raise checked.fail(
                "identity.senders", f'"{each}" is no address and no network, such as 127.0.0.1 or 10.1.0.0/16'
            ) from None
    return senders


def read_development(checked: Checked, value: Any) -> Development | None:
    """``[token]``."""
    if value is None:
        return None
    table = checked.table("token", value)
    checked.check_keys("token", table, ("development_key", "development_key_file", "minutes"))
    if ("development_key" in table) == ("development_key_file" in table):
        raise checked.fail("token", 'write one of development_key = "{env.NAME}" and development_key_file = "..."')
    return Development(
        _secret(checked, "token.development_key", table.get("development_key")),
        _file(checked, "token.development_key_file", table.get("development_key_file")),
        checked.number("token.minutes", table.get("minutes", 10), least=0.1, most=60, unit="minutes"),
    )


def read_directory(checked: Checked, value: Any) -> DirectoryTables | None:
    """``[directory]``."""
    if value is None:
        return None
    table = checked.table("directory", value)
    checked.check_keys("directory", table, ("url", "cache", "queries", "separator", "active", "keep_suspended"))
    url = checked.text("directory.url", table.get("url"), None)
    if url is None:
        raise checked.fail("directory", 'url is missing, such as url = "sqlite:///members.db"')
    if _PASSWORD_IN_URL.search(url):
        raise checked.fail("directory.url", 'a password does not belong into this file; write url = "{env.NAME}"')
    queries = {
        name: _query(checked, name, each)
        for name, each in checked.table("directory.queries", table.get("queries", {})).items()
    }
    checked.check_keys("directory.queries", queries, QUERIES)
    if queries and "member" not in queries:
        raise checked.fail("directory.queries", "member is missing: the query that finds one member by :id")
    return DirectoryTables(
        url,
        checked.number("directory.cache", table.get("cache", 2.0), least=0, most=3600, unit="seconds"),
        queries,
        checked.text("directory.separator", table.get("separator"), ","),
        checked.texts("directory.active", table.get("active", ["active"])),
        checked.flag("directory.keep_suspended", table.get("keep_suspended", False)),
    )


def _query(checked: Checked, name: str, value: Any) -> str:
    where = f"directory.queries.{name}"
    query = checked.text(where, value, None) or ""
    if not re.match(r"\s*(select|with)\b", query, re.IGNORECASE):
        raise checked.fail(where, "this must be a query that reads: it begins with select or with")
    bound = set(_BOUND.findall(query))
    wanted = set() if name == "members" else {"id"}
    if bound != wanted:
        message = (
            "asks for one member, whose id is written as :id" if wanted else "lists the ids of all members, without :id"
        )
        raise checked.fail(
            where, f"this query {message}" + (f"; it has :{min(bound - wanted)}" if bound - wanted else "")
        )
    return query


def _secret(checked: Checked, where: str, value: Any) -> str | None:
    """A secret by the name of its environment variable."""
    text = checked.text(where, value, None)
    if text is not None and not _SECRET.fullmatch(text):
        key = where.rsplit(".", 1)[-1]
        raise checked.fail(where, f'a secret does not belong into this file; write {key} = "{{env.NAME}}"')
    return text


def _file(checked: Checked, where: str, value: Any) -> Path | None:
    text = checked.text(where, value, None)
    return checked.file.parent / text if text is not None else None
