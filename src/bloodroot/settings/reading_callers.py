"""``[identity]``, ``[directory]`` and ``[token]``, read and checked."""

from __future__ import annotations

import ipaddress
import re
from itertools import combinations

from ..addresses import is_protected
from ..core.paths import Template, overlap
from ..language.problems import suggestion
from .callers import (
    ClaimedRoles,
    ClaimNames,
    ClaimPath,
    Development,
    DirectoryTables,
    IntrospectionRules,
    SourceSettings,
    TokenRules,
    claim_path,
)
from .checked import SettingsTable

# Those that sign with a private key: what checks such a token cannot make one.
WITH_KEY_PAIRS = ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA")
ALGORITHMS = ("HS256", *WITH_KEY_PAIRS)
KINDS = ("jwt", "introspection", "key", "basic", "certificate", "session", "header", "directory")
_SECRET = re.compile(r"\{env\.[^{}]+\}")
_PASSWORD_IN_URL = re.compile(r"://[^/@:]*:(?!\{env\.)[^/@]+@")
_BOUND = re.compile(r"(?<![:\w]):(\w+)")


def read_sources(settings: SettingsTable) -> tuple[SourceSettings, ...]:
    """``[identity]``, or several with ``[[identity]]``."""
    tables = settings.tables("identity", "identity")
    sources = [_source(table) for table in tables]
    check_together(tables, sources)
    return tuple(source for source in sources if source is not None)


def _source(table: SettingsTable) -> SourceSettings | None:
    kind = table.choice("from", KINDS)
    if kind is None:
        return None
    table.known_of(kind, "from")
    covers = table.template("for")
    if kind in ("key", "basic"):
        # The directory says whose key or password it is, and everything else of that member.
        return SourceSettings(kind, ClaimNames(("id",)), covers, asks_directory=True, header=table.text("header") or "")
    claims = _claims(table, kind)
    if kind == "directory":
        # The session says who it is, and everything else is looked up.
        return SourceSettings("session", claims, covers, asks_directory=True)
    looks_up = table.flag("directory")
    if kind == "jwt":
        return SourceSettings(kind, claims, covers, _rules(table), cookie=table.text("cookie"), looks_up=looks_up)
    if kind == "introspection":
        rules, cookie = _introspection(table), table.text("cookie")
        return SourceSettings(kind, claims, covers, cookie=cookie, looks_up=looks_up, introspection=rules)
    if kind in ("header", "certificate"):
        header = table.text("header") or "Client-Cert" if kind == "certificate" else ""
        return SourceSettings(kind, claims, covers, senders=_senders(table), looks_up=looks_up, header=header)
    return SourceSettings(kind, claims, covers, looks_up=looks_up)


def _introspection(table: SettingsTable) -> IntrospectionRules:
    issuer, url, client, secret = (
        table.text("issuer"),
        table.text("url"),
        table.text("client"),
        _secret(table, "secret"),
    )
    for key, value in (("client", client), ("secret", secret)):
        if value is None and key not in table:
            table.problem(None, f'{key} is missing: the application shows client and secret = "{{env.NAME}}" there')
    if url is None and issuer is None:
        table.problem(None, 'write url = "https://...", where the provider is asked, or issuer = "https://..."')
    for key, address in (("url", url), ("issuer", issuer if url is None else None)):
        if address is not None and not is_protected(address):
            table.problem(key, "tokens are sent by https alone, except on this machine: others could read them")
    cache = table.number("cache", least=0, most=300, unit="seconds") if "cache" in table else 10
    return IntrospectionRules(client or "", secret or "", url, issuer, table.texts("audience"), cache)


def _claims(table: SettingsTable, kind: str) -> ClaimNames:
    if "id" not in table and kind not in ("jwt", "introspection"):
        where = {
            "header": 'the name of a header, such as id = "X-Member"',
            "certificate": 'what the certificate has it under, such as id = "cn"',
        }
        message = where.get(kind, 'the name that the session has it under, such as id = "member"')
        table.problem(None, f"id is missing: where is the caller's id? Write {message}")
    attributes = table.table("attributes")
    names = table.table("names")
    return ClaimNames(
        _path(table, "id") or ("sub",),
        _paths(table, "roles"),
        _path(table, "groups"),
        _path(table, "scopes"),
        {name: path for name in attributes.values if (path := _path(attributes, name)) is not None},
        table.text("separator"),
        table.text("drop_prefix") or "",
        {name: names.text(name) or "" for name in names.values},
        {
            thing: _claimed_roles(each)
            for thing, each in table.table("roles_in").each_table("identity.roles_in.NAME").items()
        },
        # RFC 8693, section 4.1: a token that someone else acts with says so.
        _path(table, "actor") or (("act", "sub") if kind in ("jwt", "introspection") else None),
        _scope_names(table),
    )


