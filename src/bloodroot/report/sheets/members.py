"""What members hold, and what one member may do."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

from ..sheet import Cell, Meaning, Section, Sheet, endpoint, line, plural, quiet, strong

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ...review.all_members import MemberReview, Review, Reviewed
    from ...review.holdings import Holding
    from ...review.member_access import MemberAccess


def review(result: Review) -> Sheet:
    """Every member with what it holds, since when, and when that was last used."""
    heads = ("member", "status", "holds", "since", *(("last used",) if result.logs else ()))
    rows: list[tuple[Cell | str, ...]] = []
    for member in result.members:
        for number, row in enumerate(_holdings(member, used=bool(result.logs))):
            name = member.member.name or str(member.member.id)
            status = Cell(member.member.status, Meaning.PLAIN if member.member.active else Meaning.WARN)
            rows.append((*((name, status) if not number else ("", "")), *row))
    columns = ("id", "name", "status", "kind", "holds", "gives", "known", "since", "last used", "last seen")
    return Sheet(
        strong(_headline(result)), (Section(heads=heads, rows=tuple(rows)),), (_next(result),), columns, _rows(result)
    )


def _headline(result: Review) -> str:
    holding = sum(len(member.holdings) for member in result.members)
    text = f"{plural(len(result.members), 'member')}, {plural(holding, 'thing')} held"
    if result.logs and result.first is not None:
        text += f", {result.unused} of them not used since {result.first:%Y-%m-%d}"
    apart = sum(bool(member.apart) for member in result.members)
    return f"{text}; {plural(apart, 'member')} with roles kept apart" if apart else text


def _holdings(review: MemberReview, *, used: bool) -> list[tuple[Cell | str, ...]]:
    rows: list[tuple[Cell | str, ...]] = []
    for holding in review.holdings:
        since = f"{holding.since:%Y-%m-%d}" if holding.since is not None else "not known"
        last = Cell(_last_used(holding, review), Meaning.PLAIN if holding.used is not None else Meaning.WARN)
        rows.append((_in_words(holding.holding), since, *((last,) if used else ())))
    if review.apart:
        rows.append((Cell(f"{' and '.join(review.apart)} are kept apart", Meaning.WARN), ""))
    return rows or [("nothing beyond what every signed-in caller has", "")]


def _last_used(reviewed: Reviewed, review: MemberReview) -> str:
    if reviewed.used is not None:
        return f"{reviewed.used:%Y-%m-%d}"
    return "never" if review.seen is not None else "never; the member was not seen"


def _in_words(holding: Holding) -> str:
    """``role curator (botanist, volunteer)``."""
    others = [name for name in holding.gives if name != holding.name]
    known = "" if holding.known else ", which the policy does not know"
    included = f" ({', '.join(others)})" if others else ""
    end = ""
    if holding.until is not None:
        has_ended = holding.until <= datetime.datetime.now(datetime.UTC)
        end = f", which ended on {holding.until:%Y-%m-%d}" if has_ended else f" until {holding.until:%Y-%m-%d}"
    return f"{holding.kind} {holding.name}{end}{included}{known}"


def _next(result: Review) -> str:
    if not result.logs:
        return "Next: bloodroot members --log FILE shows what was used, by the audit log of the application."
    if result.unused:
        return "Next: see what can be taken away; bloodroot members LOGIN shows what a member may do with it."
    return "Everything that is held was used."


def _rows(result: Review) -> Iterator[tuple[object, ...]]:
    """A row for each thing that a member holds; members who hold nothing have one too."""
    for review in result.members:
        member = review.member
        about = (str(member.id), member.name, member.status)
        seen = review.seen.isoformat() if review.seen is not None else ""
        for reviewed in review.holdings:
            holding = reviewed.holding
            since = reviewed.since.isoformat() if reviewed.since is not None else ""
            used = reviewed.used.isoformat() if reviewed.used is not None else "never" if result.logs else ""
            known = "yes" if holding.known else "no"
            yield (*about, holding.kind, holding.name, " ".join(holding.gives), known, since, used, seen)
        if not review.holdings:
            yield (*about, "", "", "", "", "", "", seen)


def member_access(result: MemberAccess) -> Sheet:
    """What one member may do, and through which role, group or grant."""
    member = result.member
    count = f"{len(result.allowed)} of {plural(result.endpoints, 'endpoint')}"
    held = ", ".join(map(_in_words, result.holdings)) or "nothing beyond the defaults"
    rows = tuple(
        (
            endpoint(f"{allowed.method} {allowed.path}"),
            Cell(allowed.words, Meaning.PLAIN if allowed.words == "allow" else Meaning.OPEN),
            quiet(" or ".join(allowed.through) or "several of these together"),
        )
        for allowed in result.allowed
    )
    return Sheet(
        strong(f"{member.name or member.id} ({member.status}): let in at {count}"),
        (
            Section(lines=(line(quiet(f"holds {held}")),), tight=True),
            Section(heads=("endpoint", "", "through"), rows=rows),
        ),
        columns=("method", "path", "outcome", "through"),
        rows=((allowed.method, allowed.path, allowed.words, "; ".join(allowed.through)) for allowed in result.allowed),
    )
