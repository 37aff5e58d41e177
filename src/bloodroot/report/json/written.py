"""JSON text: one contract for all results. ``format`` is the number of it."""

from __future__ import annotations

import json
import math
import re
from typing import Any

FORMAT = 1
_UNSEEN = re.compile("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")


def written(result: str, **data: Any) -> str:
    """A result of this name, as JSON."""
    whole = {"format": FORMAT, "result": result, **data}
    try:
        text = json.dumps(whole, indent=2, ensure_ascii=False, allow_nan=False, default=str)
    except ValueError:
        # Claims and attributes may hold numbers that JSON has no word for.
        text = json.dumps(_finite(whole), indent=2, ensure_ascii=False, allow_nan=False, default=str)
    # JSON leaves these as they are; a terminal may take them for commands, and people do not see them.
    return _UNSEEN.sub(_escaped, text) + "\n"


def _escaped(found: re.Match[str]) -> str:
    return f"\\u{ord(found[0]):04x}"


def _finite(value: Any) -> Any:
    """A value with strings in the place of infinite numbers and NaN."""
    if isinstance(value, dict):
        return {key: _finite(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(each) for each in value]
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value
