"""From claims to a caller, and back. Claims are what a token says; a session and headers are read the same way."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ..core.caller import Caller, Unidentified
from ..settings import ClaimNames, given_by_scopes
from ..settings.callers import ClaimPath
from .held_in_records import claim_of, in_claim
from .names import names_in, shown, translated


class _Missing:
    """Nothing is there."""


_MISSING = _Missing()


@dataclass(frozen=True, slots=True)
class ClaimStep:
    """What one claim came to.

    Attributes:
        what: ``id``, ``roles``, ``groups``, ``scopes`` or the name of an attribute.
        where: the way to the claim, as settings write it.
        found: the claim as it is there, or an empty string.
        gives: what it comes to: names, or a value in words.
        notes: what is not as expected.
    """

    what: str
    where: str
    found: str
    gives: tuple[str, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Reading:
    """A caller, and how claims came to it."""

    caller: Caller
    steps: tuple[ClaimStep, ...]


def read_claims(claims: Mapping[str, Any], where: ClaimNames, source: str = "the token") -> Reading:
    """The caller that claims describe.

    Args:
        claims: the claims of a token that has been checked, or a session, or headers.
        where: where each part of a caller is in the claims.
        source: what the claims come from, for messages.

    Returns:
        The caller, with a note for each claim that is missing, empty or of the wrong shape. Such a claim gives
        nothing: no roles, no groups, and no permission where scopes were expected.

    Raises:
        Unidentified: the claims have no id.
    """
    return _Reader(claims, where, source).read()


class _Reader:
    """One reading of claims."""

    def __init__(self, claims: Mapping[str, Any], where: ClaimNames, source: str) -> None:
        self.claims = claims
        self.where = where
        self.source = source
        self.steps: list[ClaimStep] = []

    def read(self) -> Reading:
        where = self.where
        identity = self._id()
        roles = self._roles()
        groups = self._names("groups", where.groups, where.separator) if where.groups else []
        scopes = scoped_roles = None
        if where.scopes is not None:
            # RFC 6749, section 3.3: scopes are one string with blanks between them.
            scopes, scoped_roles = given_by_scopes(self._names("scopes", where.scopes, " "), where)
        roles_in = self._roles_in()
        attributes = self._attributes()
        actor = self._actor()
        notes = tuple(note for step in self.steps for note in step.notes)
        more = {"roles_in": roles_in, "actor": actor, "scoped_roles": scoped_roles}
        caller = Caller(identity, roles, groups, attributes, scopes, notes=notes, **more)
        return Reading(caller, tuple(self.steps))

    def _id(self) -> Any:
        value = follow(self.claims, self.where.id)
        path = in_words(self.where.id)
        if value is _MISSING or value is None or value == "":
            raise Unidentified(f"{self.source} has no {path}, so it identifies no one")
        if isinstance(value, bool) or not isinstance(value, str | int):
            raise Unidentified(f"{path} of {self.source} is {shown(value)}, which is no id")
        self.steps.append(ClaimStep("id", path, shown(value), (shown(value),), ()))
        return value

    def _actor(self) -> Any:
        """Who acts for the caller; None where no one does."""
        path = self.where.actor
        first = follow(self.claims, path[:1]) if path is not None else None
        if path is None or first is _MISSING or first is None or first == "":
            return None
        value = follow(self.claims, path)
        if isinstance(value, bool) or not isinstance(value, str | int) or value == "":
            # Someone acts, and it is not said who: this is not the caller alone.
            raise Unidentified(f"{in_words(path)} of {self.source} names no one who acts for another, and it is there")
        self.steps.append(ClaimStep("actor", in_words(path), shown(value), (shown(value),), ()))
        return value

    def _roles(self) -> list[str]:
        where = self.where
        return list(dict.fromkeys(role for path in where.roles for role in self._roles_at(path)))

    def _roles_at(self, path: ClaimPath) -> list[str]:
        where = self.where
        several = objects_with_more(self.claims, path)
        if several is not None:
            note = (
                f"{in_words(path)} of {self.source} is in objects that say more, such as {shown(several)}; a role that "
                "is held in one record is read by [identity.roles_in.THING], and one that is held everywhere by "
                f'roles = "{in_words((*path[:-1], "*", path[-1]))}"'
            )
            self.steps.append(ClaimStep("roles", in_words(path), shown(several), (), (note,)))
            return []
        names = self._names("roles", path, where.separator)
        step = self.steps.pop()
        roles = []
        notes = list(step.notes)
        for name, role in translated(names, where.drop_prefix, where.names):
            if role is None:
                notes.append(f'{self.source} has the role "{name}", which does not begin with {where.drop_prefix}')
            else:
                roles.append(role)
        self.steps.append(ClaimStep("roles", step.where, step.found, tuple(roles), tuple(notes)))
        return roles

    def _roles_in(self) -> dict[str, dict[Any, set[str]]]:
        """The roles that are held in records, by thing."""
        found = {}
        for thing, where in self.where.roles_in.items():
            what, path = f"roles in {thing}", in_words(where.at)
            value = follow(self.claims, where.at)
            if value is _MISSING:
                note = f"{self.source} has no {path}, so no {what} come from it"
                self.steps.append(ClaimStep(what, path, "", (), (note,)))
                continue
            found[thing], wrong = in_claim(value, where)
            gives = tuple(f"{role} in {key}" for key, names in found[thing].items() for role in sorted(names))
            notes = tuple(f"{path} of {self.source} {note}" for note in wrong)
            self.steps.append(ClaimStep(what, path, shown(value), gives, notes))
        return found

    def _names(self, what: str, path: ClaimPath, separator: str | None) -> list[str]:
        """The names at a path. The step taken is written down."""
        path_in_words = in_words(path)
        value = follow(self.claims, path)
        if value is _MISSING:
            note = f"{self.source} has no {path_in_words}, so no {what} come from it"
            self.steps.append(ClaimStep(what, path_in_words, "", (), (note,)))
            return []
        names, wrong = names_in(value, separator)
        lost = "" if names else f", so no {what} come from it"
        notes = tuple(f"{path_in_words} of {self.source} {name}{lost}" for name in wrong)
        self.steps.append(ClaimStep(what, path_in_words, shown(value), tuple(names), notes))
        return names

    def _attributes(self) -> dict[str, Any]:
        attributes = {}
        for name, path in self.where.attributes.items():
            value = follow(self.claims, path)
            path_in_words = in_words(path)
            if value is _MISSING:
                note = f"{self.source} has no {path_in_words}, so caller.{name} is missing"
                self.steps.append(ClaimStep(name, path_in_words, "", (), (note,)))
            else:
                attributes[name] = value
                self.steps.append(ClaimStep(name, path_in_words, shown(value), (shown(value),), ()))
        return attributes


def objects_with_more(claims: Any, path: ClaimPath) -> Any:
    """The first object of a list on the way along a path that has more than the way; None for none.

    Where a list has an organisation beside each role, the role is one of that organisation. ``*`` in a path says that
    it is not so.
    """
    value = claims
    for number, name in enumerate(path):
        if isinstance(value, list):
            if name == "*":
                return None
            several = [part for part in value if isinstance(part, Mapping) and name in part and len(part) > 1]
            deeper = (objects_with_more(part, path[number:]) for part in value)
            return several[0] if several else next((found for found in deeper if found is not None), None)
        if not isinstance(value, Mapping) or name not in value:
            return None
        value = value[name]
    return None


def follow(claims: Any, path: ClaimPath) -> Any:
    """What is at the end of a path. A list of maps is gone through, and what they lead to is one list."""
    value = claims
    for number, name in enumerate(path):
        if isinstance(value, list):
            if name == "*":
                return follow(value, path[number + 1 :])
            rest = [follow(part, path[number:]) for part in value]
            there = [
                one for part in rest if part is not _MISSING for one in (part if isinstance(part, list) else [part])
            ]
            return there if there else _MISSING
        if not isinstance(value, Mapping) or name not in value:
            return _MISSING
        value = value[name]
    return value


def in_words(path: ClaimPath) -> str:
    """A path as settings write it."""
    return ".".join(f'"{name}"' if set(name) & set("./:") else name for name in path)


def claims_of(caller: Caller, where: ClaimNames) -> dict[str, Any]:
    """Claims from which `read_claims` makes this caller.

    Raises:
        ValueError: a role's name cannot be written so that it would be read back.
    """
    claims: dict[str, Any] = {}
    # RFC 7519, section 4.1.2: a subject is text.
    as_it_is = isinstance(caller.id, int) and where.id != ("sub",)
    _put(claims, where.id, caller.id if as_it_is else str(caller.id))
    back = {role: name for name, role in where.names.items()}
    if where.roles:
        names = [back.get(role, where.drop_prefix + role) for role in sorted(caller.roles)]
        _put(claims, where.roles[0], _as_told(names, where.separator))
    if where.groups is not None:
        _put(claims, where.groups, _as_told(sorted(caller.groups), where.separator))
    if where.scopes is not None and caller.scopes is not None:
        _put(claims, where.scopes, " ".join(sorted(_scopes_said(caller, where))))
    for thing, held in where.roles_in.items():
        if thing in caller.roles_in:
            _put(claims, held.at, claim_of(caller.roles_in[thing], held))
    if where.actor is not None and caller.actor is not None:
        _put(claims, where.actor, caller.actor)
    for name, path in where.attributes.items():
        if name in caller.attributes:
            _put(claims, path, caller.attributes[name])
    return claims


def _scopes_said(caller: Caller, where: ClaimNames) -> Iterable[str]:
    """The scopes of a token from which those of a caller are read."""
    if where.scope_names is None:
        return caller.scopes or ()
    everything = given_by_scopes(where.scope_names, where)
    scopes, roles = (caller.scopes, caller.scoped_roles) if caller.scopes is not None else everything
    found = []
    for name in where.scope_names:
        each, each_roles = given_by_scopes([name], where)
        if each is not None and each <= frozenset(scopes or ()) and (each_roles or set()) <= frozenset(roles or ()):
            found.append(name)
    return found


def _as_told(names: Iterable[str], separator: str | None) -> Any:
    """Names as one string where the settings say how to part them, else as a list."""
    names = list(names)
    for name in names:
        if separator is not None and separator in name:
            raise ValueError(f'the name "{name}" holds the separator {shown(separator)}')
    return separator.join(names) if separator is not None else names


def _put(claims: dict[str, Any], path: ClaimPath, value: Any) -> None:
    for name in path[:-1]:
        claims = claims.setdefault(name, {})
    claims[path[-1]] = value
