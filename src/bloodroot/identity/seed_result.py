"""What came of a seed, as plain data."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class SeedVerdict(StrEnum):
    """What became of a row."""

    MADE = "made"
    KEPT = "kept"
    DIFFERS = "differs"
    UPDATED = "updated"


@dataclass(frozen=True, slots=True)
class SeedRow:
    """What became of one role, group or member.

    Attributes:
        kind: ``role``, ``group`` or ``member``.
        name: the role's or group's name, or the member's login.
        verdict: what was done.
        differences: what differs from the file, in words; or differed, before an update.
    """

    kind: str
    name: str
    verdict: SeedVerdict
    differences: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SeedResult:
    """What came of a seed.

    Attributes:
        rows: one for each role, group and member.
        dry_run: whether it was only tried, and nothing kept.
    """

    rows: tuple[SeedRow, ...]
    dry_run: bool

    def count(self, kind: str, verdict: SeedVerdict) -> int:
        """How many rows of a kind have this verdict."""
        return sum(row.kind == kind and row.verdict is verdict for row in self.rows)
