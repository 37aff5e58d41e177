"""Whoever sends the request."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from .conditions import UNKNOWN

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

_NOTHING: Mapping[str, Any] = MappingProxyType({})


class _NotKnownYet(Mapping[str, Any]):
    """Attributes of a caller who is only imagined: each may turn out to be anything."""

    def __getitem__(self, name: str) -> Any:
        return UNKNOWN

    def __iter__(self) -> Iterator[str]:
        return iter(())

    def __len__(self) -> int:
        return 0


@dataclass(frozen=True, slots=True)
class Caller:
    """A caller as the application knows it. No caller at all (``None``) is a signed-out one.

    Attributes:
        id: what conditions read as ``caller.id``.
        roles: names of roles held directly; those the policy does not know are ignored, and explained.
        groups: names of groups that a directory sent; the policy says which roles they stand for.
        attributes: everything else a condition may ask for, as in ``caller.status``.
        scopes: for a token made for less than its owner may do, the permissions it names; None holds nothing back.
    """

    id: Any = None
    roles: Iterable[str] = frozenset()
    groups: Iterable[str] = frozenset()
    attributes: Mapping[str, Any] = field(default_factory=lambda: _NOTHING)
    scopes: Iterable[str] | None = None

    def __post_init__(self) -> None:
        for name in ("roles", "groups", "scopes"):
            value = getattr(self, name)
            if value is None and name == "scopes":
                continue
            if isinstance(value, str):
                # "curator" would be seven roles of one letter each, none of them known.
                raise TypeError(f"Caller.{name} is a collection of names, not the text {value!r}")
            object.__setattr__(self, name, frozenset(value))
        if not isinstance(self.attributes, Mapping):
            raise TypeError(f"Caller.attributes is a mapping of names to values, not {self.attributes!r}")


def imagined(*roles: str) -> Caller:
    """A signed-in caller of whom nothing is known but the roles: what asks for an attribute stays open."""
    return Caller(UNKNOWN, roles, attributes=_NotKnownYet())
