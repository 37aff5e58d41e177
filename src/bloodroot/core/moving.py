"""A record that a change moves into another one: kiln 4 from studio 7 into studio 8."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from .records import MISSING, attribute, names_of
from .values import Value, compare

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .things import Things


class Moved(NamedTuple):
    """What a change does to where a record is.

    Attributes:
        attribute: the field that moves it.
        record: the record as it will be.
    """

    attribute: str
    record: Any


class AsChanged(Mapping[str, Any]):
    """A record with some of its attributes changed.

    Attributes:
        on_the_way: the records that it is moved into, by thing, as far as they were given.
    """

    def __init__(self, record: Any, changes: Mapping[str, Any], on_the_way: Mapping[str, Any]) -> None:
        self._record = record
        self._changes = changes
        self.on_the_way = on_the_way

    def __getitem__(self, name: str) -> Any:
        value = self._changes[name] if name in self._changes else attribute(self._record, name)
        if value is MISSING:
            raise KeyError(name)
        return value

    def __iter__(self) -> Iterator[str]:
        return iter(names_of(self._record))

    def __len__(self) -> int:
        return len(names_of(self._record))


def moved(things: Things, kind: str, record: Any, changes: Iterable[str]) -> Moved | None:
    """What becomes of a record, where a change moves it into another one; None where it does not.

    Args:
        things: those of the policy.
        kind: the kind of record.
        record: the record as it is, or None for one that is new.
        changes: new values by field. Of names alone it is not known where they lead.
    """
    thing = things.by_name.get(kind)
    if thing is None or thing.parent is None:
        return None
    values: Mapping[str, Any] = changes if isinstance(changes, Mapping) else dict.fromkeys(changes, MISSING)
    name = thing.by[0]
    changed = dict(values)
    given = name
    on_the_way: dict[str, Any] = {}
    if name not in values:
        # The record that it belongs to may be given in the place of what identifies that.
        given = thing.parent
        if given not in values or len(thing.by) > 1:
            return None
        changed[name] = _identifier(things, given, values[given])
        on_the_way[given] = values[given]
    if len(thing.by) == 1 and record is not None:
        before, after = attribute(record, name), changed[name]
        if before is after or compare(Value(before), "==", Value(after)) is True:
            return None
    return Moved(given, AsChanged(record, changed, on_the_way))


def _identifier(things: Things, name: str, record: Any) -> Any:
    if record is MISSING or record is None:
        return record
    names = things.by_name[name].identified_by
    return next((value for each in names if (value := attribute(record, each)) is not MISSING), MISSING)
