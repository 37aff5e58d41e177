"""Members and groups out of a SCIM 2.0 export (RFC 7643, JSON): users with what they are given, and groups of users."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ..core.permissions import knows
from .names import shown
from .seeds import Seed, SeedError, SeedGroup, SeedMember

if TYPE_CHECKING:
    from ..core.policy import Policy

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
_LONGEST = 200
# Of the enterprise extension (RFC 7643, section 4.3), what becomes attributes of a member.
_OF_ENTERPRISE = ("employeeNumber", "costCenter", "organization", "division", "department")


def read_scim(text: str, name: str) -> Seed:
    """The seed that an export gives: a list response, a list of resources, or one resource.

    ``userName`` is the login, ``displayName`` or ``name.formatted`` the name; who is not ``active`` is suspended.
    ``roles``, ``entitlements`` and ``groups`` give roles, permissions and groups, as do the members of groups.

    Args:
        text: JSON.
        name: of the file, for messages.

    Raises:
        SeedError: with every mistake found.
    """
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise SeedError([f"{name}: this is not JSON: {error}"]) from error
    resources = data.get("Resources", [data]) if isinstance(data, Mapping) else data
    if not isinstance(resources, list) or not all(isinstance(resource, Mapping) for resource in resources):
        raise SeedError([f"{name}: not a SCIM export; it has no list of resources (RFC 7643)"])
    total = data.get("totalResults") if isinstance(data, Mapping) else None
    if isinstance(total, int) and total > len(resources):
        # Half of a directory would suspend no one and miss many.
        raise SeedError([f"{name}: this is a page of {len(resources)} of {total} resources; export all of them"])
    reader = _Reader(name)
    seed = reader.seed(resources)
    if reader.reasons:
        raise SeedError(reader.reasons)
    return seed


def known_to(policy: Policy, seed: Seed) -> tuple[Seed, tuple[str, ...]]:
    """What of an export a policy knows, and a sentence for what was left out, which is for other applications."""
    left_out: dict[str, set[str]] = {"roles": set(), "groups": set(), "permissions": set()}
    groups = set(policy.roles.groups)

    def is_known(kind: str, name: str) -> bool:
        if kind == "permissions":
            return knows(policy.resolver, name)
        return name in policy.roles.bit if kind == "roles" else name in groups

    def kept(kind: str, names: Iterable[str] | None) -> tuple[str, ...] | None:
        if names is None:
            return None
        found = tuple(name for name in names if is_known(kind, name))
        left_out[kind] |= set(names) - set(found)
        return found

    members = tuple(
        replace(
            member,
            roles=kept("roles", member.roles),
            groups=kept("groups", member.groups),
            permissions=kept("permissions", member.permissions),
        )
        for member in seed.members
    )
    notes = tuple(
        f"{kind} that the policy does not know were left out: {', '.join(sorted(names)[:8])}"
        + (f" and {len(names) - 8} more" if len(names) > 8 else "")
        for kind, names in left_out.items()
        if names
    )
    return Seed(members, tuple(group for group in seed.groups if group.name in groups)), notes


class _Reader:
    """One reading of an export; mistakes are gathered."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.reasons: list[str] = []

    def seed(self, resources: list[Mapping[str, Any]]) -> Seed:
        users = [(place, each) for place, each in self._of(resources, "User", USER)]
        groups = [(place, each) for place, each in self._of(resources, "Group", GROUP)]
        if not users:
            self.reasons.append(f"{self.name}: there is no user in this export")
        within: dict[str, list[str]] = {}
        for place, group in groups:
            called = self._text(place, "displayName", group.get("displayName"))
            for member in self._several(place, group, "members"):
                within.setdefault(str(member.get("value")), []).extend([called] if called else [])
        members = [self._member(place, user, within.get(str(user.get("id")), [])) for place, user in users]
        first: dict[str, str] = {}
        for each in members:
            if each is not None and first.setdefault(each.login, each.place) != each.place:
                self.reasons.append(f"{each.place}: the user {each.login} is in {first[each.login]} already")
        names = dict.fromkeys(str(group.get("displayName")) for _, group in groups if group.get("displayName"))
        return Seed(
            tuple(each for each in members if each is not None), tuple(SeedGroup(self.name, name, ()) for name in names)
        )

    def _of(
        self, resources: list[Mapping[str, Any]], kind: str, schema: str
    ) -> Iterator[tuple[str, Mapping[str, Any]]]:
        for number, each in enumerate(resources, 1):
            schemas, meta = each.get("schemas"), each.get("meta")
            named = meta.get("resourceType") if isinstance(meta, Mapping) else None
            if (isinstance(schemas, list) and schema in schemas) or (not schemas and named == kind):
                yield f"{self.name}: resource {number}", each

    def _member(self, place: str, user: Mapping[str, Any], within: list[str]) -> SeedMember | None:
        login = self._text(place, "userName", user.get("userName"))
        if login is None:
            self.reasons.append(f"{place}: this user has no userName; it is what the member is found again by")
            return None
        active = user.get("active", True)
        if not isinstance(active, bool):
            self.reasons.append(f"{place}: active of {login} is {shown(active)}, and not true or false")
            active = False
        full = user.get("name")
        called = user.get("displayName") or (full.get("formatted") if isinstance(full, Mapping) else None)
        groups = [*self._names(place, user, "groups", "display"), *within]
        return SeedMember(
            place,
            login,
            None,
            self._text(place, "displayName", called),
            "active" if active else "suspended",
            tuple(dict.fromkeys(self._names(place, user, "roles", "value"))),
            tuple(dict.fromkeys(groups)),
            tuple(dict.fromkeys(self._names(place, user, "entitlements", "value"))),
            self._attributes(place, user),
        )

    def _attributes(self, place: str, user: Mapping[str, Any]) -> dict[str, Any]:
        found = {"scim_id": user.get("id"), "external_id": user.get("externalId")}
        emails = self._several(place, user, "emails")
        chosen = next((email for email in emails if email.get("primary") is True), emails[0] if emails else {})
        found["email"] = chosen.get("value")
        more = user.get(ENTERPRISE)
        for name in _OF_ENTERPRISE if isinstance(more, Mapping) else ():
            found[name] = more.get(name) if isinstance(more, Mapping) else None
        return {name: value for name, value in found.items() if isinstance(value, str) and value}

    def _names(self, place: str, user: Mapping[str, Any], key: str, names: str) -> list[str]:
        """The names of a multi-valued attribute (RFC 7643, section 2.4)."""
        found = []
        for each in self._several(place, user, key):
            value = each.get(names) or each.get("value") or each.get("display")
            text = self._text(place, key, value)
            found += [text] if text is not None else []
        return found

    def _several(self, place: str, resource: Mapping[str, Any], key: str) -> list[Mapping[str, Any]]:
        value = resource.get(key)
        several = [] if value is None else value if isinstance(value, list) else [value]
        read = [each if isinstance(each, Mapping) else {"value": each} for each in several]
        if any(not isinstance(each.get("value"), str | None) for each in read):
            self.reasons.append(f"{place}: {key} holds {shown(several)}, which is no list of values")
            return []
        return read

    def _text(self, place: str, key: str, value: Any) -> str | None:
        if value is None or value == "":
            return None
        if not isinstance(value, str) or len(value) > _LONGEST or not value.isprintable() or not value.strip():
            self.reasons.append(f"{place}: {key} must be a string of at most {_LONGEST} characters")
            return None
        return value
