"""What members hold, and what one member may do, as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from .pieces import member_of
from .written import written

if TYPE_CHECKING:
    import datetime

    from ...review.all_members import Review
    from ...review.holdings import Holding
    from ...review.member_access import MemberAccess


def review(result: Review) -> Iterator[str]:
    """Every member with what it holds, since when, and when that was last used."""
    return written(
        "review",
        logs=list(result.logs),
        first=_moment(result.first),
        members=(
            {
                **member_of(member.member, result.policy.roles),
                "seen": _moment(member.seen),
                "apart": list(member.apart),
                "holdings": [
                    {**_holding(holding.holding), "since": _moment(holding.since), "used": _moment(holding.used)}
                    for holding in member.holdings
                ],
            }
            for member in result.members
        ),
    )


def member_access(result: MemberAccess) -> Iterator[str]:
    """What one member may do, and through what."""
    return written(
        "member",
        member=member_of(result.member, result.policy.roles),
        holdings=[_holding(holding) for holding in result.holdings],
        endpoints=result.endpoints,
        allowed=[
            {"method": allowed.method, "path": allowed.path, "outcome": allowed.words, "through": list(allowed.through)}
            for allowed in result.allowed
        ],
    )


def _holding(holding: Holding) -> dict[str, Any]:
    until = {"until": holding.until.isoformat()} if holding.until is not None else {}
    return {"kind": holding.kind, "name": holding.name, "gives": list(holding.gives), "known": holding.known, **until}


def _moment(at: datetime.datetime | None) -> str | None:
    return at.isoformat() if at is not None else None
