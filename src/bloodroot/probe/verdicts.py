"""What a response says about access, and whether that is what was declared."""

from __future__ import annotations

import html
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from ..core.decision import Outcome

if TYPE_CHECKING:
    from collections.abc import Collection

    import httpx

    from .cases import Case, Secret


class Verdict(StrEnum):
    """How a response compares with the policy."""

    AGREE = "agree"
    HOLE = "hole"
    BLOCKED = "blocked"
    UNCLEAR = "unclear"


class Observed(StrEnum):
    """What a response says about access."""

    LET_IN = "let-in"
    SHOWS_HIDDEN = "shows-hidden"
    REFUSED = "refused"
    SIGN_IN = "sign-in"
    SENT_AWAY = "sent-away"
    NOT_FOUND = "not-found"
    NOT_SERVED = "not-served"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class Observation:
    """One request and what came back.

    Attributes:
        case: the request.
        status: the HTTP status code.
        location: where it redirected to, or an empty string.
        verdict: how that compares with the policy.
        observed: what it says about access.
        text: the same in words.
    """

    case: Case
    status: int
    location: str
    verdict: Verdict
    observed: Observed
    text: str

    @property
    def kept_out(self) -> bool:
        """Whether the caller was turned away, so that nothing can have changed."""
        return self.observed in (Observed.REFUSED, Observed.SIGN_IN, Observed.SENT_AWAY)


def read(
    case: Case, response: httpx.Response, path: str, sign_in_paths: Collection[str], secrets: Collection[Secret]
) -> Observation:
    """Compare a response with what was declared.

    Args:
        case: the request, and what the policy declares for it.
        response: what the application answered.
        path: the path that was asked for in the end.
        sign_in_paths: a redirect to one of these asks the caller to sign in.
        secrets: texts that this caller may not see.
    """
    status = response.status_code
    location = response.headers.get("location", "")
    if is_other_spelling(path, status, location):
        # It was followed once already.
        text = f"sent to {location}, another spelling of the path"
        return Observation(case, status, location, Verdict.UNCLEAR, Observed.SENT_AWAY, text)
    verdict, observed, text = _compare(case, status, location, sign_in_paths)
    if verdict is Verdict.AGREE and case.declared is Outcome.ALLOW and response.is_success:
        body = response.text
        shown = next((each for each in secrets if each.mark in body or each.mark in html.unescape(body)), None)
        if shown is not None:
            verdict, observed = Verdict.HOLE, Observed.SHOWS_HIDDEN
            text = (
                f'shows "{shown.mark}", which GET {shown.page.template.text} keeps from them: {shown.condition} fails'
            )
    return Observation(case, status, location, verdict, observed, text)


def is_other_spelling(path: str, status: int, location: str) -> bool:
    """Whether a response is a redirect to the same path with or without a slash at its end.

    Routers answer with one before any handler, and so before any check.
    """
    found = urlsplit(location).path
    return 300 <= status < 400 and found != path and found.rstrip("/") == path.rstrip("/")


def _compare(case: Case, status: int, location: str, sign_in_paths: Collection[str]) -> tuple[Verdict, Observed, str]:
    allowed = case.declared is Outcome.ALLOW
    refused = Verdict.BLOCKED if allowed else Verdict.AGREE
    if status == 401 or (300 <= status < 400 and urlsplit(location).path in sign_in_paths):
        return refused, Observed.SIGN_IN, "asked to sign in"
    if case.sent_to is not None and 300 <= status < 400 and urlsplit(location).path == case.sent_to:
        return Verdict.AGREE, Observed.SENT_AWAY, f"sent to {case.sent_to}"
    if status == 403:
        return refused, Observed.REFUSED, "refused"
    if status == 404:
        # Hiding a page is a refusal. Where access is declared, the sample may simply not be there.
        if allowed:
            return Verdict.UNCLEAR, Observed.NOT_FOUND, "nothing found; is the sample there?"
        return Verdict.AGREE, Observed.NOT_FOUND, "hidden"
    if status == 429:
        return Verdict.UNCLEAR, Observed.FAILED, "too many requests; raise the application's limit for the probe"
    if status == 405:
        return Verdict.UNCLEAR, Observed.NOT_SERVED, "the application does not serve this method"
    if status >= 500:
        return Verdict.UNCLEAR, Observed.FAILED, "the application failed"
    # Whatever else it says, a redirect or a complaint about the form, it dealt with the request itself.
    return (Verdict.AGREE if allowed else Verdict.HOLE), Observed.LET_IN, "let in"
