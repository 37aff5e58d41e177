"""Roles that a caller holds in particular records: editor in studio 7."""

from __future__ import annotations

import math
import uuid
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from .values import as_decimal, plain_number, plain_uuid

_NO_ROLES: frozenset[str] = frozenset()


class RolesIn(Mapping[str, Mapping[Any, frozenset[str]]]):
    """For each thing, the roles that are held in one of its records, by the identifier of that. It stays as it is.

    Identifiers compare as text of a path does: ``7`` and ``"7"`` are one, and so are a UUID and its hexadecimal form.

    Args:
        held: ``{"studio": {7: {"editor"}}}``.

    Attributes:
        texts: for each thing none of whose identifiers is a UUID, the roles by the text of the identifier.

    Raises:
        TypeError: it is not a mapping of mappings to collections of names.
    """

    __slots__ = ("_by_thing", "_names", "texts")

    def __init__(self, held: Mapping[str, Mapping[Any, Any]]) -> None:
        if not isinstance(held, Mapping):
            raise TypeError(f"Caller.roles_in is a mapping of things to records and their roles, not {held!r}")
        self._by_thing = {thing: _InThing(thing, records) for thing, records in held.items() if records}
        self._names: dict[str, frozenset[str]] = {}
        self.texts = {thing: records.by_text for thing, records in self._by_thing.items() if records.is_plain}

    def __getitem__(self, thing: str) -> Mapping[Any, frozenset[str]]:
        return self._by_thing[thing].given

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_thing)

    def __len__(self) -> int:
        return len(self._by_thing)

    def __hash__(self) -> int:
        return hash(frozenset(self._by_thing))

    def __reduce__(self) -> tuple[Any, ...]:
        return RolesIn, ({thing: dict(in_thing.given) for thing, in_thing in self._by_thing.items()},)

    def __repr__(self) -> str:
        return repr({thing: dict(in_thing.given) for thing, in_thing in self._by_thing.items()})

    def at(self, thing: str, identifier: Any, *, textual: bool = True) -> frozenset[str]:
        """The roles that are held in one record of a thing.

        Args:
            thing: its name.
            identifier: that of the record.
            textual: whether text is from a path, so that it may mean a UUID in another spelling.
        """
        in_thing = self._by_thing.get(thing)
        return in_thing.at(identifier, textual) if in_thing is not None else _NO_ROLES

    def anywhere(self, thing: str) -> frozenset[str]:
        """The roles that are held in some record of a thing."""
        names = self._names.get(thing)
        if names is None:
            in_thing = self._by_thing.get(thing)
            names = self._names[thing] = (
                _NO_ROLES.union(*in_thing.given.values()) if in_thing is not None else _NO_ROLES
            )
        return names


class InEvery(RolesIn):
    """The roles of a caller who is only imagined: held in whichever record is asked about.

    Args:
        here: the roles by thing.
        elsewhere: roles that are held in other records than any that is asked about, by thing.
    """

    __slots__ = ("_elsewhere", "_here")

    def __init__(self, here: Mapping[str, frozenset[str]], elsewhere: Mapping[str, frozenset[str]]) -> None:
        every = {thing: here.get(thing, _NO_ROLES) | elsewhere.get(thing, _NO_ROLES) for thing in {**here, **elsewhere}}
        super().__init__({thing: {None: roles} for thing, roles in every.items()})
        self._here = dict(here)
        self._elsewhere = dict(elsewhere)
        self.texts = {}

    def at(self, thing: str, identifier: Any, *, textual: bool = True) -> frozenset[str]:  # noqa: ARG002
        """The same in every record."""
        return self._here.get(thing, _NO_ROLES)

    def __reduce__(self) -> tuple[Any, ...]:
        return InEvery, (self._here, self._elsewhere)


class _InThing:
    """The roles that are held in records of one thing, found by identifiers of any type."""

    __slots__ = ("_by_uuid", "_uuids", "by_text", "given")

    def __init__(self, thing: str, records: Mapping[Any, Any]) -> None:
        if not isinstance(records, Mapping):
            raise TypeError(f'Caller.roles_in["{thing}"] is a mapping of records to their roles, not {records!r}')
        self.given: dict[Any, frozenset[str]] = {}
        self.by_text: dict[str, frozenset[str]] = {}
        # By the hexadecimal form: what is given as a UUID, and what is given as text that may be one.
        self._uuids: dict[str, frozenset[str]] = {}
        self._by_uuid: dict[str, frozenset[str]] = {}
        known: dict[frozenset[str], frozenset[str]] = {}
        for identifier, roles in records.items():
            if isinstance(roles, str | bytes | Mapping):
                raise TypeError(
                    f'Caller.roles_in["{thing}"][{identifier!r}] is a collection of names, such as a set, not {roles!r}'
                )
            names = roles if type(roles) is frozenset else frozenset(roles)
            # One object for the same roles: what is worked out for them is found the faster.
            names = self.given[identifier] = known.setdefault(names, names)
            self._put(identifier, names)

    @property
    def is_plain(self) -> bool:
        """Whether text of a path finds roles in one spelling alone."""
        return not self._uuids

    def _put(self, identifier: Any, names: frozenset[str]) -> None:
        text = text_of(identifier)
        if text is None:
            return
        _add(self.by_text, text, names)
        if isinstance(identifier, uuid.UUID):
            _add(self._uuids, text, names)
        elif isinstance(identifier, str) and (found := plain_uuid(text)) is not None:
            _add(self._by_uuid, str(found), names)

    def at(self, identifier: Any, textual: bool) -> frozenset[str]:
        text = identifier if identifier.__class__ is str else text_of(identifier)
        if text is None:
            return _NO_ROLES
        found = self.by_text.get(text, _NO_ROLES)
        if self._by_uuid and isinstance(identifier, uuid.UUID):
            found |= self._by_uuid.get(text, _NO_ROLES)
        elif textual and self._uuids and identifier.__class__ is str and (like := plain_uuid(text)) is not None:
            found |= self._uuids.get(str(like), _NO_ROLES)
        return found


def _add(index: dict[str, frozenset[str]], text: str, names: frozenset[str]) -> None:
    before = index.get(text)
    index[text] = names if before is None else before | names


def text_of(identifier: Any) -> str | None:
    """An identifier as text of a path means it; None for what no path can name."""
    kind = identifier.__class__
    if kind is str:
        return str(identifier)
    if kind is int:
        return str(identifier)
    if isinstance(identifier, bool) or identifier is None:
        return None
    if isinstance(identifier, uuid.UUID):
        return str(identifier)
    if isinstance(identifier, str):
        return str.__str__(identifier)
    if isinstance(identifier, int):
        return int.__repr__(identifier)
    return _text_of_number(identifier) if isinstance(identifier, float | Decimal) else None


def _text_of_number(number: float | Decimal) -> str | None:
    if not math.isfinite(number):
        return None
    exact = as_decimal(number) if isinstance(number, float) else number
    text = format(exact, "f")
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return text if plain_number(text) is not None else None


def is_odd(text: str) -> bool:
    """Whether text of a path may be an identifier in another spelling, so that not finding it says nothing."""
    found = plain_uuid(text)
    if found is not None:
        return text != str(found)
    if plain_number(text) is not None:
        return False
    for read in (_finite, uuid.UUID):
        try:
            read(text)
        except ValueError:
            continue
        return True
    return False


def _finite(text: str) -> float:
    number = float(text)
    if not math.isfinite(number):
        raise ValueError(text)
    return number


NOWHERE = RolesIn({})
