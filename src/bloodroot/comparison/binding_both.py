"""Two policies bound to the routes of one application, although it may not serve all that they name."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from ..core.binding import Route
from ..core.policy import Policy
from .changes import Side


def side(policy: Policy, name: str, routes: Iterable[Route] | None) -> Side:
    """A policy to be compared.

    Args:
        policy: the policy, not bound yet.
        name: what it is called.
        routes: every route of the application; None where it is not known.

    Raises:
        PolicyError: a path line for the very template of an action's route.
    """
    if not policy.unbound or routes is None:
        return Side(policy, name, policy.unbound)
    routes = tuple(routes)
    served = {name for route in routes for name in route.actions}
    parts = policy.declared
    # An action may have come, gone or been renamed since.
    lacking = tuple(action for action in parts.actions if action.name not in served)
    found = Policy(replace(parts, actions=tuple(action for action in parts.actions if action.name in served)))
    return Side(found.bind(routes), name, lacking)
