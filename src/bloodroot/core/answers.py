"""What a refused caller gets: the most specific denial for a method, a path and a reason."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .methods import covers, precision
from .paths import read_path, specificity

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ..language.problems import Place
    from .conditions import Condition
    from .paths import Template

REASONS = ("signed-out", "signed-in", "role", "closed", "apart")

_DEFAULTS = {
    "ambiguous-path": (400, "This address can be read in more than one way. Check its slashes, dots and signs."),
    "method": (400, "This method cannot be used. Methods are written in capitals, such as GET."),
    "apart": (403, "You hold two roles that nobody may hold together. Ask those who give out roles here."),
    "closed": (403, "Nobody has access to this."),
    "signed-out": (401, "Sign in to use this."),
    "signed-in": (403, "This is for visitors who are not signed in."),
}
UNREADABLE = ("ambiguous-path", "method")
_REFUSED = (403, "You do not have access to this.")
_HIDDEN = (404, "There is nothing here.")


@dataclass(frozen=True, slots=True)
class Answer:
    """What a refused caller gets.

    Attributes:
        status: the HTTP status code (RFC 9110, section 15); 303 for a redirect.
        message: one sentence for the caller.
        location: the page to go to, or None.
        hidden: whether the answer must look like that of a missing page.
        otherwise: for a redirect, the status for clients that ask for no page.
        place: the line of the policy that says so, or None where nothing does.
    """

    status: int
    message: str
    location: str | None = None
    hidden: bool = False
    otherwise: int | None = None
    place: Place | None = None


@dataclass(slots=True, eq=False)
class Denial:
    """One entry of the section ``denials``. No template stands for every path, no methods for every method."""

    methods: tuple[str, ...]
    template: Template | None
    reason: str
    kind: str
    status: int | None
    to: str | None
    message: str | None
    place: Place

    def rank(self, method: str) -> tuple[object, ...]:
        """Less is more specific for a method: the path first, then the method, then the reason. No two are alike."""
        path = specificity(self.template) if self.template is not None else ((9, 0, 0, "", ""),)
        return path, precision(self.methods, method), self.reason == "any"

    def answers(self, method: str, segments: list[str], reason: str) -> bool:
        """Whether this entry speaks of such a refusal."""
        return (
            self.reason in (reason, "any")
            and covers(self.methods, method)
            and (self.template is None or self.template.covers(segments))
        )


class Answers:
    """The denials of a policy, in the order of the file."""

    def __init__(self, denials: list[Denial], conditions: Mapping[str, Condition]) -> None:
        self.denials = denials
        self._conditions = conditions

    def answer(self, method: str, path: str, reason: str) -> Answer:
        """The answer to a caller who is refused for a reason."""
        status, default = _DEFAULTS.get(reason, _REFUSED)
        condition = self._conditions.get(reason)
        own = condition.message if condition is not None else None
        # What cannot be read was refused before any line was asked, denials too.
        segments = read_path(path) if reason not in UNREADABLE else None
        if segments is not None:
            matching = [denial for denial in self.denials if denial.answers(method, segments, reason)]
            denial = min(matching, key=lambda each: each.rank(method), default=None)
            if denial is not None:
                # What a condition has to say is closer to the matter than what is said for any reason at all.
                said = own or denial.message if denial.reason == "any" else denial.message or own
                return _answer(denial, status, said or default)
        return Answer(status, own or default)


def _answer(denial: Denial, status: int, message: str) -> Answer:
    if denial.kind == "hide":
        return Answer(*_HIDDEN, hidden=True, place=denial.place)
    if denial.kind == "go":
        return Answer(303, message, denial.to, otherwise=status, place=denial.place)
    return Answer(denial.status or status, message, place=denial.place)
