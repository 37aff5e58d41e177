"""The policy that the service answers by, as it is now in its file, with what loads records at endpoints."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..core.caller import Caller
from ..enforce.audit import Audit
from ..enforce.driver import Handling
from ..enforce.enforcement import Enforcement, EnforcementOptions, Identify, Served
from ..enforce.following import opened

if TYPE_CHECKING:
    from ..core.binding import Route
    from ..core.policy import Policy
    from ..enforce.loaders import Records
    from ..file_changes import Watched
    from ..request import PlainRequest


class InForce:
    """A policy that decides requests which others serve: by their paths alone, with no routes of its own.

    Lines that name actions are bound to the routes of the settings' application, which runs elsewhere.

    Args:
        policy: the policy, or its file.
        bind: gives a policy with its actions bound to the routes of the application.
        identify: who asks.
        records: what loads records.

    Raises:
        PolicyError: the application serves no action of that name.
        SettingsError: a line names an action, and there is no application.
    """

    def __init__(
        self, policy: Policy | Watched, bind: Callable[[Policy], Policy], identify: Identify, records: Records
    ) -> None:
        given, watched = opened(policy)
        self._enforcement = Enforcement(bind(given), EnforcementOptions(identify, records, audit=Audit("all")))
        self._enforcement.follow(watched, bind)

    @property
    def policy(self) -> Policy:
        """What decides at the moment."""
        following = self._enforcement.following
        if following is not None:
            following.begin()
        return self._enforcement.policy

    @property
    def problem(self) -> str | None:
        """Why the last change of the file was not taken; None where the file is in force."""
        following = self._enforcement.following
        return following.problem if following is not None else None

    def handling(self, request: PlainRequest, own: Any = None) -> Handling:
        """A request on its way through, for a caller that ``identify`` finds in ``own``, or in the request itself."""
        return Handling(self._enforcement, self._serve, request, own)

    def _serve(self, route: Route | str) -> Served:
        raise LookupError(f"no route is served here: {route}")


class Known:
    """A caller who is known already, in the place of a request that would say who asks."""

    __slots__ = ("caller",)

    def __init__(self, caller: Caller | None) -> None:
        self.caller = caller


def caller_of(known: Known) -> Caller | None:
    """The caller; made to be ``identify``."""
    return known.caller
