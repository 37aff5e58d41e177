"""The parts of a policy file: what is folded, and what is listed beside it."""

from __future__ import annotations

from dataclasses import dataclass, field

from .occurrences import EntryAt


@dataclass(slots=True)
class Part:
    """A section or an entry.

    Attributes:
        name: what it is called.
        detail: more about it.
        section: the keyword of its section.
        first: its first line, counted from 0.
        last: its last line.
        parts: what is in it.
    """

    name: str
    detail: str
    section: str
    first: int
    last: int
    parts: list[Part] = field(default_factory=list)


def outline(lines: list[str], entries: list[EntryAt]) -> list[Part]:
    """The sections of a text, with their entries.

    Args:
        lines: the lines of the text.
        entries: its entries.
    """
    parts: list[Part] = []
    for entry in entries:
        words = lines[entry.first].partition(" #")[0].split()
        if entry.header:
            parts.append(Part(" ".join(words), "", entry.section, entry.first, entry.last))
            continue
        if parts:
            parts[-1].last = entry.last
            parts[-1].parts.append(_part(entry, words))
    return parts


def _part(entry: EntryAt, words: list[str]) -> Part:
    if entry.section in ("endpoints", "always", "denials"):
        path = next((place for place, word in enumerate(words) if word.startswith("/")), len(words) - 1)
        name, detail = " ".join(words[: path + 1]), " ".join(words[path + 1 :])
    else:
        name, detail = words[0], " ".join(words[1:])
    return Part(name, detail, entry.section, entry.first, entry.last)
