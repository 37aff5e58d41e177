"""What each operation of an OpenAPI document requires, found by a survey of it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ..api_access import AccessOfOperations, OperationAccess

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..survey.coverage import Surveyed, SurveyResult

Keys = tuple[str, str, str]  # where an operation is in a document: ``paths``, the path, the method


def operations(policy: Policy, surveyed: SurveyResult) -> Iterator[tuple[Keys, OperationAccess]]:
    """Every operation of a document, in its order.

    Args:
        policy: the policy.
        surveyed: the document, held against the policy.
    """
    access = AccessOfOperations(policy)
    seen: set[Keys] = set()
    for endpoint in surveyed.endpoints:
        keys = _keys(endpoint)
        # With several servers an operation has several addresses; the first one speaks for it.
        if keys not in seen:
            seen.add(keys)
            yield keys, access.of(endpoint.line, endpoint.rules, endpoint.method, endpoint.template)


def differing(surveyed: SurveyResult) -> Iterator[str]:
    """Operations whose servers lead to different lines, in words: what is filled in goes for the first one."""
    first: dict[Keys, Surveyed] = {}
    for endpoint in surveyed.endpoints:
        other = first.setdefault(_keys(endpoint), endpoint)
        if other.line is not endpoint.line:
            place = f"{endpoint.method} {endpoint.template.text}"
            yield f"{place} is decided otherwise than {other.template.text}, which is what was filled in"


def _keys(surveyed: Surveyed) -> Keys:
    """Where an operation is: ``paths./trials.get`` says it, and a path may have dots of its own."""
    place = surveyed.endpoint.place.removeprefix("paths.")
    path, _, method = place.rpartition(".")
    return "paths", path, method
