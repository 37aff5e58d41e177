"""What a refused caller gets: status, headers and body."""

from __future__ import annotations

import html
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from http import HTTPStatus
from urllib.parse import quote

from ..core.answers import Answer
from ..request import Request


@dataclass(frozen=True, slots=True)
class Response:
    """A finished response.

    Attributes:
        status: the HTTP status code.
        headers: names in lower case, and values.
        body: bytes, to be left out for HEAD.
    """

    status: int
    headers: tuple[tuple[str, str], ...]
    body: bytes

    @property
    def phrase(self) -> str:
        """The status in words."""
        return _title(self.status)


VARY = ("Authorization", "Cookie")
PRIVATE = "private, no-cache"
UNSETTLED = Answer(500, "The application did not finish its check of who may have this, so it is withheld.")
MISSING = Answer(404, "There is nothing here.", hidden=True)
NO_CALLER = Answer(500, "The application could not find out who you are.")
# What a handler may say of a request before it has settled who may have the record: the status alone.
OF_THE_REQUEST = {
    400: Answer(400, "The request cannot be read."),
    401: Answer(401, "Sign in to use this."),
    403: Answer(403, "You do not have access to this."),
    404: MISSING,
    405: Answer(405, "This method cannot be used here."),
    409: Answer(409, "The request does not fit what is there."),
    413: Answer(413, "The request is too large."),
    415: Answer(415, "The request is of a kind that cannot be read."),
    422: Answer(422, "The request has values that cannot be used."),
    429: Answer(429, "There were too many requests."),
}
_MOST_OF_NEXT = 2000  # more than servers take of a URL that comes back
_MOST_OF_ACCEPT = 2048
_IN_A_PATH = "/-._~!$&'()*+,=:@"


@dataclass(frozen=True, slots=True)
class RefusedRequest:
    """What a refusal has to know of a request.

    Attributes:
        realm: the name of the policy, for the challenge (RFC 9110, section 11.5).
        as_json: whether a program asks, as `is_program` has it.
        target: path and query to come back to after a redirect, passed on as ``next``; None for none.
        invalid_token: why the token that was sent is not accepted, or None. A client that sends one is a program,
            so there is no redirect.
        scopes: what a token would have to name (RFC 6750, section 3.1); empty where that is not the matter.
        prefix: what a server or proxy puts before the application's paths, for redirects.
        vary: the headers that callers are identified by.
        challenge: what to come back with; None for a bearer token.
    """

    realm: str
    as_json: bool = False
    target: str | None = None
    invalid_token: str | None = None
    scopes: tuple[str, ...] = ()
    prefix: str = ""
    vary: tuple[str, ...] = VARY
    challenge: str | None = None


def response(answer: Answer, asked: RefusedRequest, page: Callable[[], str | bytes | None] = lambda: None) -> Response:
    """An answer as a response: problem details (RFC 9457) for programs, a page otherwise.

    A redirect is for pages; a program gets the status behind it.

    Args:
        answer: what to say.
        asked: what is known of the request.
        page: gives the HTML to show, or None for a small page of our own.
    """
    no_redirect = asked.as_json or asked.invalid_token is not None
    status = answer.otherwise if no_redirect and answer.otherwise is not None else answer.status
    message = answer.message
    if asked.invalid_token is not None and status == HTTPStatus.UNAUTHORIZED:
        message = f"{asked.invalid_token[0].upper()}{asked.invalid_token[1:]}. {message}"
    body = _problem(status, message) if asked.as_json else _page(status, message, page())
    headers = [
        ("content-type", "application/problem+json" if asked.as_json else "text/html; charset=utf-8"),
        ("content-length", str(len(body))),
        # What a caller gets depends on who it is and what it accepts, and must not be kept for others.
        ("cache-control", "no-store"),
        ("vary", ", ".join(("Accept", *asked.vary))),
    ]
    asks_for = asked.challenge
    if status != HTTPStatus.UNAUTHORIZED or asks_for is None:
        asks_for = challenge(status, asked.realm, asked.invalid_token, asked.scopes)
    if asks_for is not None:
        headers.append(("www-authenticate", asks_for))
    if status == HTTPStatus.SEE_OTHER and answer.location is not None:
        headers.append(("location", asked.prefix + quote(answer.location, safe=_IN_A_PATH) + _next(asked.target)))
    return Response(status, tuple(headers), body)


def _problem(status: int, message: str) -> bytes:
    """Problem details."""
    problem = {"type": "about:blank", "title": _title(status), "status": status, "detail": message}
    return json.dumps(problem).encode()


def _page(status: int, message: str, made: str | bytes | None) -> bytes:
    """A page: the one that the application has made, or a small one."""
    if made is None:
        made = _PAGE.format(title=html.escape(_title(status)), message=html.escape(message))
    return made.encode("utf-8", "replace") if isinstance(made, str) else made


