"""What a response looks like, in short: enough to compare two of them, and nothing that could be read again."""

from __future__ import annotations

import hashlib
import re
import zlib
from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import httpx

_TAGS = re.compile(r"<(script|style)\b.*?</\1>|<[^>]*>", re.S | re.I)
_WORD = re.compile(r"\w{4,}")
_LONGEST = 200_000  # characters of a page that are compared
_MOST = 400  # words of a page that are compared
# Headers that differ from one response to the next, or say how long it is.
_OWN = {"date", "content-length", "set-cookie", "server", "age", "x-request-id", "x-runtime", "server-timing"}


def _is_of_record(header: str) -> bool:
    """Whether a header may say something of a record, and not only of how a response is sent."""
    if header in _OWN or header in ("x-frame-options", "x-content-type-options", "x-xss-protection", "x-powered-by"):
        return False
    return header.startswith("x-") or header in ("etag", "last-modified", "content-disposition", "link", "location")


def words_of(response: httpx.Response) -> tuple[int, ...]:
    """A number for each word that a response shows, in its body and in its headers; the smallest of them, in order."""
    said = [value for name, value in response.headers.items() if _is_of_record(name.lower())]
    parts: set[int] = set()
    if b"\0" in response.content[:_LONGEST]:
        parts = _parts_of(response.content)
    else:
        text = response.text[:_LONGEST]
        said.append(_TAGS.sub(" ", text) if "<" in text else text)
    found = {zlib.crc32(word.encode()) for text in said for word in _WORD.findall(text)}
    return tuple(sorted(parts | found)[:_MOST])


def _parts_of(content: bytes) -> set[int]:
    """Three numbers for a picture, or another file that is no text: as much as a few words of a page."""
    return {zlib.crc32(content, number) for number in range(3)}


def look_of(response: httpx.Response, values: Iterable[str]) -> str:
    """A number that two responses share which look alike, whatever the values of the path are.

    Args:
        response: the response.
        values: the parameters of the path.
    """
    lines = [f"{name.lower()}: {value}" for name, value in response.headers.multi_items() if name.lower() not in _OWN]
    text = "\n".join([str(response.status_code), *sorted(lines), response.text[:_LONGEST]])
    for value in sorted(filter(None, values), key=len, reverse=True):
        text = re.sub(rf"(?<!\w){re.escape(value)}(?!\w)", "*", text)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:16]


def is_shown_in(page: Iterable[int], refusal: Iterable[int], elsewhere: Iterable[int]) -> bool:
    """Whether a refusal shows much of what a page shows and nothing else does.

    Args:
        page: the words of the page, as those see it who may.
        refusal: the words of the refusal.
        elsewhere: words that are not particular to the page: those of other pages and refusals.
    """
    own = set(page) - set(elsewhere)
    return len(own) > 2 and 2 * len(own & set(refusal)) >= len(own)


def says_more(hidden: Iterable[int], missing: tuple[Iterable[int], Iterable[int]]) -> bool:
    """Whether a hidden page says something that the pages of missing records do not.

    Args:
        hidden: its words.
        missing: the words of two such pages; what differs between them is of no meaning.
    """
    one, other = map(set, missing)
    return len(set(hidden) - one - other) > max(len(one - other), len(other - one))
