"""What enforcement raises."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..language.errors import BloodrootError

if TYPE_CHECKING:
    from ..core.decision import Decision


class EnforcementError(BloodrootError, RuntimeError):
    """Something was asked where nothing decides, or too late: a mistake in the program. It refuses."""


class Unsettled(EnforcementError):
    """Code ran while it was still open whether the caller may: nothing settled what depends on the record."""


class StartUpError(BloodrootError):
    """Something is declared that could never take effect, or would refuse every caller. The message has all of it."""


class Refusal(BloodrootError):
    """The caller may not have this. Raised in a handler, it becomes the answer that the policy gives.

    Attributes:
        decision: why.
    """

    def __init__(self, decision: Decision, message: str | None = None) -> None:
        self.decision = decision
        super().__init__(message or decision.reason or "unsettled")
