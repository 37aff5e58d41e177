"""Where a mistake is in a policy, what it is, and how it is shown."""

from __future__ import annotations

import difflib
from dataclasses import dataclass, field
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from .errors import BloodrootError

if TYPE_CHECKING:
    from collections.abc import Iterable


@dataclass(frozen=True, slots=True, eq=False)
class SourceText:
    """One policy text and the name people know it by. Equal to itself alone: comparing all lines would take long.

    Attributes:
        name: the file name as it was given, or another name such as ``<text>``.
        lines: the text, a line each, without line ends.
    """

    name: str
    lines: tuple[str, ...] = field(repr=False)


class Place(NamedTuple):
    """A stretch of one line of a source. ``line`` and ``column`` count from 1."""

    source: SourceText
    line: int
    column: int
    length: int

    def __str__(self) -> str:
        return f"{self.source.name}:{self.line}:{self.column}"

    @property
    def at(self) -> str:
        """File and line, as in ``access.bloodroot:12``."""
        return f"{self.source.name}:{self.line}"

    @property
    def text(self) -> str:
        """The whole line that the place is on."""
        return self.source.lines[self.line - 1] if self.line <= len(self.source.lines) else ""


@dataclass(frozen=True, slots=True)
class Problem:
    """One mistake in a policy: what is wrong and what to do, and where."""

    message: str
    place: Place

    def __str__(self) -> str:
        """The message after its place, then the line itself with the place marked."""
        line = self.place.text
        head = f"{self.place}: {self.message}"
        if not line.strip():
            return head
        gutter = f"{self.place.line:>5} | "
        # Tabs are shown as one blank, so that the mark is under what it marks, and so is what cannot be seen.
        shown = "".join(character if character.isprintable() else " " for character in line)
        mark = " " * (self.place.column - 1) + "^" * max(1, self.place.length)
        return f"{head}\n{gutter}{shown}\n{' ' * (len(gutter) - 2)}| {mark}"


class PolicyError(BloodrootError):
    """A policy that cannot be used. Carries every problem found, in the order of their places.

    Attributes:
        problems: at least one `Problem`.
    """

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(sorted(set(problems), key=lambda p: (p.place.source.name, p.place.line, p.place.column)))
        super().__init__(self.problems)

    def __str__(self) -> str:
        count = len(self.problems)
        listed = "\n\n".join(str(problem) for problem in self.problems)
        return f"{listed}\n\n{count} {'problem' if count == 1 else 'problems'} in the policy"


# Looking for near misses takes long. It stops after this many problems, and compares no more than so many names.
ENOUGH = 20
_MOST_COMPARED = 1000


def suggestion(word: str, names: Iterable[str]) -> str:
    """``; did you mean "curator"?`` for a near miss among the known words, else an empty string."""
    choices = list(names)
    if len(choices) > _MOST_COMPARED:
        alike = (
            choice for choice in choices if abs(len(choice) - len(word)) < 3 and choice[:1].lower() == word[:1].lower()
        )
        choices = list(islice(alike, _MOST_COMPARED))
    near = difflib.get_close_matches(word, choices, n=1, cutoff=0.6)
    if not near:
        # A difference in case alone scores low on short words, and is the most common slip of all.
        near = [choice for choice in choices if choice.lower() == word.lower()][:1]
    return f'; did you mean "{near[0]}"?' if near else ""
