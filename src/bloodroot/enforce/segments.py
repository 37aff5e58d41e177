"""Paths of a framework's routes as a policy writes them, and what regular expressions in them match."""

from __future__ import annotations

import re
from typing import NamedTuple

# A class of characters, an escape with its digits, or any other character.
_PART = re.compile(r"\[\^?\]?(?:\\.|[^\]\\])*\]|\\(?:x..|[0-7]{1,3}|.)|.", re.DOTALL)


_IN_ANY_CASE = re.compile(r"\(\?[a-z]*i[a-z]*[-:)]").search


class WrittenPath(NamedTuple):
    """A path of a framework's route, or a part of one, as a policy writes it.

    Attributes:
        path: the path.
        exact: whether it covers exactly the same paths.
    """

    path: str
    exact: bool


def ignores_case(regex: str | re.Pattern[str]) -> bool:
    """Whether a regular expression, or a part of it, matches letters whatever their case."""
    if isinstance(regex, re.Pattern):
        return bool(regex.flags & re.IGNORECASE) or ignores_case(regex.pattern)
    return _IN_ANY_CASE(regex) is not None


def is_one_segment(regex: str) -> bool:
    """Whether a regular expression can match neither a slash nor an empty string.

    Each part of it is tried alone, so that no sample has to be guessed: what cannot be judged counts as "no", and its
    route as one that no policy can write exactly.
    """
    try:
        return not re.fullmatch(regex, "") and not any(_matches_slash(part[0]) for part in _PART.finditer(regex))
    except re.error:
        return False


def _matches_slash(part: str) -> bool:
    if len(part) == 1:
        return part in "/."
    return re.match(part, "/") is not None
