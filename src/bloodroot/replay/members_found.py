"""Members of the directory by the names in an access log, with the roles that they have today."""

from __future__ import annotations

from ..core.caller import kind_of_group
from ..identity import directory_of
from ..settings import Settings

_MOST = 100_000


class Members:
    """Finds the kinds of callers that a member is.

    Args:
        settings: say the directory.

    Raises:
        SettingsError: it cannot be opened, or asked.
    """

    def __init__(self, settings: Settings) -> None:
        self._directory = directory_of(settings)
        self._directory.check()
        self._known: dict[str, tuple[str, ...] | None] = {}

    def __call__(self, name: str) -> tuple[str, ...] | None:
        """Roles and groups of a member, by login or id; None for a name that is no member's, or who may not act."""
        if name not in self._known:
            if len(self._known) > _MOST:
                self._known.clear()
            self._known[name] = self._found(name)
        return self._known[name]

    def _found(self, name: str) -> tuple[str, ...] | None:
        member = self._directory.member_with_login(name) or self._directory.member(name)
        if member is None or not member.active or member.unreadable:
            return None
        caller = member.caller(None, both=False)
        if caller.granted or caller.roles_in:
            return None  # more than roles says what such a caller may do
        return tuple(sorted({*caller.roles, *map(kind_of_group, caller.groups)}))
