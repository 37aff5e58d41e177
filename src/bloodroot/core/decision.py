"""What a policy says to one request: outcome, reason, answer, and the steps that led there."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Protocol

from .paths import read_path
from .question import Question

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ..language.problems import Place
    from .answers import Answer, Answers
    from .caller import Caller
    from .formulas import Facts, Formula
    from .lines import CompiledGuard, Line
    from .predicates import Predicate


class Outcome(StrEnum):
    """What comes of a request. The values are the words that reports use."""

    ALLOW = "allow"
    DEPENDS = "depends"
    SIGN_IN = "sign-in"
    DENY = "deny"


class StepVerdict(StrEnum):
    """What comes of one step of a decision."""

    PASSED = "passed"
    REFUSED = "refused"
    OPEN = "open"  # it depends


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a decision.

    Attributes:
        name: ``path``, ``caller``, ``line``, ``apart``, ``sign-in``, ``standing``, ``roles`` or ``conditions``.
        verdict: what comes of it.
        text: what was found, in words.
        place: where the line is that the step rests on; None for a step that rests on none.
        line: the line itself, or an empty string.
    """

    name: str
    verdict: StepVerdict
    text: str
    place: Place | None = None
    line: str = ""

    @property
    def where(self) -> str:
        """File and line of the place, or an empty string."""
        return self.place.at if self.place is not None else ""


class Decides(Protocol):
    """What made a decision, and can explain it."""

    answers: Answers

    def steps(self, question: Question) -> tuple[Step, ...]:
        """The steps of the decision on a question."""
        ...

    def remainder(self, question: Question, line: Line | None) -> Formula | None:
        """What a question that depends leaves to be known."""
        ...


class Later:
    """A remainder that is worked out once it is asked for: most decisions are asked for their outcome alone.

    Attributes:
        left_open: the predicates that decide once records are known, each with what is known so far; empty where more
            than these has to be asked again.
    """

    __slots__ = ("left_open",)

    def __init__(self, left_open: Sequence[tuple[Predicate, Facts]] = ()) -> None:
        self.left_open = left_open


class Decision:
    """What a policy says to one request.

    Attributes:
        outcome: `Outcome`.
        reason: None where the request is allowed or depends, else ``method``, ``ambiguous-path``, ``apart``,
            ``closed``, ``signed-out``, ``signed-in``, ``role``, ``condition`` (one without a name) or the name of a
            condition.
        line: the endpoint line that decides; None where there is none, and for a guard.
    """

    __slots__ = ("_asked", "_decides", "_remainder", "line", "outcome", "reason")

    def __init__(
        self,
        outcome: Outcome,
        reason: str | None,
        line: Line | None,
        remainder: Formula | Later | None,
        evaluator: Decides,
        question: Question | tuple[Caller | None, str, str],
    ) -> None:
        self.outcome = outcome
        self.reason = reason
        self.line = line
        self._remainder = remainder
        self._decides = evaluator
        # Caller, method and path are most questions, and are worked out only when asked for.
        self._asked = question

    def __bool__(self) -> bool:
        # It would always be true, and let every caller in.
        raise TypeError("a decision is neither true nor false; ask for its allowed")

    @property
    def question(self) -> Question:
        """What was asked."""
        if isinstance(self._asked, tuple):
            self._asked = Question(*self._asked)
        return self._asked

    @property
    def remainder(self) -> Formula | None:
        """For `Outcome.DEPENDS`, what still has to hold; None otherwise."""
        if isinstance(self._remainder, Later):
            self._remainder = self._decides.remainder(self.question, self.line)
        return self._remainder

    @property
    def guard(self) -> CompiledGuard | None:
        """The guard that was asked; None for a request."""
        return self.question.guard

    @property
    def place(self) -> Place | None:
        """Where the line is that decides, or the guard; None where there is neither."""
        if self.line is not None:
            return self.line.place
        return self.guard.place if self.guard is not None else None

    @property
    def allowed(self) -> bool:
        """Whether the request may go on. False where it still depends."""
        return self.outcome is Outcome.ALLOW

    @property
    def answer(self) -> Answer | None:
        """What the caller gets instead; None where the request is allowed or depends."""
        if self.reason is None:
            return None
        return self._decides.answers.answer(self.question.method, self.question.path, self.reason)

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps in the order they were taken, up to the one that decided."""
        return self._decides.steps(self.question)

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


def left_open_by(decision: Decision) -> Sequence[tuple[Predicate, Facts]]:
    """What `Later` has of the remainder of a decision, where that was not asked for yet."""
    remainder = decision._remainder
    return remainder.left_open if isinstance(remainder, Later) else ()
