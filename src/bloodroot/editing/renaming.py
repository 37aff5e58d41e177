"""Where a name is declared and used, and the changes that give it another one."""

from __future__ import annotations

import re
from pathlib import Path

from ..language.errors import BloodrootError
from .hovering import name_at
from .occurrences import Kind, Occurrence
from .projects import Projects

_PLAIN = re.compile(r"[^\W\d][\w\-]*\Z").match
_PERMISSION = re.compile(r"[^\W\d][\w\-]*(?::[\w\-]+)+\Z").match


class RenameError(BloodrootError):
    """A name that cannot be given."""


def places_of(projects: Projects, file: Path, line: int, column: int) -> list[tuple[Path, Occurrence]]:
    """Every place of the name at a place, in all files of the policy, what declares it first."""
    name = name_at(projects, file, line, column)
    return projects.places(file, name.kind, name.name) if name is not None else []


def renamed(projects: Projects, file: Path, line: int, column: int, new: str) -> dict[Path, list[Occurrence]]:
    """The places that a new name is to be written at, by file.

    Raises:
        RenameError: there is no name at the place, it is declared nowhere, or the new one is taken or no name.
    """
    places = places_of(projects, file, line, column)
    if not places or not places[0][1].is_declared:
        raise RenameError("there is no name here that this policy declares")
    kind = places[0][1].kind
    allowed = (
        _PERMISSION(new) if kind is Kind.PERMISSION else new and '"' not in new if kind is Kind.GROUP else _PLAIN(new)
    )
    if not allowed:
        what = "a permission is thing:verb" if kind is Kind.PERMISSION else "a name has letters, digits, - and _"
        raise RenameError(f'"{new}" cannot be the name of a {kind.value}: {what}')
    if any(name.name == new for _, name in projects.declared(file)):
        raise RenameError(f'"{new}" is declared already')
    found: dict[Path, list[Occurrence]] = {}
    for other, name in places:
        found.setdefault(other, []).append(name)
    return found
