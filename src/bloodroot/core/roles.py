"""Roles: inclusion, defaults, groups, and roles kept apart. Each role is one bit."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, TypeVar

from ..language import tree
from ..language.problems import ENOUGH, Place, Problem, suggestion
from .order import in_order

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
    ) -> None:
        self.bit = bit
        self.closure = closure
        self.groups = groups
        self.base = base
        self.apart = apart
        self.descriptions = descriptions
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
                unknown.append(f'role "{role}"')
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

    def by_reach(self) -> tuple[str, ...]:
        """Role names from least to most: by how many roles each includes, then as in the file."""
        order = {name: place for place, name in enumerate(self.bit)}
        return tuple(sorted(self.bit, key=lambda name: (self.closure[name].bit_count(), order[name])))


def compile_roles(document: tree.Document, problems: list[Problem]) -> RoleTable:
    """Resolve the sections ``roles`` and ``groups``; mistakes are added to ``problems``."""
    declared: dict[str, tree.Role] = {}
    for role in document.entries(tree.Role):
        first = declared.setdefault(role.name.text, role)
        if first is not role:
            problems.append(Problem(f'role "{role.name.text}" is declared already, in {first.place.at}', role.place))
    names = {**dict.fromkeys(declared), **dict.fromkeys(document.broken)}

    def resolved(words: list[tree.Word], origin: Place) -> list[str]:
        for word in words:
            if word.text not in names:
                guess = suggestion(word.text, names) if len(problems) < ENOUGH else ""
                problems.append(Problem(f'unknown role "{word.text}"{guess}', word.place(origin)))
        return [word.text for word in words if word.text in declared]

    bit = {name: 1 << (number + 2) for number, name in enumerate(declared)}
    includes = {name: resolved(role.includes, role.place) for name, role in declared.items()}
    closure = _closures(includes, bit, declared, problems)
    base = SIGNED_IN
    for name, role in declared.items():
        if role.default:
            base |= closure[name]
    groups: dict[str, int] = {}
    for group in document.entries(tree.Group):
        if group.name in groups:
            problems.append(Problem(f'group "{group.name}" is declared already', group.place))
        bits = 0
        for name in resolved(group.roles, group.place):
            bits |= closure[name]
        groups[group.name] = bits
    apart = []
    entries = list(document.entries(tree.Apart))
    holders = _holders(includes) if entries else {}
    for entry in entries:
        members = tuple((name, bit[name]) for name in dict.fromkeys(resolved(entry.roles, entry.place)))
        apart.append(members)
        problems += _never_apart(entry, members, base, holders)
    descriptions = {name: role.description for name, role in declared.items() if role.description}
    return RoleTable(closure, bit, groups, base, tuple(apart), descriptions)


def _never_apart(
    entry: tree.Apart, members: tuple[tuple[str, int], ...], base: int, holders: dict[str, int]
) -> Iterator[Problem]:
    """Mistakes of roles that are kept apart: that every caller holds two of them, or that a role does."""
    held = [name for name, role in members if base & role]
    if len(held) > 1:
        # No signed-in caller whatever would be without them.
        message = f"every signed-in caller holds {held[0]} and {held[1]} by default, which this line keeps apart"
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
    ordered, _ = in_order(includes)
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
