"""Roles: inclusion, defaults, groups, and roles kept apart. Each role is one bit."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, TypeVar

from ..language import tree
from ..language.problems import ENOUGH, Place, Problem, suggestion
from .order import in_order
from .things import Things, compile_things

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from .caller import Caller

# Being signed in or not is one bit each, beside the roles, so that one test of bits decides audiences as well.
SIGNED_OUT = 1
SIGNED_IN = 2
ANYONE = SIGNED_OUT | SIGNED_IN
_KEPT = 4096

_Key = TypeVar("_Key")


@dataclass(slots=True)
class Held:
    """What a caller holds: a bit for each role, those included too, and the names the policy does not know."""

    bits: int
    apart: tuple[str, ...]
    unknown: tuple[str, ...]


class RoleTable:
    """The roles of a policy.

    Attributes:
        bit: the one bit of each role, in the order of the file.
        closure: for each role, its bit and those of all roles it includes.
        groups: for each group, the bits of the roles it gives.
        base: the bits of a signed-in caller who was given nothing: signed in, and the default roles.
        apart: sets of roles of which no one may hold two, each with the names as bits.
        things: what roles may be held in.
        has_things: whether there is any.
        in_thing: for each role that is held in particular records, the thing of those.
        apart_in: for each thing, the sets of roles of which no one may hold two in one record.
        bits_of_thing: for each thing, the bits of the roles held in it, and of those that they include.
        bits_in_things: the bits of all roles that are held in something.
        known_bits_in: for each thing, the bits of roles by their names, as far as they were worked out.
        kinds: the roles as kinds of callers, from least to most; those of things come last, as ``editor in studio``.
        bit_of: for each of these, its bit.
        closure_of: for each of these, its bit and those of all roles it includes.
        held_by_roles: what callers in no group hold, by their roles, as far as it was worked out.
        held_by_groups: what callers in groups hold, by their roles and groups.
    """

    held_by_roles: dict[Iterable[str], Held]
    held_by_groups: dict[tuple[Iterable[str], Iterable[str]], Held]

    def __init__(
        self,
        closure: dict[str, int],
        bit: dict[str, int],
        groups: dict[str, int],
        base: int,
        apart: tuple[tuple[tuple[str, int], ...], ...],
        descriptions: dict[str, str],
        in_things: InThings | None = None,
    ) -> None:
        self.bit = bit
        self.closure = closure
        self.groups = groups
        self.base = base
        self.apart = apart
        self.descriptions = descriptions
        in_things = in_things or InThings()
        self.things = in_things.things
        self.has_things = bool(self.things)
        self.in_thing = in_things.in_thing
        self.bit_in = in_things.bit
        self.closure_in = in_things.closure
        self.apart_in = in_things.apart
        self.bits_of_thing = {thing: self._closure_of(thing) for thing in self.things.by_name}
        self.bits_in_things = sum(self.bit_in.values())
        self.kinds = (
            *self.by_reach(),
            *(self.kind(role) for thing in self.things.by_name for role in self.roles_of(thing)),
        )
        self.bit_of = {**bit, **{self.kind(name): one for name, one in self.bit_in.items()}}
        self.closure_of = {
            **closure,
            **{self.kind(name): bits for name, bits in self.closure_in.items()},
        }
        self.known_bits_in: dict[str, dict[frozenset[str], int]] = {thing: {} for thing in self.things.by_name}
        self.held_by_roles = {}
        self.held_by_groups = {}
        self._nobody = Held(SIGNED_OUT, (), ())

    def held(self, caller: Caller | None) -> Held:
        """What a caller holds. Callers with the same roles and groups share one answer."""
        if caller is None:
            return self._nobody
        if caller.groups:
            return self._held(self.held_by_groups, (caller.roles, caller.groups), caller)
        # Most callers are in no group: their roles alone are the key, which costs less.
        return self._held(self.held_by_roles, caller.roles, caller)

    def _held(self, kept: dict[_Key, Held], key: _Key, caller: Caller) -> Held:
        found = kept.get(key)
        if found is None:
            found = self._work_out(caller)
            if len(kept) >= _KEPT:
                # Roles come from tokens: without a limit an attacker could fill the memory.
                kept.clear()
            kept[key] = found
        return found

    def _work_out(self, caller: Caller) -> Held:
        bits = self.base
        unknown = []
        for role in caller.roles:
            closure = self.closure.get(role)
            if closure is None:
                thing = self.in_thing.get(role)
                unknown.append(f'role "{role}"' if thing is None else f'role "{role}" outside of a {thing}')
            else:
                bits |= closure
        for group in caller.groups:
            closure = self.groups.get(group)
            if closure is None:
                unknown.append(f'group "{group}"')
            else:
                bits |= closure
        apart: tuple[str, ...] = ()
        for members in self.apart:
            both = tuple(name for name, bit in members if bits & bit)
            if len(both) > 1:
                apart = both
                break
        return Held(bits, apart, tuple(sorted(unknown)))

    def bits_in(self, thing: str, names: frozenset[str]) -> int:
        """The bits of these roles of a thing, with those that they include; a name that it has not gives none."""
        if not names:
            return 0
        known = self.known_bits_in.get(thing)
        if known is None:
            return 0
        bits = known.get(names)
        if bits is None:
            bits = 0
            for name in names:
                if self.in_thing.get(name) == thing:
                    bits |= self.closure_in[name]
            if len(known) >= _KEPT:
                known.clear()
            known[names] = bits
        return bits

    def are_apart_in(self, thing: str, bits: int) -> bool:
        """Whether these roles, held in one record of a thing, are kept apart there."""
        return any(sum(1 for _, bit in members if bits & bit) > 1 for members in self.apart_in.get(thing, ()))

    def roles_of(self, thing: str) -> tuple[str, ...]:
        """The roles that are held in a thing, from least to most: by how many each includes, then as in the file."""
        names = [name for name, other in self.in_thing.items() if other == thing]
        return tuple(sorted(names, key=lambda name: self.closure_in[name].bit_count()))

    def _closure_of(self, thing: str) -> int:
        bits = 0
        for name, other in self.in_thing.items():
            if other == thing:
                bits |= self.closure_in[name]
        return bits

    def kind(self, name: str) -> str:
        """A role as a kind of caller."""
        return kind_of_role(name, self.in_thing.get(name))

    def bits_of_names(self, names: Iterable[str]) -> int:
        """The bits of some roles and of all that they include, those of things among them; of ``signed-in`` its own.

        A name that the policy does not know gives no bit.
        """
        bits = SIGNED_OUT
        for name in names:
            bits |= self.closure.get(name, 0) | self.closure_in.get(name, 0) | self.closure_of.get(name, 0)
            bits |= SIGNED_IN if name == "signed-in" else 0
        return bits

    def names(self, bits: int) -> tuple[str, ...]:
        """The roles whose bits are set, in the order of the file."""
        return tuple(name for name, bit in self.bit.items() if bits & bit)

    def direct_and_included(self, caller: Caller | None) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The roles of a caller that the policy knows: those held directly, and those held because of them, of groups
        and by default; each in the order of the file.
        """
        held = self.names(self.held(caller).bits)
        direct = caller.roles if caller is not None else ()
        return tuple(name for name in held if name in direct), tuple(name for name in held if name not in direct)

    def kinds_of(self, bits: int) -> tuple[str, ...]:
        """The roles whose bits are set, as kinds of callers, in the order of the file."""
        return tuple(name for name, bit in self.bit_of.items() if bits & bit)

    def are_apart(self, bits: int) -> bool:
        """Whether no caller may hold all of these roles, or not in one record."""
        return any(sum(1 for _, bit in members if bits & bit) > 1 for members in self.every_apart())

    def every_apart(self) -> Iterator[tuple[tuple[str, int], ...]]:
        """The sets of roles that are kept apart, everywhere and in one record."""
        yield from self.apart
        for sets in self.apart_in.values():
            yield from sets

    def by_reach(self) -> tuple[str, ...]:
        """Role names from least to most: by how many roles each includes, then as in the file."""
        order = {name: place for place, name in enumerate(self.bit)}
        return tuple(sorted(self.bit, key=lambda name: (self.closure[name].bit_count(), order[name])))


