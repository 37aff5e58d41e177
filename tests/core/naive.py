"""The meaning of a policy read once more, naively, from the documents: no bits, no folding, no index.

A requirement is a tuple: ("name", NAME), ("not", part), ("and", parts), ("or", parts). It is true, false, or None for
faulty; everything is known.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from hypothesis import strategies as st

from bloodroot import Caller

ROLES = ("r0", "r1", "r2", "r3")
PERMISSIONS = ("p0:do", "p1:do", "p1:see")
AUDIENCES = ("anyone", "signed-in", "signed-out", "nobody")
# Each with its text, and what it is of caller and record: true, false or None.
CONDITIONS: dict[str, tuple[str, Any]] = {
    "awake": ('caller.status == "awake"', lambda caller, record: _of(caller, "status", lambda x: x == "awake")),
    "mine": ("record.owner == 1", lambda caller, record: record.get("owner") and record["owner"] == 1),
    "never": ("record.gone == 1", lambda caller, record: None),
    "open": ("record.open", lambda caller, record: record.get("open")),
}
METHODS = ("GET", "HEAD", "POST", "PURGE")
RECORDS = ({}, {"owner": 1, "open": True}, {"owner": 2, "open": False}, {"owner": 1, "open": False})
CALLERS = (
    None,
    Caller(),
    Caller(1, {"r0"}),
    Caller(1, {"r1"}, attributes={"status": "awake"}),
    Caller(1, {"r2", "r1"}, attributes={"status": "asleep"}),
    Caller(1, {"r3"}, attributes={"status": "awake"}, scopes={"p0:do"}),
    Caller(1, {"r0", "r2"}, scopes={"p1:*"}),
    Caller(1, {"r0", "r2", "r3"}, scopes={"p0:do"}, scoped_roles=()),
    Caller(1, {"r0", "r2", "r3"}, scopes={"p1:*"}, scoped_roles={"r2", "signed-in"}),
    Caller(1, {"r1"}, scopes=(), scoped_roles={"r0"}, attributes={"status": "awake"}),
    Caller(1, {"r1"}, granted={"p0:do": "the directory"}),
    Caller(1, set(), granted={"p1:*": "the directory"}, attributes={"status": "awake"}),
    Caller(1, {"r2", "r3"}, attributes={"status": "awake"}),
    Caller(1, {"r2", "r3", "r1"}, granted={"p0:do": "the directory"}),
)


def _of(caller: Caller | None, name: str, test: Any) -> bool | None:
    return None if caller is None or name not in caller.attributes else test(caller.attributes[name])


@dataclass
class World:
    """A policy: who includes whom, which roles are kept apart, what permissions ask, the lines and the rules."""

    includes: dict[str, tuple[str, ...]]
    default: tuple[str, ...]
    apart: tuple[str, ...]
    grants: dict[str, Any]
    lines: list[tuple[tuple[str, ...], Any]]
    rules: list[tuple[tuple[str, ...], Any]]

    def text(self) -> str:
        """The policy as a file."""
        found = ["roles"]
        for role in ROLES:
            below = f" includes {', '.join(self.includes[role])}" if self.includes[role] else ""
            found.append(f"  {role}{below}{' default' if role in self.default else ''}")
        found += [f"  apart {', '.join(self.apart)}"] if self.apart else []
        found += ["conditions", *(f"  {name} {test}" for name, (test, _) in CONDITIONS.items()), "permissions"]
        for name, grants in self.grants.items():
            given = (f"{who} if {test}" if test else who for who, test in grants)
            found.append(f"  {name} {', '.join(given)}")
        found.append("endpoints")
        found += [f"  {' '.join(methods) or 'any'} /x {said(asks)}" for methods, asks in self.lines]
        found += ["always"] if self.rules else []
        found += [
            f"  {' '.join((*methods, '/' + '*' * (n + 1)))} {said(asks)}"
            for n, (methods, asks) in enumerate(self.rules)
        ]
        return "\n".join(found)

    def held(self, caller: Caller | None) -> set[str]:
        """Roles with all that they include."""
        found: set[str] = set()
        waiting = [] if caller is None else [*caller.roles, *self.default]
        while waiting:
            role = waiting.pop()
            if role not in found:
                found.add(role)
                waiting += self.includes[role]
        return found

    def counts(self, name: str, caller: Caller | None) -> bool:
        """Whether a line itself may ask a caller's token for a role, or for being signed in."""
        if caller is None or caller.scopes is None or caller.scoped_roles is None:
            return True
        default, self.default = self.default, ()
        named = self.held(Caller(roles=frozenset(caller.scoped_roles) & set(ROLES)))
        self.default = default
        return name in named | (set(caller.scoped_roles) & set(AUDIENCES))

    def line(self, method: str) -> Any:
        """What the line for a method asks: the one that names it, that of GET for HEAD, or that for any."""
        for wanted in (method, "GET" if method == "HEAD" else method):
            for methods, asks in self.lines:
                if wanted in methods:
                    return asks
        return next((asks for methods, asks in self.lines if not methods), None)

    def asked(self, method: str) -> list[Any]:
        """All that has to hold."""
        rules = [
            asks
            for methods, asks in self.rules
            if not methods or method in methods or (method == "HEAD" and "GET" in methods)
        ]
        return [*rules, self.line(method)]

    def allows(self, caller: Caller | None, asked: list[Any], record: dict[str, Any]) -> bool:
        """Whether a caller is allowed what all of this requires."""
        if len(self.held(caller) & set(self.apart)) > 1:
            return self.allows(None, asked, record) and self.allows(Caller(), asked, record)
        *rules, line = asked
        # Standing rules are about the caller, whatever the token.
        whole = replace(caller, scoped_roles=None) if caller is not None else None
        return (
            line is not None
            and all(self.value(asks, whole, record) is True for asks in rules)
            and self.value(line, caller, record) is True
            and self.opens(line, caller, record)
        )

    def opens(self, asks: Any, caller: Caller | None, record: dict[str, Any]) -> bool:
        """Whether a line holds because of a permission or a role, where a token has to show one."""
        if caller is None or caller.scopes is None or caller.scoped_roles is None:
            return True
        kind, rest = asks
        holds = self.value(asks, caller, record) is True
        if kind == "or":
            return any(self.opens(part, caller, record) for part in rest)
        if kind == "and":
            return holds and any(self.opens(part, caller, record) for part in rest)
        grounded = (kind == "name" and rest not in CONDITIONS) or is_for_anyone(asks)
        return holds and (grounded or self.counts("signed-in", caller))

    def value(self, asks: Any, caller: Caller | None, record: dict[str, Any]) -> bool | None:
        """True, false, or None for faulty."""
        kind, rest = asks
        if kind == "not":
            # Scopes take away. What a caller does not have only because of them must not open anything.
            flipped = replace(caller, scopes=None) if caller is not None and caller.scopes is not None else caller
            if flipped is not caller:
                return _three_not(self._under_not(rest, flipped, caller, record, 1), rest, caller)
            return _three_not(self.value(rest, caller, record), rest, caller)
        if kind in ("and", "or"):
            return _join(kind, [self.value(part, caller, record) for part in rest])
        return self.name(rest, caller, record)

    def _under_not(self, asks: Any, whole: Any, caller: Any, record: dict[str, Any], depth: int) -> bool | None:
        """The same under ``not``: with scopes under an even number of them, and without under an odd one."""
        kind, rest = asks
        if kind == "not":
            return _three_not(self._under_not(rest, whole, caller, record, depth + 1), rest, caller)
        if kind in ("and", "or"):
            return _join(kind, [self._under_not(part, whole, caller, record, depth) for part in rest])
        return self.name(rest, whole if depth % 2 else caller, record)

    def name(self, name: str, caller: Caller | None, record: dict[str, Any]) -> bool | None:
        """A role, an audience, a condition or a permission."""
        if name in AUDIENCES:
            signed_in = caller is not None and self.counts(name, caller)
            return {"anyone": True, "nobody": False, "signed-in": signed_in}.get(name, caller is None)
        if name in ROLES:
            return name in self.held(caller) and self.counts(name, caller)
        if name in CONDITIONS:
            return CONDITIONS[name][1](caller, record)
        family = f"{name.split(':')[0]}:*"
        if caller is not None and caller.scopes is not None and not {name, family} & set(caller.scopes):
            return False
        if caller is not None and {name, family} & set(caller.granted):
            return True
        # Whom a permission is given to is asked of the owner of a token.
        caller = replace(caller, scoped_roles=None) if caller is not None else None
        each = []
        for who, test in self.grants[name]:
            found = [self.name(who, caller, record)]
            each.append(_join("and", found + ([CONDITIONS[test][1](caller, record)] if test else [])))
        return _join("or", each) if each else False


