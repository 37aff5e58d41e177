"""What a refused caller gets: the most specific denial for a method, a path and a reason."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .methods import ANY, precision
from .paths import read_path, specificity
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from ..language.problems import Place
    from .conditions import Condition
    from .paths import Template

# The records that a path names do not belong together. What answers any reason does not answer this one: the address
# names nothing, and must look like it.
ELSEWHERE = "elsewhere"
REASONS = ("signed-out", "signed-in", "role", "closed", "apart")

_DEFAULTS = {
    "ambiguous-path": (400, "This address can be read in more than one way. Check its slashes, dots and signs."),
    "method": (400, "This method cannot be used. Methods are written in capitals, such as GET."),
    "apart": (403, "You hold two roles that no one may hold together. Ask an administrator to take one of them away."),
    "closed": (403, "No one has access to this."),
    "signed-out": (401, "Sign in to use this."),
    "signed-in": (403, "This is only for people who are not signed in."),
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
    """One entry of the section ``denials``. No template: every path; no methods: every method."""

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


class Answers:
    """The denials of a policy, in the order of the file."""

    def __init__(self, denials: list[Denial], conditions: Mapping[str, Condition]) -> None:
        self.denials = denials
        self._conditions = conditions
        # By reason and by method: those with a path, and the one without.
        self._by_path: dict[tuple[str, str], PathTree[Denial]] = {}
        self._everywhere: dict[tuple[str, str], Denial] = {}
        for denial in denials:
            for method in denial.methods or (ANY,):
                key = denial.reason, method
                if denial.template is None:
                    self._everywhere.setdefault(key, denial)
                else:
                    self._by_path.setdefault(key, PathTree()).add((), denial.template, denial)

    def answer(self, method: str, path: str, reason: str) -> Answer:
        """The answer to a caller who is refused for a reason."""
        status, default = _DEFAULTS.get(reason, _REFUSED)
        condition = self._conditions.get(reason)
        own = condition.message if condition is not None else None
        # What cannot be read was refused before any line was asked, denials too.
        segments = read_path(path) if reason not in UNREADABLE else None
        is_elsewhere = reason == ELSEWHERE and condition is None
        if segments is not None:
            denial = min(self._matching(method, segments, reason), key=lambda denial: denial.rank(method), default=None)
            if denial is not None:
                # What a condition has to say is closer to the matter than what is said for any reason at all.
                said = own or denial.message if denial.reason == "any" else denial.message or own
                return _answer(denial, status, said or default)
        return Answer(*_HIDDEN, hidden=True) if is_elsewhere else Answer(status, own or default)

    def _matching(self, method: str, segments: list[str], reason: str) -> Iterator[Denial]:
        """The denial with the most specific path for each combination of method and reason."""
        for named in (method, *(("GET",) if method == "HEAD" else ()), ANY):
            for because in (reason, "any") if reason != ELSEWHERE or ELSEWHERE in self._conditions else (reason,):
                index = self._by_path.get((because, named))
                denial = index.find(ANY, segments) if index is not None else None
                denial = denial or self._everywhere.get((because, named))
                if denial is not None:
                    yield denial


def _answer(denial: Denial, status: int, message: str) -> Answer:
    if denial.kind == "hide":
        return Answer(*_HIDDEN, hidden=True, place=denial.place)
    if denial.kind == "go":
        return Answer(303, message, denial.to, otherwise=status, place=denial.place)
    return Answer(denial.status or status, message, place=denial.place)
