"""Whether a line says in which record a role is to be held: mistakes of roles in things."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..language.problems import Problem
from .formulas import walk
from .requirements import HoldingIn, permissions_in

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ..language.problems import Place
    from .formulas import Formula
    from .paths import Template
    from .roles import RoleTable


def unplaced_roles(roles: RoleTable, formula: Formula, template: Template, place: Place) -> Iterator[Problem]:
    """The mistake of a line that requires a role in a thing to which no parameter of its path leads."""
    if not roles.things:
        return
    led_to = roles.things.led_to(template.names)
    for part in walk(formula):
        if isinstance(part, HoldingIn) and part.thing not in led_to:
            thing = roles.things.by_name.get(part.thing)
            parameter = f"{{{thing.parameters[0]}}}" if thing is not None and thing.parameters else "a parameter"
            yield Problem(
                f"{_required(formula, part)} is held in a {part.thing}, and no parameter of this path leads to one. "
                f"Have {parameter} in the path, or say which, as in {part.name} in query.{part.thing}; for a list that "
                f"rows filters write {part.name} in any {part.thing}",
                place,
            )
            return


def _required(formula: Formula, role: HoldingIn) -> str:
    """The role, and the permission that asks for it."""
    for permission in permissions_in(formula):
        if any(part is role for part in walk(permission)):
            return f"{permission.name} requires {role.name}, which"
    return f"{role.name}"


def unplaced_fields(kind: str, formulas: Iterable[Formula], place: Place) -> Iterator[Problem]:
    """The mistake of fields of what is no thing, for which a role in a thing is required."""
    for formula in formulas:
        for part in walk(formula):
            if isinstance(part, HoldingIn) and part.of is None:
                message = (
                    f"{part.name} is held in a {part.thing}, and {kind} is no thing of which it is known where it is"
                )
                yield Problem(f"{message}; declare it in the section things", place)
                return
