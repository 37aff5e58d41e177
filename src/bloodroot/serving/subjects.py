"""Who the subject of a question is, as a caller."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError

from ..core.caller import Caller
from ..core.roles_in import NOWHERE
from ..identity.fresh import Unknown
from ..language.errors import BloodrootError
from ..settings import given_by_scopes

if TYPE_CHECKING:
    from ..identity import Directory
    from ..settings import Asker, ClaimNames
    from .questions import Entity

_MOST = 10_000  # callers that are kept
_HELD = ("roles", "groups", "scopes", "roles_in")


class Unavailable(BloodrootError):
    """What has to be known cannot be asked at present."""


class Unanswered(BloodrootError):
    """A question that cannot be answered; it is refused, with a status of HTTP that says why."""

    def __init__(self, status: int, message: str) -> None:
        self.status = status
        super().__init__(message)


class Subjects:
    """Finds the callers that subjects are.

    Args:
        directory: where they are looked up, or None.
        scopes: what the names of scopes mean.
    """

    def __init__(self, directory: Directory | None, scopes: ClaimNames) -> None:
        self.directory = directory
        self._scopes = scopes
        self._known: dict[tuple[str, ...], Caller] = {}

    async def caller_of(self, subject: Entity, asker: Asker) -> Caller | None:
        """The caller that a subject is; None for a signed-out one.

        Raises:
            Unidentified: the directory has no such member, or it may not act.
            Unanswered: it is of another kind, or nothing says its roles.
            Unavailable: the directory cannot be asked.
        """
        if subject.type == "anonymous":
            return None
        if subject.type != "user":
            raise Unanswered(404, f'subjects are of the type user or anonymous, and not "{subject.type}"')
        said = subject.properties
        if "roles" in asker.believed and ("roles" in said or self.directory is None):
            return self._as_said(subject.id, said)
        if self.directory is None:
            raise Unanswered(
                403, "there is no directory to look the subject up in, and this asker may not say its roles"
            )
        try:
            member = self.directory.remembered(subject.id)
            if isinstance(member, Unknown):
                member = await to_thread.run_sync(self.directory.member, subject.id)
            return self.directory.judged(member, subject.id, None)
        except SQLAlchemyError as error:
            raise Unavailable("the directory cannot be asked at present") from error

    def _as_said(self, member_id: str, said: Mapping[str, Any]) -> Caller:
        """The caller that an asker describes; one of whom roles alone are said is the same as before."""
        if len(said) != 1 or type(said.get("roles")) is not list:
            return self._described(member_id, said)
        key = member_id, *_names(said, "roles")
        caller = self._known.get(key)
        if caller is None:
            if len(self._known) >= _MOST:
                self._known.clear()
            caller = self._known[key] = self._described(member_id, said)
        return caller

    def _described(self, member_id: str, said: Mapping[str, Any]) -> Caller:
        roles, groups = _names(said, "roles"), _names(said, "groups")
        roles_in = _roles_in(said["roles_in"]) if "roles_in" in said else NOWHERE
        rest = {name: value for name, value in said.items() if name not in _HELD}
        if "scopes" not in said:
            return Caller(member_id, roles, groups, rest, roles_in=roles_in)
        permissions, scoped_roles = given_by_scopes(_names(said, "scopes"), self._scopes)
        return Caller(member_id, roles, groups, rest, permissions, roles_in=roles_in, scoped_roles=scoped_roles)


def _roles_in(said: Any) -> dict[str, dict[str, list[str]]]:
    """Roles in the records of things, as in ``{"studio": {"7": ["editor"]}}``."""
    if not isinstance(said, Mapping) or not all(isinstance(each, Mapping) for each in said.values()):
        raise Unanswered(400, 'subject.properties.roles_in must be as in {"studio": {"7": ["editor"]}}')
    return {thing: {identifier: _names(held, identifier) for identifier in held} for thing, held in said.items()}


def _names(said: Mapping[str, Any], name: str) -> list[str]:
    if name not in said:
        return []
    value = said[name]
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        raise Unanswered(400, f"subject.properties.{name} must be a list of names")
    return value
