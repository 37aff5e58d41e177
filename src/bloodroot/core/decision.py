"""What a policy says to one request: outcome, reason, answer, and the steps that led there."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from .paths import read_path
from .question import Question

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .answers import Answer
    from .caller import Caller
    from .conditions import Formula
    from .engine import Engine
    from .lines import Line


class Outcome(StrEnum):
    """What comes of a request. The values are the words that reports use."""

    ALLOW = "allow"
    DEPENDS = "depends"
    SIGN_IN = "sign-in"
    DENY = "deny"


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a decision.

    Attributes:
        name: ``path``, ``caller``, ``line``, ``apart``, ``sign-in``, ``standing``, ``roles`` or ``conditions``.
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
        reason: None where the request is allowed or depends, else ``method``, ``ambiguous-path``, ``apart``,
            ``closed``, ``signed-out``, ``signed-in``, ``role``, ``condition`` (one without a name) or the name of a
            condition.
        line: the endpoint line that decides, or None; for a guard, what the guard asks.
        remainder: for `Outcome.DEPENDS`, what still has to hold; None otherwise.
    """

    __slots__ = ("_asked", "_engine", "line", "outcome", "reason", "remainder")

    def __init__(
        self,
        outcome: Outcome,
        reason: str | None,
        line: Line | None,
        remainder: Formula | None,
        engine: Engine,
        question: Question | tuple[Caller | None, str, str],
    ) -> None:
        self.outcome = outcome
        self.reason = reason
        self.line = line
        self.remainder = remainder
        self._engine = engine
        # Caller, method and path are most questions, and are worked out only when asked for.
        self._asked = question

    @property
    def question(self) -> Question:
        """What was asked."""
        if isinstance(self._asked, tuple):
            self._asked = Question(*self._asked)
        return self._asked

    @property
    def allowed(self) -> bool:
        """Whether the request may go on. False where it still depends."""
        return self.outcome is Outcome.ALLOW

    @property
    def answer(self) -> Answer | None:
        """What the caller gets instead; None where the request is allowed or depends."""
        if self.reason is None:
            return None
        return self._engine.answers.answer(self.question.method, self.question.path, self.reason)

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps in the order they were taken, up to the one that decided."""
        return self._engine.steps(self.question)

    @property
    def path_values(self) -> Mapping[str, str]:
        """The parameters in the path, by name; empty where no line covers it."""
        if self.question.values is not None:
            return self.question.values
        segments = read_path(self.question.path)
        return self.line.template.values(segments) if self.line is not None and segments is not None else {}

    def __repr__(self) -> str:
        reason = f", reason={self.reason!r}" if self.reason else ""
        remains = f", remainder={self.remainder.words()!r}" if self.remainder is not None else ""
        return f"<Decision {self.outcome}{reason}{remains}>"
