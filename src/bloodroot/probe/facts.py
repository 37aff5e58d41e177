"""One response, as plain facts: what it is by itself, before it is compared with what was declared."""

from __future__ import annotations

import html
import json
import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import urlsplit

from ..core.binding import RouteKind
from ..core.methods import SAFE
from ..survey.endpoints import printable
from .page_looks import look_of, words_of
from .spelling import is_same_page

if TYPE_CHECKING:
    import httpx

    from ..settings import KnownAnswer, Settings
    from .plan import Case, Secret
    from .watching import WatchedRequest

_TAGS = re.compile(r"<(script|style)\b.*?</\1>|<[^>]*>", re.S | re.I)
_FORGERY = re.compile(r"\b(csrf|xsrf|cross.site request forgery)\b", re.I).search
_WORD = re.compile(r"[^\W_]+")
_BETWEEN = r"(?:[\W_]|%20){1,3}"
_LONGEST = 200_000  # characters of a page in which a reason is looked for


class ResponseKind(StrEnum):
    """What a response is."""

    MADE = "made"
    DONE = "done"
    REFUSED = "refused"
    SIGN_IN = "sign-in"
    SENT = "sent-away"
    NOT_FOUND = "not-found"
    UNFIT = "unfit"
    UNPROVEN = "unproven"
    NOT_SERVED = "not-served"
    LIMITED = "limited"
    FAILED = "failed"
    LOST = "lost"


class AnsweredBy(StrEnum):
    """What answered, as far as that can be seen."""

    POLICY = "policy"  # enforcement refused
    HANDLER = "handler"  # the handler began to run
    ROUTE = "route"  # the route was chosen, and what is around its handler answered
    BEFORE = "before"  # no handler was chosen
    UNSEEN = ""  # the application runs elsewhere, or has no routes that can be read


@dataclass(slots=True)
class Seen:
    """The facts of one request and its response. Never changed once made; freezing would double what it costs.

    Attributes:
        came: what the response is.
        by: what answered.
        status: the HTTP status code; 0 for no response.
        location: where it redirects to, or an empty string.
        known: whether the settings say what such a response means.
        shown: texts in it that the persona may not see.
        changed: whether the data was another afterwards; None where that was not looked at.
        stranger: the name of the handler that answered, where that is not the one of the endpoint.
        followed: another spelling of the path that the router asked for first, or an empty string.
        note: the exception that was raised first, or why there is no response.
        by_token: whether it was sent with a token alone, so that no check against forged requests applies.
        marks: texts of marked records that it has, no matter who may see them.
        words: what it shows, as `page_looks.words_of`.
        look: what it looks like, as `page_looks.look_of`.
        data: what the data was like afterwards, in short; an empty string where that was not looked at.
        untokened: the field against forged requests that its form has and that could not be sent, or an empty string.
        reached: whether the handler began to run, also where enforcement has withheld what it answered.
        signed_out: whether the response takes away a cookie that was sent.
    """

    came: ResponseKind
    by: AnsweredBy = AnsweredBy.UNSEEN
    status: int = 0
    location: str = ""
    known: bool = False
    shown: tuple[str, ...] = ()
    changed: bool | None = None
    stranger: str = ""
    followed: str = ""
    note: str = ""
    by_token: bool = False
    reached: bool = False
    marks: tuple[str, ...] = ()
    words: tuple[int, ...] = ()
    look: str = ""
    data: str = ""
    untokened: str = ""
    signed_out: bool = False


@dataclass(frozen=True, slots=True)
class AnswerSettings:
    """What is known of the responses of an application.

    Attributes:
        sign_in_paths: a redirect to one of these asks the caller to sign in.
        answers: what responses mean, as the settings say it.
        here: whether handlers can be seen.
        lands: by the path of a sign-in, the page that it leads to.
    """

    sign_in_paths: Collection[str] = ()
    answers: tuple[KnownAnswer, ...] = ()
    here: bool = False
    lands: Mapping[str, str] = field(default_factory=dict)


def ways_of(settings: Settings, *, here: bool) -> AnswerSettings:
    """What settings say of the responses of an application.

    Args:
        settings: how to sign in, and what answers mean.
        here: whether handlers can be seen.
    """
    signing = settings.probe.sign_ins
    lands = {way.path: way.lands for way in signing if way.lands is not None}
    return AnswerSettings({way.path for way in signing if way.path}, settings.probe.answers, here, lands)


@dataclass(frozen=True, slots=True)
class Exchanged:
    """What came of sending a request.

    Attributes:
        response: the response.
        watched: what became of the request inside the application.
        followed: the path that was asked for in the end, where that is another spelling; else an empty string.
        by_token: whether it was sent with a token alone.
        untokened: the field against forged requests that could not be sent, or an empty string.
        signed_out: whether the response takes away a cookie that was sent.
    """

    response: httpx.Response
    watched: WatchedRequest
    followed: str = ""
    by_token: bool = False
    untokened: str = ""
    signed_out: bool = False


