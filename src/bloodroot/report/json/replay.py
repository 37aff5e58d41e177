"""Recorded requests decided once more, as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from .pieces import line_of
from .written import written

if TYPE_CHECKING:
    from ...replay.counted import RecordedCaller
    from ...replay.replaying import ReplayResult


def _caller(who: RecordedCaller) -> dict[str, Any]:
    return {
        "caller": who.word,
        "roles": list(who.kinds),
        "scopes": list(who.scopes) if who.scopes is not None else None,
        "granted": list(who.granted),
    }


def replay(result: ReplayResult) -> Iterator[str]:
    """What would be otherwise, what depends, and what was never used."""
    counted, unused, tighter = result.counted, result.unused, result.tighter
    return written(
        "replay",
        logs=list(result.logs),
        requests=counted.requests,
        unread=counted.unread,
        untold=counted.untold,
        unknown=counted.unknown,
        first=counted.first or None,
        last=counted.last or None,
        differences=(
            {
                "method": difference.asked.method,
                "template": difference.asked.path,
                "who": _caller(difference.who),
                "now": difference.now.value,
                "why": difference.why or None,
                "count": times.count,
                "callers": len(times.callers),
                "first": times.first or None,
                "last": times.last or None,
                "example": times.example,
                "at": difference.asked.at or None,
            }
            for difference, times in result.differences
        ),
        unused=None
        if unused is None
        else {
            "lines": [
                {"methods": list(each.methods), "whole": each.whole, "line": line_of(each.line)}
                for each in unused.lines
            ],
            "permissions": list(unused.permissions),
            "grants": [
                {"permission": each.permission, "to": each.to, "at": each.entry.place.at} for each in unused.grants
            ],
            "roles": list(unused.roles),
        },
        tighter=None
        if tighter is None
        else {
            "diff": tighter.diff,
            "lines": tighter.lines,
            "grants": tighter.grants,
            "narrowed": tighter.narrowed,
        },
    )
