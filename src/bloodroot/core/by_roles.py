"""What the roles of a caller decide alone, as they do for most requests."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from .decision import Outcome
from .paths import Parameter
from .requirements import THERE, asks_of
from .roles import SIGNED_OUT, RoleTable

if TYPE_CHECKING:
    from collections.abc import Callable

    from .caller import Caller
    from .lines import Line
    from .roles_in import RolesIn

    ByRoles = Callable[[Caller | None, Line, list[str] | None], Outcome | None]

_MOST_PLACINGS = 8192  # lines with the guards of handlers may be made anew


def by_roles_alone(roles: RoleTable, standing: tuple[Line, ...]) -> ByRoles:
    """What bits alone decide, as they do for most requests; a function of locals, since it is run for all of them."""
    if standing:
        return lambda caller, line, segments: None  # noqa: ARG005
    held_by, held_by_roles = roles.held, roles.held_by_roles
    allow, deny = Outcome.ALLOW, Outcome.DENY

    def by_roles(caller: Caller | None, line: Line, segments: list[str] | None) -> Outcome | None:  # noqa: ARG001
        requirement = line.requirement
        if caller is None:
            return allow if requirement.opens & SIGNED_OUT else None
        held = (held_by_roles.get(caller.roles) if not caller.groups else None) or held_by(caller)
        if held.apart or caller.scopes is not None:
            return None
        if held.bits & requirement.opens:
            return allow
        return deny if requirement.plain and not requirement.opens & SIGNED_OUT and not caller.granted else None

    return _by_roles_in_things(roles, by_roles) if roles.things else by_roles


class _Placing(NamedTuple):
    """What of a line's path says where roles are to be held.

    Attributes:
        alone: whether roles alone can decide at all.
        position: the segment that identifies the one thing of the path; None where there is none.
        thing: that thing.
        is_all: whether nothing but its record says what is held there.
    """

    alone: bool
    position: int | None = None
    thing: str = ""
    is_all: bool = False


def _placing(roles: RoleTable, line: Line) -> _Placing:
    named = roles.things.named(line.template.names)
    if not named:
        return _Placing(not asks_of(line.requirement.formula) & THERE)
    (name, thing), *others = named
    if others or roles.apart_in:
        return _Placing(False)
    for position, part in enumerate(line.template.segments):
        if isinstance(part, Parameter) and part.name == name:
            return _Placing(part.bare, position, thing.name, thing.parent is None)
    return _Placing(False)


def _by_roles_in_things(roles: RoleTable, plain: ByRoles) -> ByRoles:
    """The same where roles are held in things, as long as the path alone says in which record."""
    placings: dict[Line, _Placing] = {}
    held_by, held_by_roles, bits_in = roles.held, roles.held_by_roles, roles.bits_in
    known_bits_in = roles.known_bits_in
    allow, deny = Outcome.ALLOW, Outcome.DENY

    def by_roles(caller: Caller | None, line: Line, segments: list[str] | None) -> Outcome | None:
        placing = placings.get(line)
        if placing is None:
            if len(placings) >= _MOST_PLACINGS:
                placings.clear()
            placing = placings[line] = _placing(roles, line)
        alone, position, thing, is_all = placing
        if not alone or segments is None:
            return None
        if position is None or caller is None:
            return plain(caller, line, segments)
        held = (held_by_roles.get(caller.roles) if not caller.groups else None) or held_by(caller)
        if held.apart or caller.scopes is not None:
            return None
        requirement = line.requirement
        bits = held.bits
        held_in: RolesIn = caller.roles_in  # type: ignore[assignment]
        by_text = held_in.texts.get(thing)
        names = by_text.get(segments[position]) if by_text is not None else held_in.at(thing, segments[position])
        if names:
            bits |= known_bits_in[thing].get(names) or bits_in(thing, names)
        if bits & requirement.opens:
            return allow
        return (
            deny if is_all and requirement.plain and not requirement.opens & SIGNED_OUT and not caller.granted else None
        )

    return by_roles
