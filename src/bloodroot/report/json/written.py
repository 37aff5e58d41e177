"""JSON text: one contract for all results. ``format`` is the number of it."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator
from typing import Any

FORMAT = 1
_INDENT = "  "
_UNSEEN = re.compile("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")


def written(result: str, **data: Any) -> Iterator[str]:
    """A result of this name, as pieces of JSON text.

    Lists that come as iterators are written as they are made, an item a line: they may be long.
    """
    yield "{"
    separator = "\n"
    for key, value in {"format": FORMAT, "result": result, **data}.items():
        yield f"{separator}{_INDENT}{json.dumps(key)}: "
        if isinstance(value, Iterator):
            yield from _list(value)
        else:
            yield _text(value, indent=2).replace("\n", f"\n{_INDENT}")
        separator = ",\n"
    yield "\n}\n"


def _list(items: Iterator[Any]) -> Iterator[str]:
    separator = "["
    for item in items:
        yield f"{separator}\n{_INDENT * 2}{_text(item)}"
        separator = ","
    yield "[]" if separator == "[" else f"\n{_INDENT}]"


def _text(value: Any, indent: int | None = None) -> str:
    try:
        text = json.dumps(value, indent=indent, ensure_ascii=False, allow_nan=False, default=str)
    except ValueError:
        # Claims and attributes may hold numbers that JSON has no word for.
        text = json.dumps(_finite(value), indent=indent, ensure_ascii=False, allow_nan=False, default=str)
    # JSON leaves these as they are; a terminal may take them for commands, and people do not see them.
    return _UNSEEN.sub(_escaped, text)


def _escaped(match: re.Match[str]) -> str:
    return f"\\u{ord(match[0]):04x}"


def _finite(value: Any) -> Any:
    """A value with strings in the place of infinite numbers and NaN."""
    if isinstance(value, dict):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(item) for item in value]
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value
