"""What a policy says to one request: outcome, reason, answer, and the steps that led there."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Any

from .conditions import CAN_BE_TRUE, TRUE, Conjunction, Formula

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .policy import Line, Policy


class Outcome(StrEnum):
    """What comes of a request. The values are the words that reports use."""

    ALLOW = "allow"
    DEPENDS = "depends"
    SIGN_IN = "sign-in"
    DENY = "deny"


@dataclass(frozen=True, slots=True)
class Answer:
    """What a refused caller gets.

    Attributes:
        status: the HTTP status code (RFC 9110, section 15).
        message: one sentence for the caller.
    """

    status: int
    message: str


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a decision.

    Attributes:
        name: ``path``, ``apart``, ``line``, ``sign-in``, ``standing``, ``roles`` or ``conditions``.
        verdict: ``passed``, ``refused`` or ``open`` (it depends).
        text: what was found, in words.
        where: file and line that the step rests on, or an empty text.
        line: the text of that line, or an empty text.
    """

    name: str
    verdict: str
    text: str
    where: str = ""
    line: str = ""


class Decision:
    """What a policy says to one request.

    Attributes:
        outcome: `Outcome`.
        reason: None where the request is allowed or depends, else ``ambiguous-path``, ``apart``, ``closed``,
            ``signed-out``, ``signed-in``, ``role``, ``condition`` (one without a name) or a condition's name.
        line: the endpoint line that decides, or None.
        remainder: for `Outcome.DEPENDS`, what still has to hold; None otherwise.
    """

    __slots__ = ("_policy", "_question", "line", "outcome", "reason", "remainder")

    def __init__(
        self,
        outcome: Outcome,
        reason: str | None,
        line: Line | None,
        remainder: Formula | None,
        policy: Policy,
        question: tuple[Any, ...],
    ) -> None:
        self.outcome = outcome
        self.reason = reason
        self.line = line
        self.remainder = remainder
        self._policy = policy
        self._question = question

    @property
    def allowed(self) -> bool:
        """Whether the request may go on. False where it still depends."""
        return self.outcome is Outcome.ALLOW

    @property
    def answer(self) -> Answer | None:
        """What the caller gets instead; None where the request is allowed or depends."""
        if self.reason is None:
            return None
        status, message = _MESSAGES.get(self.reason, _REFUSED)
        condition = self._policy.conditions.get(self.reason)
        return Answer(status, condition.message if condition is not None and condition.message else message)

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps in the order they were taken, up to the one that decided."""
        return self._policy.explain(self._question)

    @property
    def path_values(self) -> Mapping[str, str]:
        """The parameters in the path, by name; empty where no line covers it."""
        from .paths import read_path

        segments = read_path(self._question[2])
        return self.line.template.values(segments) if self.line is not None and segments is not None else {}

    def __repr__(self) -> str:
        reason = f", reason={self.reason!r}" if self.reason else ""
        remains = f", remainder={self.remainder.words()!r}" if self.remainder is not None else ""
        return f"<Decision {self.outcome}{reason}{remains}>"


_MESSAGES = {
    "ambiguous-path": (400, "This address can be read in more than one way. Check its slashes, dots and signs."),
    "apart": (403, "You hold two roles that nobody may hold together. Ask whoever gives out roles here."),
    "closed": (403, "Nobody has access to this."),
    "signed-out": (401, "Sign in to use this."),
    "signed-in": (403, "This is for visitors who are not signed in."),
}
_REFUSED = (403, "You do not have access to this.")


def may_hold(formulas: list[Formula]) -> bool:
    """Whether all of these remainders may turn out true together."""
    if not formulas:
        return True
    whole = formulas[0] if len(formulas) == 1 else Conjunction(tuple(formulas))
    return whole is TRUE or bool(whole.values() & CAN_BE_TRUE)
