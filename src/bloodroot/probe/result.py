"""What a probe found, as plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..endings import Ending
from .verdicts import Verdict

if TYPE_CHECKING:
    from .plan import Plan, SkippedRequest
    from .staleness import Stale
    from .verdicts import Observation


@dataclass(frozen=True, slots=True, repr=False)
class ProbeResult:
    """What a probe found.

    Attributes:
        observations: every request with its answer, in the order of the policy.
        untried: what could not be asked, and why.
        sign_in_faults: where signing in does not lead where the settings say.
        stale: for how long roles that were taken away still counted.
        notes: what else was seen: other spellings that a router asks for, methods that are not served.
        base: what was asked, as a URL; an empty string for an application in this process.
        protection: what puts a policy in front of the application, in words.
        protected: whether enforcement was seen to refuse something.
        part: which part of the plan this is, as ``2/5``, or an empty string for all of it.
        doubts: what else was not judged, in sentences.
        accepted: at which endpoints it is accepted that something was not judged, with the reasons.
        other_ways: how many requests with other methods, headers and parameters were kept out as well.
    """

    observations: tuple[Observation, ...]
    untried: tuple[SkippedRequest, ...]
    sign_in_faults: tuple[str, ...] = ()
    stale: tuple[Stale, ...] = ()
    notes: tuple[str, ...] = ()
    base: str = ""
    protection: str = "bloodroot.enforce"
    protected: bool = False
    part: str = ""
    doubts: tuple[str, ...] = ()
    other_ways: int = 0
    accepted: Mapping[str, str] = field(default_factory=dict)

    @property
    def ending(self) -> Ending:
        """Whether everything was asked and judged, and the application does what is declared."""
        if self.sign_in_faults or any(stale.late for stale in self.stale):
            return Ending.FOUND
        verdicts = {observation.verdict for observation in self.observations}
        if verdicts & {Verdict.HOLE, Verdict.BLOCKED, Verdict.OTHER}:
            return Ending.FOUND
        unjudged = [skipped.asked.name for skipped in self.untried]
        unjudged += [each.case.asked.name for each in self.observations if each.verdict is Verdict.INCONCLUSIVE]
        if self.doubts or not verdicts or any(name not in self.accepted for name in unjudged):
            return Ending.UNJUDGED
        return Ending.WELL

    def count(self, verdict: Verdict) -> int:
        """How many answers have this verdict."""
        return sum(observation.verdict is verdict for observation in self.observations)


@dataclass(frozen=True, slots=True)
class PlanResult:
    """What a probe would ask.

    Attributes:
        plan: the requests.
        base: what would be asked, as a URL; an empty string for an application in this process.
    """

    plan: Plan
    base: str = ""
