"""A review of access as a page."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..reviewed import holding_in_words, review_headline, review_next, since_in_words, used_in_words
from .page import page

if TYPE_CHECKING:
    from ...review.all_members import MemberReview, Review


def review(result: Review) -> str:
    """Every member with what it holds, since when, and when that was last used."""
    return page(
        "review.html",
        title=result.policy.title or "members",
        headline=review_headline(result),
        logs=list(result.logs),
        members=[_member(each) for each in result.members],
        next=review_next(result),
    )


def _member(each: MemberReview) -> dict[str, Any]:
    rows = [
        {
            "holds": holding_in_words(one.holding),
            "since": since_in_words(one),
            "used": used_in_words(one, each),
            "unused": one.used is None,
            "warn": not one.holding.known,
        }
        for one in each.holdings
    ]
    if each.apart:
        text = f"{' and '.join(each.apart)} are kept apart"
        rows.append({"holds": text, "since": "", "used": "", "unused": False, "warn": True})
    if not rows:
        text = "nothing beyond what every signed-in caller has"
        rows = [{"holds": text, "since": "", "used": "", "unused": False, "warn": False}]
    member = each.member
    return {"name": member.name or str(member.id), "status": member.status, "active": member.active, "rows": rows}
