"""Records of things: which addresses they make, those that cross what belongs together among them."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ..core.records import UNKNOWN

if TYPE_CHECKING:
    from ..core.things import Thing, Things
    from ..settings import Settings, ThingSample
    from .samples import SampleRecord

_MOST_RECORDS = 4  # of one thing, at one endpoint
_MOST_ADDRESSES = 24


class ThingRecord(Mapping[str, Any]):
    """What a sample says of a record: what it is, and what it belongs to. Everything else is not known."""

    def __init__(self, values: Mapping[str, Any]) -> None:
        self._values = values

    def __getitem__(self, name: str) -> Any:
        return self._values.get(name, UNKNOWN)

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)


class ThingSamples:
    """The records of ``[samples.THING]``, by thing and identifier.

    Args:
        things: the things of the policy.
        settings: with the samples.
    """

    def __init__(self, things: Things, settings: Settings) -> None:
        self.things = things
        self._samples: Mapping[str, Mapping[str, ThingSample]] = settings.things

    def addresses(self, record: SampleRecord, named: tuple[tuple[str, Thing], ...]) -> list[SampleRecord]:
        """The record at each of its addresses: with parameters of things filled in, belonging together and crossed.

        Args:
            record: what conditions say of a record, with the values that they need.
            named: the parameters of the path that identify a thing, each with that thing.
        """
        open_names = [(name, thing) for name, thing in named if name not in record.values]
        choices = [list(self._samples.get(thing.name, {}))[:_MOST_RECORDS] for _, thing in open_names]
        sample_records: list[SampleRecord] = []
        for chosen in itertools.product(*choices):
            values = {**record.values, **{name: each for (name, _), each in zip(open_names, chosen, strict=True)}}
            sample_records.append(self._at(record, values, named))
        # Those that belong together come first: they say what the endpoint answers to who may.
        sample_records.sort(key=lambda each: each.crossed != "")
        return sample_records[:_MOST_ADDRESSES]

    def record(self, name: str, values: Mapping[str, str]) -> ThingRecord | None:
        """The record of a thing that the values of a path name; None where no sample has it."""
        thing = self.things.by_name[name]
        identifier = next((values[parameter] for parameter in thing.parameters if parameter in values), None)
        sample = self._samples.get(name, {}).get(identifier) if identifier is not None else None
        if sample is None or identifier is None:
            return None
        return _record(thing, identifier, sample.parents.get(thing.parent or ""))

    def lacks_crossing(self, records: list[SampleRecord], named: tuple[tuple[str, Thing], ...]) -> str:
        """What has to be written so that addresses can be crossed; an empty string where some are, or none can be."""
        if not self.things.are_tied(named) or any(record.crossed for record in records):
            return ""
        name = named[-1][1].name
        parent = self.things.by_name[name].parent or name
        return f"no sample crosses what belongs together; write records of two of {parent} under [samples.{name}]"

    def mark(self, record: SampleRecord, named: tuple[tuple[str, Thing], ...]) -> str | None:
        """Text that is in the record of the last parameter, and in no other."""
        name, thing = named[-1]
        sample = self._samples.get(thing.name, {}).get(record.values.get(name, ""))
        return sample.mark if sample is not None else None

    def _at(
        self, record: SampleRecord, values: Mapping[str, str], named: tuple[tuple[str, Thing], ...]
    ) -> SampleRecord:
        records: dict[str, Any] = {}
        met: dict[str, str] = {}
        crossed = ""
        for name, thing in named:
            if name not in values:
                continue
            identifier: str | None = values[name]
            at: Thing | None = thing
            while at is not None and identifier is not None:
                if met.setdefault(at.name, identifier) != identifier:
                    crossed = (
                        crossed or f"{thing.name} {values[name]} is in {at.name} {self._of(thing, values[name], at)}"
                    )
                sample = self._samples.get(at.name, {}).get(identifier)
                parent = sample.parents.get(at.parent or "") if sample is not None else None
                if sample is not None and (at.parent is None or parent is not None):
                    records.setdefault(name if at is thing else at.name, _record(at, identifier, parent))
                at = self.things.by_name[at.parent] if at.parent is not None else None
                identifier = parent
        # A record on the way is that of the very chain: crossed chains have several, and the first difference decides.
        return replace(record, values=values, records=records, crossed=crossed)

    def _of(self, thing: Thing, identifier: str, wanted: Thing) -> str:
        """Which record of a thing a record belongs to."""
        at: Thing | None = thing
        found: str | None = identifier
        while at is not None and at.name != wanted.name and found is not None:
            sample = self._samples.get(at.name, {}).get(found)
            found = sample.parents.get(at.parent or "") if sample is not None else None
            at = self.things.by_name[at.parent] if at.parent is not None else None
        return found or "another"


def _record(thing: Thing, identifier: str, parent: str | None) -> ThingRecord:
    value: Any = parent
    for name in reversed(thing.by[1:]):
        value = {name: value}
    return ThingRecord({"id": identifier, **({thing.by[0]: value} if thing.by else {})})
