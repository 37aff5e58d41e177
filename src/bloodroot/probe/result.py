"""What a probe found, as plain data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .verdicts import Verdict

if TYPE_CHECKING:
    from .cases import Untried
    from .verdicts import Observation


@dataclass(frozen=True, slots=True)
class Result:
    """What a probe found.

    Attributes:
        observations: every request with its answer, in the order of the policy.
        untried: what could not be asked, and why.
    """

    observations: tuple[Observation, ...]
    untried: tuple[Untried, ...]

    @property
    def sound(self) -> bool:
        """Whether everything could be asked, and the application does what is declared."""
        return not self.untried and all(each.verdict is Verdict.AGREE for each in self.observations)

    def count(self, verdict: Verdict) -> int:
        """How many answers have this verdict."""
        return sum(each.verdict is verdict for each in self.observations)