def _join(kind: str, values: list[bool | None]) -> bool | None:
    strong = kind == "or"
    if strong in values:
        return strong
    return None if None in values else not strong


def _three_not(value: bool | None, part: Any, caller: Caller | None) -> bool | None:
    """``not``: faulty stays faulty, and where roles or permissions are meant it never opens to a signed-out caller."""
    found = None if value is None else not value
    return _join("and", [caller is not None, found]) if speaks_of_roles(part) else found


def is_for_anyone(asks: Any) -> bool | None:
    """Whether it is ``anyone`` in other words, as ``not nobody`` is; None where it speaks of more."""
    kind, rest = asks
    if kind == "name":
        return {"anyone": True, "nobody": False}.get(rest)
    part = is_for_anyone(rest) if kind == "not" else None
    return None if part is None else not part


def speaks_of_roles(asks: Any) -> bool:
    """Whether a role or a permission is in it."""
    kind, rest = asks
    if kind == "name":
        return rest in ROLES or ":" in rest
    return speaks_of_roles(rest) if kind == "not" else any(speaks_of_roles(part) for part in rest)


def said(asks: Any) -> str:
    """A requirement as a policy writes it."""
    kind, rest = asks
    if kind == "name":
        return rest
    if kind == "not":
        return f"not ({said(rest)})"
    return f" {kind} ".join(f"({said(part)})" for part in rest)