def _scope_names(table: SettingsTable) -> dict[str, tuple[str, ...]] | None:
    """What each scope gives."""
    if "scope_names" not in table:
        return None
    if "scopes" not in table:
        table.problem("scope_names", 'scopes is missing: where does a token have them? Write scopes = "scope"')
    names = table.table("scope_names")
    return {name: names.texts(name) for name in names.values}


def _claimed_roles(table: SettingsTable) -> ClaimedRoles:
    table.known()
    names = table.table("names")
    pattern = table.text("pattern")
    if pattern is not None and (sorted(_HELD_AS.findall(pattern)) != ["id", "role"] or "}{" in pattern):
        table.problem("pattern", "a pattern has {id} and {role} once each, with something between them")
        pattern = None
    if "at" not in table:
        table.problem(None, 'at is missing: where are these roles? Write at = "studios", for example')
    return ClaimedRoles(
        _path(table, "at") or (),
        table.text("id") or "",
        table.text("role") or "",
        pattern,
        table.text("separator"),
        table.text("drop_prefix") or "",
        {name: names.text(name) or "" for name in names.values},
    )


_HELD_AS = re.compile(r"\{(\w*)\}")


def _path(table: SettingsTable, key: str) -> ClaimPath | None:
    """Where something is in the claims."""
    text = table.text(key)
    try:
        return claim_path(text) if text is not None else None
    except ValueError as error:
        table.problem(key, str(error))
        return None


def _paths(table: SettingsTable, key: str) -> tuple[ClaimPath, ...]:
    """Where something is in the claims, which may be several places."""
    found = []
    for text in table.texts(key):
        try:
            found.append(claim_path(text))
        except ValueError as error:
            table.problem(key, str(error))
    return tuple(found)


_KEYS = ("key", "key_file", "jwks_file", "jwks_url")


def _rules(table: SettingsTable) -> TokenRules:
    given = [key for key in _KEYS if key in table]
    issuer, url = table.text("issuer"), table.text("jwks_url")
    discovers = not given and issuer is not None and re.match("https?://", issuer) is not None
    if len(given) != 1 and not discovers:
        message = f"{' and '.join(given)} are all given" if given else "there is no key to check tokens with"
        table.problem(
            None,
            f'{message}; write one of key = "{{env.NAME}}", key_file = "...", jwks_file = "..." and jwks_url = '
            '"https://...", or the address of a provider alone: issuer = "https://..."',
        )
    for key, address in (("issuer", issuer if discovers else None), ("jwks_url", url)):
        if address is not None and not is_protected(address):
            table.problem(key, "keys are read by https alone, except from this machine: others could answer on the way")
    algorithms = _algorithms(table, given, remote=discovers or url is not None)
    if "HS256" in algorithms and "key_file" in table:
        message = "HS256 signs with a secret, and a file holds no secret here"
        table.problem("key_file", f'{message}; write key = "{{env.NAME}}"')
    return TokenRules(
        algorithms,
        _secret(table, "key"),
        table.file("key_file"),
        table.file("jwks_file"),
        url,
        issuer,
        table.texts("audience"),
        table.number("leeway", least=0, most=300, unit="seconds"),
        table.text("type"),
    )


def _algorithms(table: SettingsTable, given: list[str], *, remote: bool) -> tuple[str, ...]:
    if "algorithm" not in table:
        if given == ["key"]:
            return ("HS256",)
        if not remote:
            table.problem(None, f"algorithm is missing; tokens do not choose it: one of {', '.join(ALGORITHMS)}")
        # A provider publishes what each key is for, and public keys alone count there.
        return WITH_KEY_PAIRS
    found = table.texts("algorithm")
    for name in found:
        if name.lower() == "none":
            table.problem("algorithm", "a token without a signature proves nothing, and is never accepted")
        elif name not in ALGORITHMS:
            table.problem("algorithm", f"this must be one of {', '.join(ALGORITHMS)}{suggestion(name, ALGORITHMS)}")
    if "HS256" in found and (remote or len(found) > 1):
        # Else what is published to check tokens with could sign them.
        table.problem("algorithm", "HS256 signs with a secret, which no provider publishes, and is used alone")
    return found or WITH_KEY_PAIRS


