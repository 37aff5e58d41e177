"""Patterns that choose endpoints, as ``/trials*`` or ``DELETE *``."""

from __future__ import annotations

from collections.abc import Iterable
from fnmatch import fnmatchcase

from ..language.errors import BloodrootError
from ..language.problems import suggestion


class PatternError(BloodrootError):
    """A pattern that no endpoint is like: it would choose nothing, and so find nothing."""


def matches(endpoint: str, patterns: Iterable[str]) -> bool:
    """Whether an endpoint, as ``GET /trials``, is one of those that patterns are for: ``/trials*``, ``DELETE *``."""
    return any(fnmatchcase(endpoint, pattern if " " in pattern else f"* {pattern}") for pattern in patterns)


def check_patterns(option: str, patterns: Iterable[str], endpoints: Iterable[str]) -> None:
    """See that each pattern is for some endpoint.

    Args:
        option: what the patterns are given with, for the message.
        patterns: the patterns.
        endpoints: all endpoints, as ``GET /trials``.

    Raises:
        PatternError: one is for none.
    """
    known = list(endpoints)
    for pattern in patterns:
        if any(matches(endpoint, [pattern]) for endpoint in known):
            continue
        method, blank, path = pattern.partition(" ")
        raised = f"{method.upper()}{blank}{path}"
        if blank and any(matches(endpoint, [raised]) for endpoint in known):
            guess = f'; write "{raised}"'
        else:
            names = known if blank else [endpoint.partition(" ")[2] for endpoint in known]
            guess = suggestion(pattern, names) or "; a pattern is for all of a path, as /trials*, or DELETE *"
        raise PatternError(f'{option} "{pattern}": there is no such endpoint{guess}')