def challenge(status: int, realm: str, invalid_token: str | None, scopes: tuple[str, ...]) -> str | None:
    """What to come back with: a token, or a better one (RFC 6750, section 3); None where that would not help."""
    if status != HTTPStatus.UNAUTHORIZED and not (scopes and status == HTTPStatus.FORBIDDEN):
        return None
    challenge = f'Bearer realm="{_quotable(realm)}"'
    if invalid_token is not None:
        challenge += f', error="invalid_token", error_description="{_quotable(invalid_token)}"'
    elif scopes:
        challenge += f', error="insufficient_scope", scope="{_quotable(" ".join(scopes))}"'
    return challenge


def _title(status: int) -> str:
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return "Refusal"


def _next(asked_for: str | None) -> str:
    """Where to come back to. Only a path of this very site: two slashes would lead to another one."""
    if asked_for is None or len(asked_for) > _MOST_OF_NEXT:
        return ""
    if not asked_for.startswith("/") or asked_for.startswith(("//", "/\\")):
        return ""
    return f"?next={quote(asked_for, safe='/')}"


_PAGE = """<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{title}</title>
<style>body {{ font: 1.1rem/1.5 system-ui, sans-serif; margin: 15vh auto; max-width: 34rem; padding: 0 1rem }}</style>
</head>
<body><h1>{title}</h1><p>{message}</p></body>
</html>
"""


@lru_cache(maxsize=256)
def varied(vary: str, names: tuple[str, ...] = VARY) -> str:
    """A ``Vary`` header with these names beside those it has; an empty string where it has them all."""
    there = [name.strip() for name in vary.split(",") if name.strip()]
    known = {name.lower() for name in there}
    more = [name for name in names if name.lower() not in known]
    return ", ".join([*there, *more]) if more and "*" not in known else ""


def caching(headers: Sequence[tuple[str, str]], names: tuple[str, ...] = VARY) -> list[tuple[str, str]]:
    """The headers to set, so that no cache gives a response with these to another caller.

    Args:
        headers: names in lower case, and values.
        names: the headers that callers are identified by.
    """
    there, says = "", False
    for name, value in headers:
        if name == "vary":
            there = f"{there}, {value}" if there else value
        elif name == "cache-control":
            says = True
    vary = varied(there, names)
    more = [("Vary", vary)] if vary else []
    if not says:
        more.append(("Cache-Control", PRIVATE))
    return more


def never_kept(headers: Sequence[tuple[str, str]], names: tuple[str, ...] = VARY) -> list[tuple[str, str]]:
    """The headers to set, so that no cache keeps a response with these at all, whatever the application has set."""
    vary = varied(_vary_of(headers), names)
    return [("Cache-Control", "no-store"), *([("Vary", vary)] if vary else [])]


def _vary_of(headers: Sequence[tuple[str, str]]) -> str:
    return ", ".join([value for name, value in headers if name == "vary"])


def is_program(request: Request, by_token: bool = False) -> bool:
    """Whether a program asks, which gets problem details, and not a person, who gets a page or a redirect.

    Args:
        request: the request.
        by_token: whether callers are identified by a token where it asks.
    """
    headers = request.headers
    # Browsers send less than two hundred characters.
    accept = ",".join(headers.getlist("accept"))[:_MOST_OF_ACCEPT]
    json_quality, html_quality = _qualities(accept)
    if json_quality != html_quality:
        return json_quality > html_quality
    if json_quality > 0:
        return False
    if by_token or "authorization" in headers:
        return True
    return _is_json(headers.get("content-type", "")[:_MOST_OF_ACCEPT].split(";")[0].strip().lower())


def _qualities(accept: str) -> tuple[float, float]:
    """How much an ``Accept`` header prefers JSON, and a page (RFC 9110, section 12.5.1)."""
    json_quality = html_quality = 0.0
    for part in accept.lower().split(","):
        kind, *parameters = (piece.strip() for piece in part.split(";"))
        quality = 1.0
        for parameter in parameters:
            if parameter.startswith("q="):
                quality = _quality(parameter[2:])
        if _is_json(kind):
            json_quality = max(json_quality, quality)
        elif kind in ("text/html", "application/xhtml+xml"):
            html_quality = max(html_quality, quality)
    return json_quality, html_quality


def _quality(text: str) -> float:
    try:
        quality = float(text)
    except ValueError:
        return 0.0
    return quality if 0 <= quality <= 1 else 0.0


def _is_json(kind: str) -> bool:
    return kind == "application/json" or (kind.startswith("application/") and kind.endswith("+json"))


def _quotable(text: str) -> str:
    """Text for a quoted string in a header (RFC 9110, section 5.6.4)."""
    return "".join(character for character in text if " " <= character <= "~" and character not in '"\\')
