"""Recorded requests decided once more, as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from .pieces import line_of
from .written import written

if TYPE_CHECKING:
    from ...replay.counted import Difference, RecordedCaller, Times
    from ...replay.replaying import ReplayResult
    from ...replay.tightened import Tighter
    from ...replay.unused_access import Unused


def _caller(who: RecordedCaller) -> dict[str, Any]:
    return {
        "caller": who.word,
        "roles": list(who.kinds),
        "scopes": list(who.scopes) if who.scopes is not None else None,
        "granted": list(who.granted),
    }


def replay(result: ReplayResult) -> Iterator[str]:
    """What would be otherwise, what depends, and what was never used."""
    counted = result.counted
    return written(
        "replay",
        logs=list(result.logs),
        requests=counted.requests,
        unread=counted.unread,
        untold=counted.untold,
        unknown=counted.unknown,
        first=counted.first or None,
        last=counted.last or None,
        differences=(_difference(difference, times) for difference, times in result.differences),
        unused=_unused(result.unused) if result.unused is not None else None,
        tighter=_tighter(result.tighter) if result.tighter is not None else None,
    )


def _difference(difference: Difference, times: Times) -> dict[str, Any]:
    return {
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


def _unused(unused: Unused) -> dict[str, Any]:
    return {
        "lines": [
            {"methods": list(found.methods), "whole": found.whole, "line": line_of(found.line)}
            for found in unused.lines
        ],
        "permissions": list(unused.permissions),
        "grants": [
            {"permission": grant.permission, "to": grant.to, "at": grant.entry.place.at} for grant in unused.grants
        ],
        "roles": list(unused.roles),
    }


def _tighter(tighter: Tighter) -> dict[str, Any]:
    return {
        "diff": tighter.diff,
        "lines": tighter.lines,
        "grants": tighter.grants,
        "narrowed": tighter.narrowed,
    }