def kind_of_role(name: str, thing: str | None) -> str:
    """A role as a kind of caller: ``curator``, or ``editor in studio`` for one that is held in a thing."""
    return name if thing is None else f"{name} in {thing}"


class InThings:
    """The roles that are held in particular records.

    Attributes:
        things: the things of the policy.
        in_thing: for each role, its thing, in the order of the file.
        bit: the one bit of each role.
        closure: for each role, its bit and those of all roles it includes.
        apart: for each thing, sets of roles that are kept apart in one record, each with the names as bits.
    """

    def __init__(self, things: Things | None = None) -> None:
        self.things = things or Things()
        self.in_thing: dict[str, str] = {}
        self.bit: dict[str, int] = {}
        self.closure: dict[str, int] = {}
        self.apart: dict[str, tuple[tuple[tuple[str, int], ...], ...]] = {}


def compile_roles(document: tree.Document, problems: list[Problem]) -> RoleTable:
    """Resolve the sections ``roles``, ``things`` and ``groups``; mistakes are added to ``problems``."""
    return _Compiling(document, problems).table()


class _Compiling:
    """The roles of one policy on their way into a table."""

    def __init__(self, document: tree.Document, problems: list[Problem]) -> None:
        self.document = document
        self.problems = problems
        self.in_things = InThings(compile_things(document, problems))
        self.plain: dict[str, tree.Role] = {}
        self.declared: dict[str, tree.Role] = {}
        self._declare(document.entries(tree.Role), None)
        self.sections: list[tuple[str, tree.Section]] = []
        for section in document.headed("roles in"):
            self._section(section)
        self.names = {**dict.fromkeys(self.declared), **dict.fromkeys(document.broken)}

    def _section(self, section: tree.Section) -> None:
        thing = section.argument or ""
        things = self.in_things.things.by_name
        if thing not in things:
            declared = {entry.name.text: None for entry in self.document.entries(tree.Thing)}
            if thing not in declared and thing not in self.document.broken:
                guess = suggestion(thing, things) or "; declare it in the section things"
                self.problems.append(Problem(f'unknown thing "{thing}"{guess}', section.place))
        self.sections.append((thing, section))
        self._declare([entry for entry in section.entries if isinstance(entry, tree.Role)], thing)

    def _declare(self, roles: Iterable[tree.Role], thing: str | None) -> None:
        for role in roles:
            name = role.name.text
            first = self.declared.setdefault(name, role)
            if first is not role:
                self.problems.append(Problem(f'role "{name}" is declared already, in {first.place.at}', role.place))
            elif thing is None:
                self.plain[name] = role
            else:
                self.in_things.in_thing[name] = thing

    def resolved(self, words: list[tree.Word], origin: Place) -> list[str]:
        """The roles by these names; a name that is no role is a mistake."""
        for word in words:
            if word.text not in self.names:
                guess = suggestion(word.text, self.names) if len(self.problems) < ENOUGH else ""
                self.problems.append(Problem(f'unknown role "{word.text}"{guess}', word.place(origin)))
        return [word.text for word in words if word.text in self.declared]

    def held_everywhere(self, words: list[tree.Word], origin: Place, wanted: str) -> list[str]:
        """Those of some roles that are held everywhere; one that is held in a thing is a mistake."""
        for word in words:
            thing = self.in_things.in_thing.get(word.text)
            if thing is not None:
                message = f'"{word.text}" is held in particular records of {thing}, and {wanted}'
                self.problems.append(Problem(message, word.place(origin)))
        return [name for name in self.resolved(words, origin) if name in self.plain]

    def included(self, name: str, role: tree.Role) -> list[str]:
        """What a role includes; nothing includes upwards."""
        found = self.resolved(role.includes, role.place)
        thing = self.in_things.in_thing.get(name)
        if thing is None or thing not in self.in_things.things.by_name:
            return found
        for word in role.includes:
            other = self.in_things.in_thing.get(word.text)
            if word.text in self.declared and (other is None or not self._is_within(other, thing)):
                where = f"held in a {other}" if other is not None else "held everywhere"
                included = f"a role in a {thing} includes roles in a {thing} and in what belongs to it"
                self.problems.append(Problem(f'"{word.text}" is {where}: {included}', word.place(role.place)))
        return found

    def _is_within(self, thing: str, other: str) -> bool:
        """Whether each record of a thing is one of another, or belongs to one."""
        things = self.in_things.things
        return thing not in things.by_name or other in {each.name for each in things.chain(thing)}

    def table(self) -> RoleTable:
        """The table."""
        bit = {name: 1 << (number + 2) for number, name in enumerate((*self.plain, *self.in_things.in_thing))}
        includes = {name: self.included(name, self.declared[name]) for name in bit}
        closure = _closures(includes, bit, self.declared, self.problems)
        base = SIGNED_IN
        for name, role in self.plain.items():
            if role.default:
                base |= closure[name]
        apart = self._kept_apart(bit, includes, base)
        descriptions = {name: role.description for name, role in self.declared.items() if role.description}
        for name in self.in_things.in_thing:
            self.in_things.bit[name] = bit.pop(name)
            self.in_things.closure[name] = closure.pop(name)
        groups = self._groups(closure)
        return RoleTable(closure, bit, groups, base, apart, descriptions, self.in_things)

    def _groups(self, closure: dict[str, int]) -> dict[str, int]:
        groups: dict[str, int] = {}
        for group in self.document.entries(tree.Group):
            if group.name in groups:
                self.problems.append(Problem(f'group "{group.name}" is declared already', group.place))
            bits = 0
            wanted = "a group gives roles that are held everywhere; a plain role may include it"
            for name in self.held_everywhere(group.roles, group.place, wanted):
                bits |= closure[name]
            groups[group.name] = bits
        return groups

    def _kept_apart(
        self, bit: dict[str, int], includes: dict[str, list[str]], base: int
    ) -> tuple[tuple[tuple[str, int], ...], ...]:
        """The sets of roles that are kept apart; those in things are put there."""
        apart = []
        entries = self.document.entries(tree.Apart)
        inner = [(thing, entry) for thing, section in self.sections for entry in section.entries]
        holders = _holders(includes) if entries or any(isinstance(entry, tree.Apart) for _, entry in inner) else {}
        wanted = "roles that are held everywhere are kept apart here; write this line in its own section"
        for entry in entries:
            names = dict.fromkeys(self.held_everywhere(entry.roles, entry.place, wanted))
            apart.append(tuple((name, bit[name]) for name in names))
            self.problems += _never_apart(entry, apart[-1], base, holders)
        for thing, entry_in in inner:
            if not isinstance(entry_in, tree.Apart):
                continue
            names = dict.fromkeys(self.resolved(entry_in.roles, entry_in.place))
            for word in entry_in.roles:
                if word.text in names and self.in_things.in_thing.get(word.text) != thing:
                    message = f'"{word.text}" is no role in a {thing}; this section keeps apart the roles in it'
                    self.problems.append(Problem(message, word.place(entry_in.place)))
            members = tuple((name, bit[name]) for name in names)
            self.in_things.apart[thing] = (*self.in_things.apart.get(thing, ()), members)
            self.problems += _never_apart(entry_in, members, base, holders)
        return tuple(apart)


