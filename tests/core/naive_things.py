"""Roles held in things, read once more from the documents: every record is at hand, and every chain is followed.

A requirement is a tuple: ("name", NAME), ("any", ROLE), ("at", ROLE, PARAMETER of the query), ("not", part),
("and", parts), ("or", parts). It is true, false, or None for faulty.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from hypothesis import strategies as st

from bloodroot import Caller
from tests.core.naive import _join

THINGS = ("town", "house", "room", "club")  # the first three may form a chain, the last stands alone
PLAIN = ("guest", "chief")
ROLES_IN = {"town": ("mayor", "citizen"), "house": ("owner", "lodger"), "room": ("sleeper",), "club": ("fan",)}
THING_OF = {role: thing for thing, roles in ROLES_IN.items() for role in roles}
IDS = (1, 2, 3)
MISSING = object()


@dataclass
class ThingWorld:
    """A policy over things, and records.

    Attributes:
        parents: for each thing, what it belongs to, or None.
        includes: for each role, what it includes.
        apart: two roles of one thing that are kept apart in each, or nothing.
        grants: for each permission, roles.
        path: the parameters of the one line's path.
        asks: what it requires.
        records: for each thing, each record by its id: the id of what it belongs to, None for nothing, or `MISSING`.
    """

    parents: dict[str, str | None]
    includes: dict[str, tuple[str, ...]]
    apart: tuple[str, ...]
    grants: dict[str, tuple[str, ...]]
    path: tuple[str, ...]
    asks: Any
    records: dict[str, dict[int, Any]]

    def text(self) -> str:
        return "\n".join([*self.declared(), "endpoints", f"  GET {self.template()} {said(self.asks)}"])

    def declared(self) -> list[str]:
        """The lines of the policy above its endpoints."""
        found = ["roles"]
        found += [f"  {role}{self._below(role)}" for role in PLAIN]
        found += ["things"]
        for thing in THINGS:
            parent = self.parents[thing]
            found.append(f"  {thing} {{{thing}_id}}" + (f" in {parent} by {parent}_ref" if parent else ""))
        for thing, roles in ROLES_IN.items():
            found += [f"roles in {thing}", *(f"  {role}{self._below(role)}" for role in roles)]
            if self.apart and THING_OF[self.apart[0]] == thing:
                found.append(f"  apart {', '.join(self.apart)}")
        return [*found, "permissions", *(f"  {name} {', '.join(roles)}" for name, roles in self.grants.items())]

    def template(self) -> str:
        return "".join(f"/{thing}s/{{{thing}_id}}" for thing in self.path) or "/"

    def _below(self, role: str) -> str:
        return f" includes {', '.join(self.includes[role])}" if self.includes[role] else ""

    def chain(self, thing: str) -> list[str]:
        parent = self.parents[thing]
        return [thing, *(self.chain(parent) if parent else [])]

    def led_to(self) -> set[str]:
        return {each for thing in self.path for each in self.chain(thing)}

    def closure(self, roles: Any) -> set[str]:
        found: set[str] = set()
        waiting = list(roles)
        while waiting:
            role = waiting.pop()
            if role not in found:
                found.add(role)
                waiting += self.includes[role]
        return found

    def way(self, thing: str, identifier: Any) -> dict[str, Any]:
        """Each thing on the way from a record, with the id of its record, None, or `MISSING`."""
        found = {thing: identifier}
        parent = self.parents[thing]
        if parent:
            above = identifier if identifier in (None, MISSING) else self.records[thing][identifier]
            found |= self.way(parent, above)
        return found

    def place(self, ids: dict[str, int]) -> dict[str, Any] | None:
        """For each thing that a path leads to, its record; None where the records do not belong together."""
        place: dict[str, Any] = {}
        for number, thing in enumerate(self.path):
            way = self.way(thing, ids[thing])
            for other in self.path[:number]:
                theirs = self.way(other, ids[other])
                shared = next((each for each in way if each in theirs), None)
                if shared and (way[shared] is MISSING or way[shared] != theirs[shared]):
                    return None
            place |= way
        return place

    def everywhere(self, caller: Caller) -> set[str]:
        return self.closure(role for role in caller.roles if role in PLAIN)

    def in_record(self, caller: Caller, thing: str, identifier: Any) -> set[str] | None:
        """The roles that are held through one record; None where some of them are kept apart."""
        if identifier is None or identifier is MISSING:
            return set()
        given = caller.roles_in.get(thing, {}).get(identifier, ())
        found = self.closure(role for role in given if THING_OF.get(role) == thing)
        if self.apart and THING_OF[self.apart[0]] == thing and set(self.apart) <= found | self.everywhere(caller):
            return None
        return found

    def holds(self, caller: Caller | None, role: str, place: dict[str, Any]) -> bool | None:
        """Whether a role of a thing is held at a place: there, or through what it belongs to, or everywhere."""
        if caller is None:
            return False
        faulty = False
        for thing, identifier in place.items():
            held = self.in_record(caller, thing, identifier)
            if held is None:
                faulty = faulty or role in self.closure(ROLES_IN[thing])
            elif role in held:
                return True
        if faulty:
            return None
        if role in self.everywhere(caller):
            return True
        lost = [thing for thing, identifier in place.items() if identifier is MISSING]
        return None if any(role in self.anywhere_in(caller, thing) for thing in lost) else False

    def anywhere_in(self, caller: Caller, thing: str) -> set[str]:
        """All that is held in some record of a thing."""
        given = {
            role for roles in caller.roles_in.get(thing, {}).values() for role in roles if THING_OF.get(role) == thing
        }
        return self.closure(given)

    def value(self, asks: Any, caller: Caller | None, place: dict[str, Any], query: dict[str, Any]) -> bool | None:
        kind, *rest = asks
        if kind == "not":
            inner = self.value(rest[0], caller, place, query)
            inner = None if inner is None else not inner
            return _join("and", [caller is not None, inner]) if speaks_of_roles(rest[0]) else inner
        if kind in ("and", "or"):
            return _join(kind, [self.value(part, caller, place, query) for part in rest[0]])
        if kind == "any":
            return self.holds_somewhere(caller, rest[0])
        if kind == "at":
            return self.at(rest[0], caller, query.get(rest[1], MISSING))
        name = rest[0]
        if name in THING_OF:
            return self.holds(caller, name, place)
        if name in PLAIN:
            return caller is not None and name in self.everywhere(caller)
        if name in self.grants:
            return _join("or", [self.value(("name", role), caller, place, query) for role in self.grants[name]])
        return {"anyone": True, "signed-in": caller is not None}[name]

    def holds_somewhere(self, caller: Caller | None, role: str) -> bool:
        if caller is None:
            return False
        return role in self.everywhere(caller) or any(role in self.anywhere_in(caller, thing) for thing in THINGS)

    def at(self, role: str, caller: Caller | None, identifier: Any) -> bool | None:
        """A role in the very record that the query names."""
        thing = THING_OF[role]
        if caller is None or not self.holds_somewhere(caller, role):
            return False
        if identifier is MISSING:
            return True if role in self.everywhere(caller) else None
        return self.holds(caller, role, self.way(thing, identifier))

    def allows(self, caller: Caller | None, ids: dict[str, int], query: dict[str, Any]) -> bool:
        place = self.place(ids)
        return place is not None and self.value(self.asks, caller, place, query) is True

    def at_hand(self, ids: dict[str, int]) -> dict[str, Any]:
        """The records of a request, as loaders find them: by parameter, and by thing for those on the way."""
        found: dict[str, Any] = {}
        for thing in self.path:
            for each, identifier in self.way(thing, ids[thing]).items():
                if identifier not in (None, MISSING) and each not in self.path:
                    found.setdefault(each, self.record(each, identifier))
            found[f"{thing}_id"] = self.record(thing, ids[thing])
        return found

    def record(self, thing: str, identifier: int) -> dict[str, Any]:
        above = self.records[thing][identifier]
        parent = self.parents[thing]
        return {"id": identifier} | ({} if above is MISSING or parent is None else {f"{parent}_ref": above})


def speaks_of_roles(asks: Any) -> bool:
    """Whether a role or a permission is in it."""
    kind, *rest = asks
    if kind in ("and", "or"):
        return any(speaks_of_roles(part) for part in rest[0])
    return speaks_of_roles(rest[0]) if kind == "not" else rest[0] not in ("anyone", "signed-in")


def said(asks: Any) -> str:
    """A requirement as a policy writes it."""
    kind, *rest = asks
    if kind == "name":
        return rest[0]
    if kind == "any":
        return f"{rest[0]} in any {THING_OF[rest[0]]}"
    if kind == "at":
        return f"{rest[0]} in query.{rest[1]}"
    if kind == "not":
        return f"not ({said(rest[0])})"
    return f" {kind} ".join(f"({said(part)})" for part in rest[0])


@st.composite
def thing_worlds(draw: st.DrawFn, like: ThingWorld | None = None) -> ThingWorld:
    """Policies over things at random, with records; or those of another policy that are of the same things."""
    parents: dict[str, str | None] = {"town": None, "club": None}
    parents["house"] = draw(st.sampled_from(["town", "town", None])) if like is None else like.parents["house"]
    parents["room"] = draw(st.sampled_from(["house", "house", "town", None])) if like is None else like.parents["room"]
    world = ThingWorld(parents, {}, (), {}, (), None, {})
    includes = world.includes
    includes["sleeper"], includes["fan"] = (), ()
    below = {thing: [r for other in THINGS if thing in world.chain(other) and other != thing for r in ROLES_IN[other]]
             for thing in THINGS}  # fmt: skip
    for thing in ("house", "town"):
        least, most = ROLES_IN[thing][1], ROLES_IN[thing][0]
        includes[least] = (
            tuple(sorted(draw(st.sets(st.sampled_from(below[thing]), max_size=2)))) if below[thing] else ()
        )
        includes[most] = tuple(sorted(draw(st.sets(st.sampled_from([least, *below[thing]]), max_size=2))))
    includes["guest"] = ()
    includes["chief"] = tuple(sorted(draw(st.sets(st.sampled_from([*THING_OF, "guest"]), max_size=2))))
    for pair in draw(st.permutations([("mayor", "citizen"), ("owner", "lodger")])):
        if draw(st.booleans()) and not any(set(pair) <= world.closure([role]) for role in includes):
            world.apart = pair
    for thing in THINGS if like is None else ():
        parent = parents[thing]
        above = [*IDS, *IDS, None, MISSING] if parent else [None]
        world.records[thing] = {identifier: draw(st.sampled_from(above)) for identifier in IDS}
    if like is not None:
        world.records.update(like.records)
    return draw(with_a_line(world, path=None if like is None else like.path))


@st.composite
def with_a_line(draw: st.DrawFn, world: ThingWorld, mark: str = "", path: tuple[str, ...] | None = None) -> ThingWorld:
    """The same policy with another line and other permissions, whose names end with a mark."""
    if path is None:
        path = tuple(draw(st.lists(st.sampled_from(THINGS), unique=True, max_size=3)))
    world = replace(world, grants={}, path=path)
    placed = [role for role, thing in THING_OF.items() if thing in world.led_to()]
    names = [*placed, *PLAIN, "signed-in"]
    for thing in ("house", "room"):
        if placed:
            world.grants[f"{thing}:use{mark}"] = tuple(
                sorted(draw(st.sets(st.sampled_from(placed), min_size=1, max_size=2)))
            )
    leaves = st.one_of(
        st.sampled_from([*names, *world.grants, "anyone"]).map(lambda name: ("name", name)),
        st.sampled_from([*THING_OF]).map(lambda role: ("any", role)),
        st.sampled_from([*THING_OF]).map(lambda role: ("at", role, "q")),
        *([st.sampled_from(placed).map(lambda name: ("name", name))] * 2 if placed else []),
    )
    world.asks = draw(
        st.recursive(
            leaves,
            lambda inner: (
                inner.map(lambda part: ("not", part))
                | st.tuples(st.sampled_from(["and", "or"]), st.lists(inner, min_size=2, max_size=3))
            ),
            max_leaves=4,
        )
    )
    return world


@st.composite
def thing_callers(draw: st.DrawFn) -> Caller | None:
    """A caller with roles at random, held here and there."""
    if draw(st.integers(0, 7)) == 0:
        return None
    held: dict[str, dict[int, set[str]]] = {}
    for thing, roles in ROLES_IN.items():
        for identifier in IDS:
            names = draw(st.sets(st.sampled_from([*roles, *roles, "mayor", "unknown"]), max_size=2))
            if names and draw(st.booleans()):
                held.setdefault(thing, {})[identifier] = names
    return Caller(1, draw(st.sets(st.sampled_from([*PLAIN, "owner"]), max_size=1)), roles_in=held)
