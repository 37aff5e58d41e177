"""Words for a review of access, shared by the formats that people read."""

from __future__ import annotations

from ..review.all_members import MemberReview, Review, Reviewed
from ..review.holdings import Holding
from .words import plural


def review_headline(result: Review) -> str:
    """The answer in one line."""
    holding = sum(len(each.holdings) for each in result.members)
    text = f"{plural(len(result.members), 'member')}, {plural(holding, 'thing')} held"
    if result.logs and result.first is not None:
        text += f", {result.unused} of them not used since {result.first:%Y-%m-%d}"
    apart = sum(bool(each.apart) for each in result.members)
    return f"{text}; {plural(apart, 'member')} with roles kept apart" if apart else text


def holding_in_words(holding: Holding) -> str:
    """``role curator (botanist, volunteer)``."""
    others = [name for name in holding.gives if name != holding.name]
    known = "" if holding.known else ", which the policy does not know"
    included = f" ({', '.join(others)})" if others else ""
    return f"{holding.kind} {holding.name}{included}{known}"


def since_in_words(one: Reviewed) -> str:
    """A day, or that it is not known."""
    return f"{one.since:%Y-%m-%d}" if one.since is not None else "not known"


def used_in_words(one: Reviewed, each: MemberReview) -> str:
    """A day, or that it was never used."""
    if one.used is not None:
        return f"{one.used:%Y-%m-%d}"
    return "never" if each.seen is not None else "never; the member was not seen"


def review_next(result: Review) -> str:
    """What to do next."""
    if not result.logs:
        return "Next: bloodroot members --log FILE shows what was used, by the audit log of the application."
    if result.unused:
        return "Next: see what can be taken away; bloodroot members LOGIN shows what a member may do with it."
    return "Everything that is held was used."
