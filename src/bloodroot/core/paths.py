"""Path templates and the reading of request paths."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from enum import Enum
from functools import lru_cache
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote_to_bytes

from ..language.errors import BloodrootError
from .methods import COMMON

if TYPE_CHECKING:
    from collections.abc import Mapping

DEEPEST = 100  # segments in a template; the search goes one call deeper for each
_NAME = re.compile(r"[^\W\d][\w-]*")
_PIECE = re.compile(r"\{([^{}]*)\}")
# Nearly all paths have no other signs: nothing to decode, nothing that could be read two ways.
_PLAIN = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&'()*+,=:@/"
_TWO_WAYS = re.compile(r"[/\\;\x00-\x1f\x7f-\x9f]").search
_NOT_IN_TEMPLATES = re.compile(r"[?#%;\\ ]").search
_UNFIT = {"?": "a query", "#": "a fragment", "%": "a percent-encoding", ";": "a ;", "\\": "a backslash", " ": "a space"}
_COMMON = frozenset(COMMON)
_METHOD = re.compile(r"[A-Z0-9!#$%&'*+.^_`|~-]+").fullmatch
_BAD_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})").search


class TemplateError(BloodrootError, ValueError):
    """A path template that cannot be used; the message says why."""


class Wild(Enum):
    """A wildcard: any one segment, or the rest of the path."""

    STAR = "*"
    REST = "**"


STAR, REST = Wild.STAR, Wild.REST


@dataclass(frozen=True, slots=True)
class Parameter:
    """A segment with a name in it, and perhaps literal text before and after: ``{name}``, ``v{number}.json``."""

    name: str
    before: str = ""
    after: str = ""
    bare: bool = field(init=False, compare=False, repr=False)  # whether there is no text around the name

    def __post_init__(self) -> None:
        object.__setattr__(self, "bare", not self.before and not self.after)

    def matches(self, value: str) -> bool:
        """Whether one decoded segment of a request path fits."""
        if self.bare:
            return True
        before, after = self.before, self.after
        return len(value) > len(before) + len(after) and value.startswith(before) and value.endswith(after)

    def value(self, text: str) -> str:
        """What the parameter is in a segment that fits."""
        return text[len(self.before) : len(text) - len(self.after)]

    def __str__(self) -> str:
        return f"{self.before}{{{self.name}}}{self.after}"


# A literal segment is its own text.
Segment = str | Parameter | Wild


def fits(part: Segment, value: str) -> bool:
    """Whether one decoded segment of a request path fits a segment of a template."""
    if isinstance(part, str):
        return part == value
    return part.matches(value) if isinstance(part, Parameter) else True


@dataclass(slots=True)
class Template:
    """A path template: ``/accessions/{accession_id}``. Never changed once made; freezing would double what it costs."""

    text: str
    segments: tuple[Segment, ...]
    names: tuple[str, ...]

    @property
    def area(self) -> str:
        """The first segment, which people read as the part of the application that the path belongs to."""
        first = self.segments[0] if self.segments else None
        return f"/{first}" if isinstance(first, str) else "/"

    def covers(self, segments: list[str]) -> bool:
        """Whether a request path, read into its segments, matches this template."""
        for place, part in enumerate(self.segments):
            if part is REST:
                return True
            if place == len(segments) or not fits(part, segments[place]):
                return False
        return len(self.segments) == len(segments)

    def values(self, segments: list[str]) -> dict[str, str]:
        """The parameters in a request path that this template matches."""
        return {
            part.name: part.value(segments[place])
            for place, part in enumerate(self.segments)
            if isinstance(part, Parameter)
        }

    def fill(self, values: Mapping[str, str]) -> str:
        """A path with every parameter replaced; ``*`` and ``**`` become an ``x``.

        Raises:
            KeyError: a parameter has no value.
        """
        parts = []
        for part in self.segments:
            if isinstance(part, Parameter):
                value = values[part.name]
                parts.append(part.before + (value if _is_word(value) else quote(value, safe="")) + part.after)
            else:
                parts.append(encoded_segment(part) if isinstance(part, str) else "x")
        return "/" + "/".join(parts)


def encoded_segment(segment: str) -> str:
    """A segment as a client sends it (RFC 3986, section 3.3)."""
    return segment if _is_word(segment) else quote(segment, safe="-._~!$&'()*+,=:@")


def _is_word(text: str) -> bool:
    """Whether a text is of letters and digits alone, so that there is nothing to encode."""
    return text.isascii() and text.isalnum()


def parse_template(text: str) -> Template:
    """Read a path template.

    Raises:
        TemplateError: with what is wrong and how to write it.
    """
    if not text.startswith("/"):
        raise TemplateError("a path begins with /")
    if not text.isprintable():
        unseen = next(character for character in text if not character.isprintable())
        raise TemplateError(f"a path template has no place for the invisible character U+{ord(unseen):04X}")
    unfit = _NOT_IN_TEMPLATES(text)
    if unfit:
        character = _UNFIT[unfit[0]]
        raise TemplateError(f"a path template has no place for {character}; write the path alone, as plain text")
    body = text[1:-1] if text.endswith("/") else text[1:]
    parts = body.split("/") if body else []
    if len(parts) > DEEPEST:
        raise TemplateError(f"a path has at most {DEEPEST} segments")
    segments = tuple([part if part.isalnum() else _segment(part) for part in parts])
    if "*" in text and REST in segments[:-1]:
        raise TemplateError("** can only be the last segment")
    names = tuple([part.name for part in segments if isinstance(part, Parameter)]) if "{" in text else ()
    if len(names) > 1 and len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise TemplateError(f"the name {{{twice}}} is in this path twice")
    return Template(text, segments, names)


@lru_cache(maxsize=4096)
def _segment(part: str) -> Segment:
    """One segment of a template, from its text."""
    if part == "":
        raise TemplateError("a path has no empty segment; write one / between segments")
    if part in (".", ".."):
        raise TemplateError("a path has no . or .. segment")
    if part == "*":
        return STAR
    if part == "**":
        return REST
    if "*" in part:
        raise TemplateError(
            f'"{part}" mixes * with text; * and ** are whole segments, and {{name}} takes text around it'
        )
    pieces = _PIECE.findall(part)
    if len(pieces) > 1:
        raise TemplateError(f'"{part}" has more than one {{name}}; a segment has room for one')
    before, after = part.split("{" + pieces[0] + "}", 1) if pieces else (part, "")
    if not {"{", "}"}.isdisjoint(before + after):
        raise TemplateError(f'a brace in "{part}" has no partner; a parameter is written {{name}}')
    if not pieces:
        return part
    if not _NAME.fullmatch(pieces[0]):
        raise TemplateError(f'"{pieces[0]}" cannot name a parameter; names are letters, digits, - and _')
    return Parameter(pieces[0], before, after)


def is_method(text: str) -> bool:
    """Whether a string is a request method: a token in capitals (RFC 9110, sections 5.6.2 and 9.1)."""
    return text in _COMMON or _METHOD(text) is not None


_LONGEST = 16_384


def read_plain(path: str) -> list[str] | None:
    """The segments of a path that has nothing to decode and is read in one way, as nearly all are; None of another."""
    # A sign beyond ASCII becomes "?", which is not plain.
    odd = path.encode("ascii", "replace").translate(None, _PLAIN)
    if not odd and "/." not in path and "//" not in path and len(path) <= _LONGEST:
        segments = path.split("/")
        if not segments.pop(0) and segments:
            if not segments[-1]:
                segments.pop()
            return segments
    return None


def read_path(path: str) -> list[str] | None:
    """The decoded segments of a request path, or None where it could be read in two ways.

    One percent-decoding for each segment (RFC 3986, section 2.4). Refused are an empty inner segment, a dot
    segment, an encoded slash or backslash, a ``;``, a control character, bytes that are not UTF-8, and more than
    16,384 characters, of which servers read different parts. One trailing slash does not count.
    """
    segments = read_plain(path)
    if segments is not None or len(path) > _LONGEST:
        return segments
    if not path.startswith("/") or "?" in path or "#" in path or _BAD_PERCENT(path):
        return None
    read = []
    for segment in (path[1:-1] if path.endswith("/") else path[1:]).split("/"):
        if segment == "":
            return None
        try:
            text = unquote_to_bytes(segment).decode("utf-8") if "%" in segment else segment
            text.encode("utf-8")
        except UnicodeError:
            return None
        if text in (".", "..") or _TWO_WAYS(text):
            return None
        read.append(text)
    return read


def unnamed_segments(template: Template, exact: bool) -> list[str]:
    """Segments of a request that a template covers, with values that no other template can name.

    Args:
        template: the template.
        exact: whether it covers no more than the requests it is made for. Then the rest of a path (``**``) is as deep
            as it can be, which only what covers every depth covers; else it is one segment.
    """
    rest = DEEPEST if exact else 1
    return [text for part in template.segments for text in _unnamed(part, rest)]


def _unnamed(part: str | Parameter | Wild, rest: int) -> tuple[str, ...]:
    if isinstance(part, Parameter):
        return (f"{part.before}\0{part.after}",)
    return (part,) if isinstance(part, str) else ("\0",) * (rest if part is REST else 1)


def by_text(part: Parameter) -> tuple[int, int, str, str]:
    """More text around a name is more specific; what is left of a tie must not hang on the order of lines."""
    return -len(part.before + part.after), -len(part.before), part.before, part.after


def specificity(template: Template, *, exact: bool = False) -> tuple[tuple[int, int, int, str, str], ...]:
    """A key by which templates that match the same path sort, the most specific first.

    With ``exact`` literal text counts, so that equal keys are equal shapes.
    """
    key = []
    for part in template.segments:
        if isinstance(part, str):
            key.append((0, 0, 0, part if exact else "", ""))
        elif isinstance(part, Parameter):
            key.append((2 if part.bare else 1, *by_text(part)))
        else:
            key.append((3 if part is STAR else 4, 0, 0, "", ""))
    return tuple(key)


def overlap(pattern: Template, template: Template) -> bool | None:
    """Whether a pattern matches every path of a template (True), some of them (None) or none (False)."""
    certain = True
    for place, part in enumerate(pattern.segments):
        if part is REST:
            return certain or None
        if place == len(template.segments):
            return False
        other = template.segments[place]
        if other is REST:
            return None
        if part is STAR or (isinstance(part, Parameter) and part.bare):
            continue
        if isinstance(other, str):
            if not fits(part, other):
                return False
        elif not (isinstance(other, Parameter) and isinstance(part, Parameter) and by_text(part) == by_text(other)):
            certain = False
    if len(template.segments) == len(pattern.segments):
        return certain or None
    # What is left of the template may be `**`, which covers no segment as well.
    return None if template.segments[len(pattern.segments) :] == (REST,) else False