def _never_apart(
    entry: tree.Apart, members: tuple[tuple[str, int], ...], base: int, holders: dict[str, int]
) -> Iterator[Problem]:
    """Mistakes of roles that are kept apart: that every caller holds two of them, or one by default, or a role two."""
    held = [name for name, role in members if base & role]
    if len(held) > 1:
        # No signed-in caller whatever would be without them.
        message = f"every signed-in caller holds {held[0]} and {held[1]} by default, which this line keeps apart"
        yield Problem(message, entry.place)
    elif held and len(members) > 1:
        other = next(name for name, _ in members if name != held[0])
        message = (
            f"every signed-in caller holds {held[0]} by default: kept apart from it, all who hold {other} would be "
            f"refused everywhere; take {held[0]} out of this line, or let it be no default"
        )
        yield Problem(message, entry.place)
    numbered = list(holders)
    for one, other in combinations([name for name, _ in members], 2):
        # The first role that holds both, in the order of the file: the lowest bit.
        common = holders[one] & holders[other]
        if common:
            name = numbered[(common & -common).bit_length() - 1]
            message = f'role "{name}" holds {one} and {other}, which this line keeps apart'
            yield Problem(message, entry.place)
            return


def _holders(includes: dict[str, list[str]]) -> dict[str, int]:
    """For each role those that hold it, as a bit each in the order of the file."""
    holders = {name: 1 << number for number, name in enumerate(includes)}
    ordered = in_order(includes).names
    for name in reversed(ordered):
        for child in includes[name]:
            holders[child] |= holders[name]
    return holders


def _closures(
    includes: dict[str, list[str]], bit: dict[str, int], declared: dict[str, tree.Role], problems: list[Problem]
) -> dict[str, int]:
    """For each role its own bit and all it includes, found from the leaves up."""
    closure: dict[str, int] = {}
    ordered, circle = in_order(includes)
    for name in ordered:
        bits = bit[name]
        for child in includes[name]:
            bits |= closure[child]
        closure[name] = bits
    if circle:
        message = f"these roles include each other in a circle: {' → '.join(circle)}"
        problems.append(Problem(message, declared[circle[0]].place))
    return {name: closure.get(name, bit[name]) for name in includes}
