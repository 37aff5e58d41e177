"""What is said of one response, and which responses say nothing of access."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from .facts import AnsweredBy, ResponseKind, Seen
from .plan import Case
from .spelling import is_other_spelling


class Verdict(StrEnum):
    """How a response compares with the policy."""

    AGREE = "agree"
    HOLE = "hole"
    BLOCKED = "blocked"
    OTHER = "other"
    INCONCLUSIVE = "inconclusive"


@dataclass(slots=True, eq=False)
class Observation:
    """One request and what came back. Never changed once made.

    Attributes:
        case: the request.
        seen: the facts of its response.
        verdict: how that compares with the policy.
        text: what was observed, in words.
        settle: for what is inconclusive, what would settle it; else an empty string.
        repeat: command lines that repeat it, where it is not as declared.
    """

    case: Case
    seen: Seen
    verdict: Verdict
    text: str
    settle: str = ""
    repeat: tuple[str, ...] = ()

    @property
    def let_in(self) -> bool | None:
        """Whether the caller was let in; None where that is not known."""
        if self.verdict is Verdict.INCONCLUSIVE:
            return None
        return self.verdict is Verdict.HOLE or (self.case.allowed and self.verdict is Verdict.AGREE)


KEPT_OUT = (
    ResponseKind.REFUSED,
    ResponseKind.SIGN_IN,
    ResponseKind.SENT,
    ResponseKind.NOT_FOUND,
    ResponseKind.UNPROVEN,
)


SEE_SAMPLE = "see that the record of [samples] is in the data"


class UnclearAnswer(NamedTuple):
    """An answer that says nothing of access.

    Attributes:
        words: what it is.
        way_out: what would settle it.
    """

    words: str
    way_out: str


def says_nothing(case: Case, seen: Seen) -> UnclearAnswer | None:
    """What an answer is that says nothing of access; None for any other."""
    if seen.came is ResponseKind.LOST:
        return UnclearAnswer(
            f"no response: {seen.note or 'the connection was lost'}", "see that the application is running"
        )
    if seen.came is ResponseKind.LIMITED:
        return UnclearAnswer("too many requests", "write rate = ... under [probe], or raise the application's limit")
    if seen.came is ResponseKind.UNPROVEN:
        return UnclearAnswer(
            "refused as a forged request",
            "the token against forgery was not found: let [probe.sign_in] name the page with the form",
        )
    if seen.came is ResponseKind.FAILED and seen.by is not AnsweredBy.POLICY:
        where = " in its handler" if seen.by is AnsweredBy.HANDLER else ""
        expects = f'write what it expects: [bodies] "{case.asked.name}" = ...'
        return UnclearAnswer(
            f"the application failed{where}", f"mend the exception, or {expects}" if seen.note else expects
        )
    if seen.by is AnsweredBy.POLICY:
        return None
    if seen.came is ResponseKind.NOT_SERVED:
        return UnclearAnswer("this method is not served here", "leave the method out of the line")
    if seen.came is ResponseKind.UNFIT and (case.answer is None or case.answer.status != seen.status):
        expected = f'write what it expects: [bodies] "{case.asked.name}" = {{ form = {{ ... }} }}'
        return UnclearAnswer(f"answered {seen.status}: the request is not as the application expects", expected)
    if seen.came is ResponseKind.NOT_FOUND and case.allowed:
        return UnclearAnswer("nothing found", SEE_SAMPLE)
    if seen.came is ResponseKind.SENT and is_other_spelling(seen.followed or case.path, seen.status, seen.location):
        return UnclearAnswer(
            f"sent to {seen.location}, another spelling of the path", "the router sends from one to the other"
        )
    return None
