"""Callers: who sends a request."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..language.errors import BloodrootError
from .records import UNKNOWN
from .roles_in import NOWHERE, InEvery, RolesIn

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator


class _NotKnownYet(Mapping[str, Any]):
    """Attributes of a caller who is only imagined: each may turn out to be anything."""

    def __getitem__(self, name: str) -> Any:
        return UNKNOWN

    def __iter__(self) -> Iterator[str]:
        return iter(())

    def __len__(self) -> int:
        return 0


class Frozen(dict[str, Any]):
    """A dictionary that stays as it was made, and can be copied and pickled."""

    __slots__ = ()

    def _refuse(self, *_: object, **__: object) -> Any:
        raise TypeError("a caller stays as it was made; make another Caller, or a dict of these values")

    __setitem__ = __delitem__ = __ior__ = _refuse
    clear = pop = popitem = setdefault = update = _refuse

    def __reduce__(self) -> tuple[Any, ...]:
        return Frozen, (dict(self),)


_NOTHING: Mapping[str, Any] = Frozen()
_COLLECTIONS = frozenset((list, tuple, set, frozenset))


def _frozen(value: Any) -> Any:
    """A value that cannot be changed: lists become tuples, sets and dictionaries such as cannot be changed."""
    if type(value) is dict:
        return Frozen({name: _frozen(item) for name, item in value.items()})
    if type(value) in (list, tuple):
        return tuple(_frozen(item) for item in value)
    return frozenset(value) if type(value) is set else value


@dataclass(frozen=True, slots=True)
class Caller:
    """A caller as the application knows it. No caller at all (``None``) is a signed-out one.

    A caller stays as it was made. Its attributes are kept as a copy that cannot be changed, with tuples for lists.

    Attributes:
        id: what conditions read as ``caller.id``.
        roles: names of roles held directly; those the policy does not know are ignored, and explained.
        groups: names of groups that a directory sent; the policy says which roles they give.
        attributes: everything else a condition may ask for, as in ``caller.status``.
        scopes: for a token made for less than its owner may do, the permissions it names; None holds nothing back.
        scoped_roles: with scopes, the roles that count where a line itself asks for a role, ``signed-in`` among them;
            None for all that the owner holds. What a permission is given to is the owner's in either case.
        granted: permissions that a directory gives this caller beside those of its roles, each with who gave it, such
            as ``{"lot:edit": "the directory, to group field-staff"}``. ``thing:*`` means every permission of a thing.
        roles_in: for each thing, the roles that are held in one of its records, by the identifier of that:
            ``{"studio": {7: {"editor"}}}``. It is kept as a copy that cannot be changed.
        actor: who acts for the caller, as support staff who view a page as a member: an id, or a caller who has
            one. The rights are those of the caller. Conditions read it as ``caller.actor``, none where no one does.
        notes: what was found while the caller was identified, for explanations.
    """

    id: Any = None
    roles: Iterable[str] = frozenset()
    groups: Iterable[str] = frozenset()
    attributes: Mapping[str, Any] = field(default_factory=lambda: _NOTHING)
    scopes: Iterable[str] | None = None
    granted: Mapping[str, str] = field(default_factory=lambda: _NOTHING)
    notes: tuple[str, ...] = field(default=(), compare=False)
    roles_in: Mapping[str, Mapping[Any, Iterable[str]]] = NOWHERE
    actor: Any = None
    scoped_roles: Iterable[str] | None = None

    def __post_init__(self) -> None:
        if isinstance(self.actor, Caller):
            object.__setattr__(self, "actor", self.actor.id)
        for name in ("roles", "groups", "scopes", "scoped_roles"):
            value = getattr(self, name)
            if value is None and name in ("scopes", "scoped_roles"):
                continue
            if type(value) in _COLLECTIONS:
                object.__setattr__(self, name, frozenset(value))
                continue
            if isinstance(value, str | bytes):
                # "curator" would be seven roles of one letter each, none of them known.
                raise TypeError(f"Caller.{name} is a collection of names, not the string {value!r}")
            if isinstance(value, Mapping):
                # Of {"curator": False} the names alone would count.
                raise TypeError(f"Caller.{name} is a collection of names, not a mapping: give those that count")
            object.__setattr__(self, name, frozenset(value))
        if not isinstance(self.roles_in, RolesIn):
            object.__setattr__(self, "roles_in", RolesIn(self.roles_in))
        for name, holds in (("attributes", "names to values"), ("granted", "permissions to who gave them")):
            value = getattr(self, name)
            if type(value) is dict:
                object.__setattr__(self, name, _frozen(value))
            elif not isinstance(value, Mapping):
                raise TypeError(f"Caller.{name} is a mapping of {holds}, not {value!r}")


_MOST_RECORDS = 5  # that are named in words


def roles_in_records(caller: Caller | None) -> list[str]:
    """The roles that a caller holds in particular records, in words: ``editor in studio 7``."""
    found = []
    for thing, records in caller.roles_in.items() if caller is not None else ():
        for identifier, names in list(records.items())[:_MOST_RECORDS]:
            # An imagined caller holds them in whichever record is asked about.
            where = thing if identifier is None else f"{thing} {identifier}"
            found.append(f"{' and '.join(sorted(names))} in {where}")
        if len(records) > _MOST_RECORDS:
            found.append(f"roles in {len(records) - _MOST_RECORDS} more of {thing}")
    return found


class CallerView:
    """A caller as conditions see it: ``id``, and the attributes by name; by key, so that nothing else has a name.

    Attributes:
        followed: what references to the caller have led to, by their words: the same whatever the record.
    """

    __slots__ = ("_caller", "followed")

    def __init__(self, caller: Caller) -> None:
        self._caller = caller
        self.followed: dict[str, Any] = {}

    def keys(self) -> Iterable[str]:
        """The names."""
        return dict.fromkeys(("id", "actor", *self._caller.attributes))

    def __getitem__(self, name: str) -> Any:
        if name == "id":
            if self._caller.id is None:
                raise KeyError(name)
            return self._caller.id
        if name == "actor":
            # That no one acts for the caller is known: it is none, and not missing.
            return self._caller.actor if self._caller.actor is not None else self._caller.attributes.get("actor")
        return self._caller.attributes[name]


class Unidentified(BloodrootError):
    """The credentials of a request are not accepted: an expired token, a member who was suspended.

    Raised by an application's ``identify``, it makes the caller a signed-out one.

    Attributes:
        reason: what is wrong, in words that the sender of the request may see.
        token: whether it was a bearer token, so that a refusal says ``invalid_token`` (RFC 6750, section 3.1).
    """

    def __init__(self, reason: str, *, token: bool = False) -> None:
        self.reason = reason
        self.token = token
        super().__init__(reason)


def imagined(*kinds: str) -> Caller:
    """A signed-in caller of whom nothing is known but the roles: what requires an attribute stays open.

    Args:
        kinds: roles; ``editor in studio`` for one that is held in the record of a thing that is asked about, and
            ``editor in another studio`` for one that is held in some other one; groups as `kind_of_group` writes them.
    """
    return with_roles(UNKNOWN, kinds, _NotKnownYet())


def with_roles(identity: Any, kinds: Iterable[str], attributes: Mapping[str, Any] = _NOTHING) -> Caller:
    """A caller with roles as `imagined` takes them."""
    plain, groups = [], []
    held: dict[bool, dict[str, set[str]]] = {False: {}, True: {}}
    for kind in kinds:
        group = group_of_kind(kind)
        if group is not None:
            groups.append(group)
            continue
        role, _, thing = kind.partition(" in ")
        if not thing:
            plain.append(role)
            continue
        held[thing.startswith(_ANOTHER)].setdefault(thing.removeprefix(_ANOTHER), set()).add(role)
    here, elsewhere = (
        {thing: frozenset(roles) for thing, roles in held[is_elsewhere].items()} for is_elsewhere in (False, True)
    )
    roles_in = InEvery(here, elsewhere) if here or elsewhere else NOWHERE
    return Caller(identity, plain, groups, attributes=attributes, roles_in=roles_in)


def kind_of_group(name: str) -> str:
    """A group as a kind of caller: ``group "staff"``."""
    return f'{_GROUP}{name}"'


def group_of_kind(kind: str) -> str | None:
    """The group that a kind of caller is in; None for any other kind."""
    return kind[len(_GROUP) : -1] if kind.startswith(_GROUP) and kind.endswith('"') else None


_GROUP = 'group "'


def in_another(kinds: Iterable[str]) -> list[str]:
    """The kinds with a role in a thing, as those who hold it in another record: ``editor in another studio``."""
    return [kind.replace(" in ", f" in {_ANOTHER}") for kind in kinds if " in " in kind and group_of_kind(kind) is None]


_ANOTHER = "another "
