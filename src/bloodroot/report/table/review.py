"""What members hold, and what one member may do, as a person reads it in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ..reviewed import holding_in_words, review_headline, review_next, since_in_words, used_in_words
from ..words import OPEN, WARN, plural

if TYPE_CHECKING:
    from ...review.all_members import MemberReview, Review
    from ...review.member_access import MemberAccess


def review(result: Review, console: Console) -> RenderableType:  # noqa: ARG001
    """Every member with what it holds, since when, and when that was last used."""
    parts: list[RenderableType] = [Text(review_headline(result), style="bold"), Text()]
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for head in ("member", "status", "holds", "since", *(["last used"] if result.logs else [])):
        table.add_column(head)
    for each in result.members:
        for number, row in enumerate(_rows(each, used=bool(result.logs))):
            name = each.member.name or str(each.member.id)
            status = Text(each.member.status, style="" if each.member.active else WARN)
            table.add_row(*((name, status) if not number else ("", "")), *row)
    parts += [table, Text(), Text(review_next(result))]
    return Group(*parts)


def _rows(each: MemberReview, *, used: bool) -> list[list[RenderableType]]:
    rows: list[list[RenderableType]] = []
    for one in each.holdings:
        text = used_in_words(one, each)
        rows.append([Text(holding_in_words(one.holding)), since_in_words(one)])
        if used:
            rows[-1].append(Text(text, style="" if one.used is not None else WARN))
    if each.apart:
        rows.append([Text(f"{' and '.join(each.apart)} are kept apart", style=WARN), ""])
    return rows or [["nothing beyond what every signed-in caller has", ""]]


def member_access(result: MemberAccess, console: Console) -> RenderableType:  # noqa: ARG001
    """What one member may do, and through which role, group or grant."""
    member = result.member
    name = member.name or str(member.id)
    count = f"{len(result.allowed)} of {plural(result.endpoints, 'endpoint')}"
    parts: list[RenderableType] = [Text(f"{name} ({member.status}): let in at {count}", style="bold")]
    held = ", ".join(holding_in_words(each) for each in result.holdings) or "nothing beyond the defaults"
    parts += [Text(f"holds {held}", style="dim"), Text()]
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for head in ("endpoint", "", "through"):
        table.add_column(head)
    for each in result.allowed:
        words = Text(each.words, style=OPEN if each.words != "allow" else "")
        table.add_row(f"{each.method} {each.path}", words, Text(_through(each.through), style="dim"))
    return Group(*parts, table)


def _through(names: tuple[str, ...]) -> str:
    return " or ".join(names) or "several of these together"
