"""Whoever sends the request."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Iterable

_NOTHING: Mapping[str, Any] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Caller:
    """A caller as the application knows it. No caller at all (``None``) is a signed-out one.

    Attributes:
        id: what conditions read as ``caller.id``.
        roles: names of roles held directly; those the policy does not know are ignored, and explained.
        groups: names of groups that a directory sent; the policy says which roles they stand for.
        attributes: everything else a condition may ask for, as in ``caller.status``.
    """

    id: Any = None
    roles: Iterable[str] = frozenset()
    groups: Iterable[str] = frozenset()
    attributes: Mapping[str, Any] = field(default_factory=lambda: _NOTHING)

    def __post_init__(self) -> None:
        for name in ("roles", "groups"):
            value = getattr(self, name)
            if isinstance(value, str):
                # "curator" would be seven roles of one letter each, none of them known.
                raise TypeError(f"Caller.{name} is a collection of names, not the text {value!r}")
            object.__setattr__(self, name, frozenset(value))
        if not isinstance(self.attributes, Mapping):
            raise TypeError(f"Caller.attributes is a mapping of names to values, not {self.attributes!r}")