def check_together(tables: list[SettingsTable], sources: list[SourceSettings | None]) -> None:
    """See that tokens of several issuers can be distinguished, wherever their paths may be the same.

    The issuer is read off a token before its signature is checked, to choose whose keys count.
    """
    tokens = [(table, each) for table, each in zip(tables, sources, strict=True) if each is not None and each.token]
    for (_, one), (table, other) in combinations(tokens, 2):
        first, second = one.token, other.token
        assert first is not None and second is not None
        keys = [(rules.key, rules.key_file, rules.jwks_file, rules.jwks_url) for rules in (first, second)]
        if first.issuer != second.issuer and keys[0] == keys[1] and any(keys[0]):
            table.problem(
                None,
                "two issuers have the same keys: one could sign in the name of the other; give each its own keys",
            )
        if one.cookie != other.cookie or (one.covers is None) != (other.covers is None):
            continue
        meet = one.covers is None or other.covers is None or _may_meet(one.covers, other.covers)
        if meet and (None in (first.issuer, second.issuer) or first.issuer == second.issuer):
            table.problem(
                None,
                "two sources take tokens on the same paths, and a token is given to one of them by its issuer; "
                'write another issuer = "..." in each',
            )


def _may_meet(one: Template, other: Template) -> bool:
    """Whether some path may be of both templates."""
    return overlap(one, other) is not False or overlap(other, one) is not False


def _senders(table: SettingsTable) -> tuple[str, ...]:
    senders = table.names("senders")
    if not senders:
        message = "senders is missing: anyone can send a header"
        table.problem(None, f'{message}; write senders = ["127.0.0.1"], the proxy\'s own')
    for sender in senders:
        try:
            ipaddress.ip_network(sender)
        except ValueError:
            table.problem("senders", f'"{sender}" is no address and no network, such as 127.0.0.1 or 10.1.0.0/16')
    return senders


def read_development(settings: SettingsTable) -> Development | None:
    """``[token]``."""
    if "token" not in settings:
        return None
    table = settings.table("token", "token")
    table.known()
    if ("development_key" in table) == ("development_key_file" in table):
        table.problem(None, 'write one of development_key = "{env.NAME}" and development_key_file = "..."')
    return Development(
        _secret(table, "development_key"),
        table.file("development_key_file"),
        table.number("minutes", least=0.1, most=60, unit="minutes"),
    )


def read_directory(settings: SettingsTable) -> DirectoryTables | None:
    """``[directory]``."""
    if "directory" not in settings:
        return None
    table = settings.table("directory", "directory")
    table.known()
    url = table.text("url")
    if "url" not in table:
        table.problem(None, 'url is missing, such as url = "sqlite:///members.db"')
    elif url is not None and _PASSWORD_IN_URL.search(url):
        table.problem("url", 'do not put a password in this file; write url = "{env.NAME}"')
    queries = table.table("queries", "directory.queries")
    queries.known()
    if queries.values and "member" not in queries:
        queries.problem(None, "member is missing: the query that finds one member by :id")
    return DirectoryTables(
        url or "",
        table.number("cache", least=0, most=3600, unit="seconds"),
        {name: _query(queries, name) for name in queries.values if name in queries.keys},
        table.text("separator"),
        table.names("active"),
        table.flag("keep_suspended"),
        table.choice("roles", ("directory", "both")) or "directory" if "roles" in table else "directory",
        table.names("json"),
    )


def _query(queries: SettingsTable, name: str) -> str:
    query = queries.text(name) or ""
    if not re.match(r"\s*(select|with)\b", query, re.IGNORECASE):
        queries.problem(name, "this must be a query that reads: it begins with select or with")
        return query
    bound = set(_BOUND.findall(query))
    wanted = {"members": set[str](), "login": {"login"}, "key": {"hash"}}.get(name, {"id"})
    if bound != wanted:
        message = {
            "members": "lists the ids of all members, without :id",
            "login": "finds the id of one member, whose login is written as :login",
            "key": "finds the owner of a key, whose hash is written as :hash",
        }.get(name, "requires one member, whose id is written as :id")
        more = f"; it has :{min(bound - wanted)}" if bound - wanted else ""
        queries.problem(name, f"this query {message}{more}")
    return query


def _secret(table: SettingsTable, key: str) -> str | None:
    """A secret by the name of its environment variable."""
    text = table.text(key)
    if text is not None and not _SECRET.fullmatch(text):
        table.problem(key, f'do not put a secret in this file; write {key} = "{{env.NAME}}"')
    return text
