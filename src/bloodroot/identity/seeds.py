"""What first members, groups and grants are to be, whatever file says it."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ..language.errors import BloodrootError
from .held_in_records import RoleIn

PROMPT = "prompt"
FROM_ENVIRONMENT = re.compile(r"\{env\.([A-Za-z_][A-Za-z0-9_]*)\}")


class SeedError(BloodrootError):
    """A seed that cannot be used, with every reason found. Nothing has been changed.

    Attributes:
        reasons: one message each, with its place.
    """

    def __init__(self, reasons: list[str]) -> None:
        self.reasons = tuple(reasons)
        super().__init__("\n".join((*reasons, "Nothing was changed.")))


@dataclass(frozen=True, slots=True)
class SeedMember:
    """A member to be. What is None the file does not say: it is neither compared nor changed.

    Attributes:
        place: file and line.
        login: by what the member is found again.
        id: the number the member is to have, or None for the next one.
        name: what the member is called.
        status: such as ``active`` or ``suspended``.
        roles: roles to be held directly.
        groups: groups to belong to.
        permissions: permissions beside those of the roles.
        attributes: what else conditions may ask for.
        password: ``{env.NAME}`` or ``prompt``, or None for a member who has no password.
        roles_in: roles to be held in particular records.
        ends: when roles, groups and permissions end, by ``roles``, ``groups`` or ``permissions`` and the name.
    """

    place: str
    login: str
    id: int | None = None
    name: str | None = None
    status: str | None = None
    roles: tuple[str, ...] | None = None
    groups: tuple[str, ...] | None = None
    permissions: tuple[str, ...] | None = None
    attributes: Mapping[str, Any] | None = None
    password: str | None = None
    roles_in: tuple[RoleIn, ...] | None = None
    ends: Mapping[tuple[str, str], datetime.datetime] = field(default_factory=dict)

    @property
    def variable(self) -> str | None:
        """The environment variable that has the password; None where there is none to be read from it."""
        match = FROM_ENVIRONMENT.fullmatch(self.password or "")
        return match[1] if match else None


@dataclass(frozen=True, slots=True)
class SeedGroup:
    """A group, and the permissions given to it."""

    place: str
    name: str
    permissions: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Seed:
    """All that a seed file says."""

    members: tuple[SeedMember, ...]
    groups: tuple[SeedGroup, ...] = ()