names = st.sampled_from([*ROLES, *PERMISSIONS, *AUDIENCES, *CONDITIONS]).map(lambda name: ("name", name))
requirements = st.recursive(
    names,
    lambda inner: (
        inner.map(lambda part: ("not", part))
        | st.tuples(st.sampled_from(["and", "or"]), st.lists(inner, min_size=2, max_size=3))
    ),
    max_leaves=6,
)
methods = st.sampled_from([("GET",), ("HEAD",), ("POST",), ("GET", "POST"), ("HEAD", "POST")])


@st.composite
def worlds(draw: st.DrawFn) -> World:
    """Policies at random, of one path."""
    includes = {
        role: tuple(draw(st.sets(st.sampled_from(ROLES[:number]), max_size=2))) if number else ()
        for number, role in enumerate(ROLES)
    }
    world = World(includes, tuple(draw(st.sets(st.sampled_from(ROLES[:1])))), (), {}, [], [])
    if not any({"r2", "r3"} <= world.held(Caller(roles={role})) for role in ROLES):
        world.apart = draw(st.sampled_from([("r2", "r3"), ()]))
    grant = st.tuples(st.sampled_from([*ROLES, "anyone", "signed-in", "nobody"]), st.sampled_from([None, *CONDITIONS]))
    world.grants = {name: draw(st.lists(grant, max_size=2)) for name in PERMISSIONS}
    free = set(METHODS)
    for one in draw(st.lists(methods, max_size=2)):
        if free.issuperset(one):
            free -= set(one)
            world.lines.append((one, draw(requirements)))
    if not world.lines or draw(st.booleans()):
        world.lines.append(((), draw(requirements)))
    world.rules = draw(st.lists(st.tuples(methods | st.just(()), requirements), max_size=2))
    return world
