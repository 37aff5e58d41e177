"""What becomes of a response on its way out, whatever driver brings it: whether it leaves, and who may keep it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from enum import Enum
from typing import TypeVar

from ..core.answers import Answer
from . import responses
from .enforcement import Enforcement
from .pipeline import Exchange

Headers = list[tuple[str, str]]

SomeExchange = TypeVar("SomeExchange", bound=Exchange)


def are_clear(dispatches: Sequence[Exchange]) -> bool:
    """Whether nothing speaks against a response: what was dispatched for it is cleared, as nearly always."""
    for dispatch in dispatches:
        if dispatch.refusing is None and not (dispatch.decided and dispatch.access.cleared):
            return False
    return bool(dispatches)


def withheld(dispatches: Iterable[SomeExchange], status: int) -> tuple[SomeExchange, Answer] | None:
    """What the caller gets instead of a response; None where it may leave.

    Args:
        dispatches: all that was dispatched for it. All of it must be cleared, or refused in its handler's place.
        status: its status.

    Returns:
        The first dispatch that it is withheld for, and the answer to that; one response goes in the place of them all.
    """
    refused: tuple[SomeExchange, Answer] | None = None
    for dispatch in dispatches:
        if dispatch.refusing is None and dispatch.decided:
            answer = dispatch.responded(status)
            if answer is not None:
                refused = refused or (dispatch, answer)
                dispatch.refuse(answer)
    return refused


class Keeping(Enum):
    """Who may keep a response."""

    ANYONE = "anyone"
    CALLER = "caller"
    NOBODY = "nobody"  # it looks as each response with its status does
    REFUSED = "refused"


def keeping(dispatches: Sequence[Exchange], status: int, *, streams: bool, sized: Callable[[], bool]) -> Keeping:
    """Write down that a response begins to leave; who may keep it.

    Args:
        dispatches: all that was dispatched for it; at least one.
        status: its status.
        streams: whether its body may still be made while it leaves.
        sized: says whether its length is known.
    """
    kept = Keeping.CALLER
    for dispatch in dispatches:
        if dispatch.refusing is not None:
            kept = Keeping.REFUSED
        elif dispatch.decided:
            # Each is to be asked: it is written down as well.
            private = dispatch.let_out(streams=streams, sized=sized)
            if not private and len(dispatches) == 1:
                kept = Keeping.ANYONE
    # A page that is missing and one that is hidden are not to be distinguished.
    hides = status == 404 and dispatches[0].policy.hides and not dispatches[0].observes
    return Keeping.NOBODY if hides else kept


def leaving(
    dispatches: Sequence[Exchange],
    status: int,
    headers: Sequence[tuple[str, str]],
    *,
    streams: bool,
    sized: Callable[[], bool],
) -> Headers:
    """The headers that a response is to have, in the place of others of the same name; see `keeping`.

    Args:
        headers: those that it has, with names in lower case.
    """
    found = keeping(dispatches, status, streams=streams, sized=sized)
    return [] if found is Keeping.ANYONE else headers_kept(found, status, headers, dispatches[0].enforcement)


def with_headers_kept(
    keeping: Keeping, status: int, headers: Sequence[tuple[str, str]], enforcement: Enforcement
) -> Headers:
    """The headers of a response with those that say who may keep it, in the place of others of the same name."""
    if keeping is Keeping.ANYONE:
        return list(headers)
    more = headers_kept(keeping, status, [(name.lower(), value) for name, value in headers], enforcement)
    names = {name.lower() for name, _ in more}
    return [*[header for header in headers if header[0].lower() not in names], *more]


def headers_kept(
    keeping: Keeping, status: int, headers: Sequence[tuple[str, str]], enforcement: Enforcement
) -> Headers:
    """The headers that say who may keep a response, in the place of others of the same name; see `leaving`."""
    if keeping is Keeping.NOBODY:
        return responses.never_kept(headers, enforcement.vary)
    if keeping is Keeping.CALLER:
        return responses.caching(headers, enforcement.vary)
    more = responses.never_kept(headers, ("Accept", *enforcement.vary))
    challenge = responses.challenge(status, enforcement.realm, None, ())
    if challenge is not None and all(name != "www-authenticate" for name, _ in headers):
        more.append(("WWW-Authenticate", challenge))
    return more