def facts_of(
    case: Case,
    sent: Exchanged,
    ways: AnswerSettings,
    secrets: Iterable[Secret] = (),
    marks: Collection[str] = (),
) -> Seen:
    """The facts of a response.

    Args:
        case: the request.
        sent: what came of sending it.
        ways: what is known of responses of the application.
        secrets: texts that the persona may not see.
        marks: texts of marked records.
    """
    response, watched = sent.response, sent.watched
    hidden = dict.fromkeys(secret.mark for secret in secrets)
    text = _searched(response) if hidden or marks else ""
    by = _by(case, watched, ways)
    meaning = response_kind(case.method, case.path, response, ways, by)
    # Responses are written by others: nothing of them may reach a terminal as a command.
    return Seen(
        meaning.kind,
        by,
        response.status_code,
        printable(response.headers.get("location", "")),
        meaning.is_known,
        tuple(mark for mark in hidden if _is_in(mark, text)),
        stranger=printable(_stranger(case, watched)),
        followed=printable(sent.followed),
        note=printable(watched.error),
        by_token=sent.by_token,
        reached=watched.reached,
        marks=tuple(mark for mark in marks if _is_in(mark, text)),
        words=words_of(response),
        look=look_of(response, case.values.values()),
        untokened=sent.untokened,
        signed_out=sent.signed_out,
    )


def _searched(response: httpx.Response) -> str:
    """All that a response says, in its body and in its headers."""
    return "\n".join([response.text, *(value for _, value in response.headers.multi_items())])


def _is_in(mark: str, text: str) -> bool:
    """Whether a page, a JSON value or an address has a text in it, whichever way it is written there."""
    written = (mark, json.dumps(mark)[1:-1], json.dumps(mark, ensure_ascii=False)[1:-1])
    if any(each in text for each in written) or mark in html.unescape(text):
        return True
    words = _WORD.findall(mark)
    # As part of an address or the name of a file: Tarn-jug.png, tarn_jug.
    return len(words) > 1 and re.search(_BETWEEN.join(map(re.escape, words)), text, re.I) is not None


def _by(case: Case, watched: WatchedRequest, ways: AnswerSettings) -> AnsweredBy:
    if watched.refusals:
        return AnsweredBy.POLICY
    if watched.reached:
        return AnsweredBy.HANDLER
    if watched.handler is not None:
        return AnsweredBy.ROUTE
    route = case.asked.route
    # What is mounted as a whole, and files, are served without a handler that could be seen.
    if (
        not ways.here
        or case.asked.handler is None
        or (route is not None and route.kind in (RouteKind.STATIC, RouteKind.MOUNT))
    ):
        return AnsweredBy.UNSEEN
    return AnsweredBy.BEFORE


def _stranger(case: Case, watched: WatchedRequest) -> str:
    """The handler that was chosen, where it is not the one of the endpoint."""
    mine, chosen = case.asked.handler, watched.handler
    if mine is None or chosen is None or mine is chosen or _unwrapped(mine) is _unwrapped(chosen):
        return ""
    return str(getattr(chosen, "__name__", type(chosen).__name__))


def _unwrapped(handler: object) -> object:
    while (inner := getattr(handler, "__wrapped__", None)) is not None:
        handler = inner
    return handler


class ResponseMeaning(NamedTuple):
    """What a response is, and whether the settings say so."""

    kind: ResponseKind
    is_known: bool = False


def response_kind(
    method: str,
    path: str,
    response: httpx.Response,
    ways: AnswerSettings,
    by: AnsweredBy = AnsweredBy.UNSEEN,
) -> ResponseMeaning:
    """What a response to a request is."""
    status, location, text = response.status_code, response.headers.get("location", ""), response.text
    leads = urlsplit(location).path if 300 <= status < 400 else ""
    for answer in ways.answers:
        if answer.matches(status, leads, text):
            means = {"refused": ResponseKind.REFUSED, "sign-in": ResponseKind.SIGN_IN, "done": ResponseKind.DONE}
            return ResponseMeaning(means[answer.means], True)
    if leads and method == "POST" and _is_signed_in(path, leads, ways):
        return ResponseMeaning(ResponseKind.DONE, True)
    if status == 401 or (leads and any(is_same_page(leads, path) for path in ways.sign_in_paths)):
        return ResponseMeaning(ResponseKind.SIGN_IN)
    if 300 <= status < 400 and status != 304:
        return ResponseMeaning(ResponseKind.SENT)
    if method not in SAFE and by is not AnsweredBy.POLICY and status in (400, 403, 419) and _is_about_forgery(text):
        return ResponseMeaning(ResponseKind.UNPROVEN)
    return ResponseMeaning(_by_status(status))


def _is_signed_in(path: str, leads: str, ways: AnswerSettings) -> bool:
    """Whether a sign-in leads where the settings say; without that, anywhere but to a sign-in."""
    for signing in ways.sign_in_paths:
        if is_same_page(path, signing):
            page = ways.lands.get(signing)
            again = any(is_same_page(leads, sign_in_path) for sign_in_path in ways.sign_in_paths)
            return is_same_page(leads, page) if page is not None else not again
    return False


def _is_about_forgery(text: str) -> bool:
    return _FORGERY(_TAGS.sub(" ", text[:_LONGEST])) is not None


def _by_status(status: int) -> ResponseKind:
    if 200 <= status < 300 or status in (101, 304):
        return ResponseKind.MADE
    if status == 429:
        return ResponseKind.LIMITED
    if status in (405, 501):
        return ResponseKind.NOT_SERVED
    if status == 403:
        return ResponseKind.REFUSED
    if status in (404, 410):
        return ResponseKind.NOT_FOUND
    return ResponseKind.FAILED if status >= 500 or status < 200 else ResponseKind.UNFIT
