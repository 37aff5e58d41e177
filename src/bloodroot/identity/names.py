"""Names out of whatever shape they come in: a list, one string, a map of what is held. Exact names, never parts."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

_OFTEN_BETWEEN = ",; |"
# What is trimmed from names. Other characters that look like blanks are part of a name, and make it another one.
BLANKS = " \t\n\r\x0b\x0c"


_NULL, _EMPTY, _EMPTY_LIST = "is null", "is empty", "is an empty list"
_NOTHING_TRUE = "is a map in which nothing is true"
# What says that there are no names, and not that they cannot be read.
NO_NAMES = frozenset({_NULL, _EMPTY, _EMPTY_LIST, _NOTHING_TRUE})


class NamesRead(NamedTuple):
    """What was read.

    Attributes:
        names: the names in their order, each once.
        notes: what could not be read, in words that go on from "it is".
    """

    names: list[str]
    notes: list[str]


def names_in(value: Any, separator: str | None) -> NamesRead:
    """The names that a value holds.

    Args:
        value: a list of names, one string, or a map of names to true and false, or to 1 and 0.
        separator: what is between names in one string; None where a string is one name.
    """
    if value is None:
        return NamesRead([], [_NULL])
    if isinstance(value, str):
        return _in_text(value, separator)
    if isinstance(value, Mapping):
        return _in_map(value)
    if isinstance(value, list | tuple | set | frozenset):
        return _in_list(value)
    return NamesRead([], [f"is {shown(value)}, and not a list of names or a string"])


def _in_text(value: str, separator: str | None) -> NamesRead:
    if not value.strip(BLANKS):
        return NamesRead([], [_EMPTY])
    if separator is not None and not (separator == "," and is_distinguished_name(value)):
        pieces = re.split(f"[{BLANKS}]+", value) if separator == " " else value.split(separator)
        pieces = [piece.strip(BLANKS) for piece in pieces]
        names = list(dict.fromkeys(piece for piece in pieces if piece))
        return NamesRead(names, [] if names else [f"is {shown(value)}, in which there is no name"])
    between = next((sign for sign in _OFTEN_BETWEEN if sign in value.strip(BLANKS)), None)
    if between is not None and not is_distinguished_name(value):
        note = f'is one string, {shown(value)}; if it holds several names, write separator = "{between}"'
        return NamesRead([value.strip(BLANKS)], [note])
    return NamesRead([value.strip(BLANKS)], [])


_RELATIVE_NAME = r"\s*(?:[A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)*)\s*=(?:[^,\\]|\\.)*"
_DISTINGUISHED_NAME = re.compile(f"{_RELATIVE_NAME}(?:,{_RELATIVE_NAME})*", re.S)


def is_distinguished_name(text: str) -> bool:
    """Whether text is the distinguished name of a directory (RFC 4514), in which commas are part of one name."""
    return _DISTINGUISHED_NAME.fullmatch(text) is not None


def _in_list(value: Any) -> NamesRead:
    # Each is a name as it is written: "curator " is another name than "curator".
    names = list(dict.fromkeys(name for name in value if isinstance(name, str) and name.strip(BLANKS)))
    others = [name for name in value if not isinstance(name, str) or not name.strip(BLANKS)]
    if not value:
        return NamesRead([], [_EMPTY_LIST])
    return NamesRead(names, [f"holds {shown(other)}, which is no name" for other in others[:3]])


def _in_map(value: Mapping[Any, Any]) -> NamesRead:
    others = [name for name, held in value.items() if _yes(held) is None]
    if others:
        note = f"is a map in which {shown(others[0])} is {shown(value[others[0]])}, and not true or false"
        return NamesRead([], [note])
    names = [str(name) for name, held in value.items() if _yes(held)]
    return NamesRead(names, [] if names else [_NOTHING_TRUE])


def _yes(held: Any) -> bool | None:
    """Whether a map says yes of a name: true and 1 do, false and 0 do not; None for everything else."""
    if isinstance(held, bool):
        return held
    return bool(held) if isinstance(held, int) and held in (0, 1) else None


def names_in_cell(value: Any, separator: str | None) -> NamesRead:
    """The names that a cell of a table holds, as `names_in`; a string that begins as JSON does is read as JSON."""
    try:
        return names_in(_cell(value), separator)
    except (ValueError, RecursionError):
        return NamesRead([], [f"begins like JSON, and is not valid JSON: {shown(value)}"])


def _cell(value: Any) -> Any:
    if isinstance(value, str) and value.lstrip()[:1] in ("{", "["):
        return json.loads(value)
    return value


def permissions_in(value: Any, separator: str | None) -> NamesRead:
    """The permissions that a cell of a table holds, as `names_in`; maps may be of things to verbs.

    Text that begins as JSON does is read as JSON. ``{"trial": ["read", "edit"]}``, ``{"trial": {"read": true}}`` and
    ``{"trial:read": true}`` all give ``trial:read``.
    """
    try:
        value = _cell(value)
    except (ValueError, RecursionError):
        return names_in_cell(value, separator)
    if not isinstance(value, Mapping):
        return names_in(value, separator)
    names: list[str] = []
    notes: list[str] = []
    for thing, held in value.items():
        yes = _yes(held)
        if yes:
            names.append(str(thing))
        elif yes is None and held is not None:
            verbs, wrong = names_in(held, None)
            names += [f"{thing}:{verb}" for verb in verbs]
            notes += [f"has {shown(thing)}, which {name}" for name in wrong]
    return NamesRead(list(dict.fromkeys(names)), notes)


def translated(names: list[str], drop_prefix: str, others: Mapping[str, str]) -> Iterator[tuple[str, str | None]]:
    """Each name as it came, and what it is called in the policy; None for one of another application.

    A name is looked up as it came, then without its prefix. Where a prefix is dropped, a name that lacks it and is
    not looked up belongs to another application.
    """
    for name in names:
        if name in others:
            yield name, others[name]
        elif name.startswith(drop_prefix):
            rest = name[len(drop_prefix) :]
            yield name, others.get(rest, rest) or None
        else:
            yield name, None


def shown(value: Any) -> str:
    """A value as messages show it: JSON, cut short."""
    try:
        text = json.dumps(value, ensure_ascii=False, default=str)
    except (TypeError, ValueError, RecursionError):
        text = f"a value of the type {type(value).__name__}"
    return text if len(text) <= 60 else f"{text[:57]}..."
