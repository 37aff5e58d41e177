"""Where a request is: the record of each thing that its path leads to, and whether they belong together."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple, cast

from .formulas import FALSE, FAULTY, TRUE, Constant, Facts, Formula, Leaf
from .moving import AsChanged
from .records import MISSING, attribute, is_keyed
from .roles_in import NOWHERE, InEvery, RolesIn, is_odd
from .values import Value, compare

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from .caller import Caller
    from .roles import RoleTable
    from .things import Thing, Things


@dataclass(frozen=True, slots=True)
class Together(Leaf):
    """The records that a path names belong together; not known before they are loaded.

    Attributes:
        things: the things, in words from the last to the first.
        how: by which attributes each of them is followed, where that makes a difference.
    """

    things: tuple[str, ...]
    how: tuple[tuple[str, ...], ...] = ()

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def words(self) -> str:
        return " in ".join(self.things)


class Wanted(NamedTuple):
    """A record that has to be known to go on.

    Attributes:
        thing: its thing.
        identifier: its identifier.
        parameter: the parameter of the path that names it; None for one that only another record leads to.
    """

    thing: str
    identifier: Value
    parameter: str | None


# What a record belongs to where it belongs to none.
_NONE = Value(None)


@dataclass(slots=True)
class Location:
    """The record of each thing that a path leads to.

    Attributes:
        records: the identifier of each thing's record, as far as it is known; a value of None for no record.
        open: the things that the path leads to, where it is not known to which record.
        lost: the things to which the way cannot be followed, as a record lacks the attribute.
        together: whether the records belong together: true, false, faulty, or not known yet.
        wanted: what has to be loaded to know more.
        steps: the chain as far as it is known, in words.
    """

    records: dict[str, Value] = field(default_factory=dict)
    open: dict[str, None] = field(default_factory=dict)
    lost: dict[str, None] = field(default_factory=dict)
    together: Formula = TRUE
    wanted: list[Wanted] = field(default_factory=list)
    steps: list[str] = field(default_factory=list)

    def words(self) -> str:
        """What is known of the chain, and what is not."""
        steps = (
            self.steps if isinstance(self.together, Constant) else [f"depends on {self.together.words()}", *self.steps]
        )
        return "; ".join(steps)


def locate(
    things: Things, named: Iterable[tuple[str, Thing]], values: Mapping[str, Any], records: Mapping[str, Any]
) -> Location:
    """Work out where a path leads.

    Args:
        things: those of the policy.
        named: the parameters of the path that identify a thing, in the order of the path, each with that thing.
        values: the text of each in the path, or what a framework has made of it.
        records: the records at hand, by parameter, and by thing for those that only another record leads to.
    """
    walk = _Walk(things, named, values, records)
    for name, thing in walk.named:
        walk.start(name, thing)
    return walk.ended()


def locate_record(things: Things, thing: Thing, record: Any, location: Location | None = None) -> Location:
    """Where a record at hand is.

    It is identified by its attribute of the name of a parameter of its thing, else by its ``id``.

    Args:
        things: those of the policy.
        thing: what kind of record it is.
        record: the record.
        location: where the request is beside; both have to agree.
    """
    walk = _Walk(things, (), {}, record.on_the_way if isinstance(record, AsChanged) else {})
    if location is not None:
        walk.take_over(location)
    walk.reached.append(set())
    found = next((value for name in thing.identified_by if (value := attribute(record, name)) is not MISSING), None)
    walk.go(thing, _NONE if found is None else Value(found), record, f"the record is {thing.name}")
    return walk.ended()


class _Walk:
    """One location being worked out."""

    def __init__(
        self, things: Things, named: Iterable[tuple[str, Thing]], values: Mapping[str, Any], records: Mapping[str, Any]
    ) -> None:
        self.things = things
        self.named = [(name, thing) for name, thing in named if name in values]
        self.values = values
        self.records = records
        self.location = Location()
        self.said: dict[str, str] = {}
        # For each parameter the things that its way leads to, as far as that is known.
        self.reached: list[set[str]] = []

    def take_over(self, location: Location) -> None:
        self.location.records.update(location.records)
        self.location.open.update(location.open)
        self.location.lost.update(location.lost)
        self.location.together = location.together
        self.said.update(dict.fromkeys(location.records, "the path says"))

    def start(self, name: str, thing: Thing) -> None:
        self.reached.append(set())
        self.go(thing, Value(self.values[name], textual=True), self.records.get(name), f"the path says {thing.name}")

    def ended(self) -> Location:
        location = self.location
        for name in location.records:
            location.open.pop(name, None)
        if location.together is TRUE and (location.wanted or location.lost) and self.is_undecided():
            names = tuple(dict.fromkeys(thing.name for _, thing in reversed(self.named)))
            location.together = FAULTY if location.lost else Together(names)
        return location

    def is_undecided(self) -> bool:
        """Whether two parameters lead to one thing, and it is not known whether to one record of it."""
        for place, (_, thing) in enumerate(self.named):
            chain = [each.name for each in self.things.chain(thing.name)]
            for before, (_, other) in enumerate(self.named[:place]):
                names = {each.name for each in self.things.chain(other.name)}
                shared = next((name for name in chain if name in names), None)
                if shared is not None and not {shared} <= self.reached[place] & self.reached[before]:
                    return True
        return False

    def go(self, thing: Thing, identifier: Value, record: Any, said: str) -> None:
        """Go from a record of a thing to what it belongs to, and on."""
        while self.meets(thing, identifier, said) and thing.parent is not None:
            parent = self.things.by_name[thing.parent]
            if identifier.value is None:
                # What belongs to nothing is in none of what that would be in.
                thing, record = parent, None
                continue
            if record is None:
                record = self.record_of(thing, identifier)
            if record is None:
                self.note(self.location.open, parent)
                parameter = next((name for name, other in self.named if other is thing), None)
                self.location.wanted.append(Wanted(thing.name, identifier, parameter))
                return
            found, inner = _belongs_to(thing, record)
            if found is MISSING:
                kind = "the record" if is_keyed(record) else type(record).__name__
                self.location.steps.append(f"{kind} has no {'.'.join(thing.by)}")
                self.note(self.location.lost, parent)
                return
            value = _NONE if found is None else Value(found)
            there = f"in no {parent.name}" if found is None else f"in {parent.name} {_said(value)}"
            said = f"{thing.name} {_said(identifier)} is {there}"
            if said not in self.location.steps:
                self.location.steps.append(said)
            thing, identifier, record = parent, value, inner

    def meets(self, thing: Thing, identifier: Value, said: str) -> bool:
        """Note the record of a thing; whether there is more to follow."""
        self.reached[-1].add(thing.name)
        known = self.location.records.get(thing.name)
        if known is None:
            self.location.records[thing.name] = identifier
            self.said[thing.name] = said
            return True
        if known.value is None or identifier.value is None:
            same: bool | None = known.value is identifier.value
        else:
            same = compare(known, "==", identifier)
        if same is not True:
            for words, value in ((said, identifier), (self.said[thing.name], known)):
                if words.startswith("the path says"):
                    self.location.steps.append(f"the path says {thing.name} {_said(value)}")
                elif words not in self.location.steps:
                    self.location.steps.append(words)
            self.refuse(FALSE if same is False else FAULTY)
            return False
        # What is further up may be known by one way and not by the other.
        return thing.parent is not None and thing.parent not in self.location.records

    def record_of(self, thing: Thing, identifier: Value) -> Any:
        """A record that is at hand: that of the parameter which names this very one, or one that was loaded for it."""
        for name, other in self.named:
            if other is thing and compare(Value(self.values[name], textual=True), "==", identifier) is True:
                record = self.records.get(name)
                if record is not None:
                    return record
        return self.records.get(thing.name)

    def refuse(self, verdict: Formula) -> None:
        if self.location.together is not FALSE:
            self.location.together = verdict

    def note(self, things: dict[str, None], first: Thing) -> None:
        for each in self.things.chain(first.name):
            things.setdefault(each.name)


def _said(value: Value) -> str:
    return value.words().strip('"')


def _belongs_to(thing: Thing, record: Any) -> tuple[Any, Any]:
    """The identifier of what a record belongs to, `MISSING`, or None for nothing; and its record where it has it."""
    inner = None
    for place, name in enumerate(thing.by):
        if place and thing.leads_by_record and place == len(thing.by) - 1:
            inner = record
        record = attribute(record, name)
        if record is None or record is MISSING:
            return record, None
    return record, inner


@dataclass(frozen=True, slots=True)
class There:
    """What a caller holds in the records of a location, as bits of roles.

    Attributes:
        here: the roles that are held there.
        perhaps: those that may be held there, as a record is not known yet.
        blocked: those that nobody holds there, as roles that are kept apart are held, or the records do not belong
            together: what asks for them is faulty.
        unclear: those of which it cannot be said, so that what asks for them is faulty unless they are held everywhere.
        somewhere: those that are held in some record.
        roles: the roles of the policy.
        caller: who asks.
        location: where the request is; None where no path leads to a thing.
        record: a record at hand of which no parameter of the path says what it is.
        may_be_blocked: whether even what is held everywhere may be blocked, as nothing is known of the records.
    """

    here: int = 0
    perhaps: int = 0
    blocked: int = 0
    unclear: int = 0
    somewhere: int = 0
    roles: RoleTable | None = None
    caller: Caller | None = None
    location: Location | None = None
    record: Any = None
    may_be_blocked: bool = False

    @property
    def is_blocking(self) -> bool:
        """Whether what is held everywhere may be blocked in some record."""
        return self.may_be_blocked or (self.roles is not None and bool(self.roles.apart_in))

    def of_record(self, name: str) -> There:
        """The same where the record at hand, if there is one, is known to be one of a thing."""
        roles = self.roles
        if self.record is None or roles is None:
            return self
        location = locate_record(roles.things, roles.things.by_name[name], self.record, self.location)
        return there_of(roles, self.caller, location)

    def at(self, thing: str, value: Value) -> There:
        """The same in one record of a thing that something else than the path names."""
        roles, caller = self.roles, self.caller
        if roles is None or caller is None:
            return self
        known = self.location.records.get(thing) if self.location is not None else None
        if known is not None and compare(known, "==", value) is True:
            return self
        location = Location({thing: value})
        if self.record is not None:
            of_record = locate_record(roles.things, roles.things.by_name[thing], self.record)
            if compare(of_record.records[thing], "==", value) is True:
                return there_of(roles, caller, of_record)
        for above in roles.things.chain(thing)[1:]:
            location.open.setdefault(above.name)
        return there_of(roles, caller, location)


# Of a caller of whom it is not known what is held where.
ANYWHERE = There(perhaps=~0)
ANYWHERE_APART = There(perhaps=~0, may_be_blocked=True)  # where roles of things are kept apart


def there_of(roles: RoleTable, caller: Caller | None, location: Location | None, record: Any = None) -> There:
    """What a caller holds in the records of a location.

    Args:
        roles: the roles of the policy.
        caller: who asks; None for a signed-out caller.
        location: where the request is; None where no path leads to a thing.
        record: a record at hand of which no parameter of the path says what it is.
    """
    held = cast("RolesIn", caller.roles_in) if caller is not None else NOWHERE
    here = perhaps = blocked = unclear = somewhere = 0
    for thing in held:
        somewhere |= roles.bits_in(thing, held.anywhere(thing))
    if location is None and isinstance(held, InEvery):
        for thing in held:
            bits = roles.bits_in(thing, held.at(thing, None))
            if roles.apart_in and roles.are_apart_in(thing, bits | roles.held(caller).bits):
                blocked |= roles.bits_of_thing[thing]
            else:
                here |= bits
        return There(here, 0, blocked, 0, somewhere, roles, caller, None, record)
    if location is None:
        may_be_blocked = any(held.get(thing) for thing in roles.apart_in)
        return There(0, somewhere, 0, 0, somewhere, roles, caller, None, record, may_be_blocked)
    if location.together is FALSE or location.together is FAULTY:
        return There(0, 0, roles.bits_in_things, 0, somewhere, roles, caller, location, record)
    everywhere = roles.held(caller).bits if roles.apart_in else 0
    for thing, value in location.records.items():
        found = held.at(thing, value.value, textual=value.textual)
        bits = roles.bits_in(thing, found)
        if not found and value.textual and isinstance(value.value, str) and thing in held and is_odd(value.value):
            unclear |= roles.bits_in(thing, held.anywhere(thing))
        elif roles.apart_in and roles.are_apart_in(thing, bits | everywhere):
            blocked |= roles.bits_of_thing[thing]
        else:
            here |= bits
    for thing in location.open:
        perhaps |= roles.bits_in(thing, held.anywhere(thing))
    for thing in location.lost:
        unclear |= roles.bits_in(thing, held.anywhere(thing))
    may_be_blocked = any(thing in location.open for thing in roles.apart_in if held.get(thing))
    return There(here, perhaps, blocked, unclear, somewhere, roles, caller, location, record, may_be_blocked)


class RecordsWhere(NamedTuple):
    """Where a caller holds roles.

    Attributes:
        held: the identifiers of the records in which one is held, as they are in ``caller.roles_in``.
        blocked: those in which roles are held that are kept apart.
    """

    held: list[Any]
    blocked: list[Any]


def records_where(roles: RoleTable, caller: Caller, thing: str, mask: int) -> RecordsWhere:
    """The records of a thing in which a caller holds one of some roles, and those where roles are kept apart.

    Args:
        roles: the roles of the policy.
        caller: who asks.
        thing: its name.
        mask: the bits of the roles; they may be of what belongs to the thing.
    """
    held = cast("RolesIn", caller.roles_in)
    everywhere = roles.held(caller).bits
    where: list[Any] = []
    blocked: list[Any] = []
    for identifier, names in held.get(thing, {}).items():
        # All that is held there: an identifier may have been given in two spellings.
        bits = roles.bits_in(thing, held.at(thing, identifier, textual=False))
        if roles.apart_in and roles.are_apart_in(thing, bits | everywhere):
            if roles.bits_of_thing[thing] & mask:
                blocked.append(identifier)
        elif names and bits & mask:
            where.append(identifier)
    return RecordsWhere(where, blocked)
