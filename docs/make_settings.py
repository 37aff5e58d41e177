"""python docs/make_settings.py: write the tables of docs/settings.md, every key with what it says, from the code."""

from __future__ import annotations

import re
from pathlib import Path

from bloodroot.settings.known_keys import described

PAGE = Path(__file__).parent / "settings.md"
_PART = re.compile(r"(?ms)^(#{2,3}) ([^\n]+)\n(.*?)(?=^#{2,3} |\Z)")
_TABLE = re.compile(r"(?m)^\| key \|.*\n(?:\|.*\n)+")


def heading(section: str) -> str:
    """The heading of a section of the settings."""
    name = section.removesuffix(".NAME") if section in ("samples.NAME", "bodies.NAME") else section
    return "The project" if section == "project" else f"`[{name}]`"


def text() -> str:
    """The page as it is to be."""
    tables = {heading(section): table for section, table in described().items()}
    written = PAGE.read_text("utf-8")
    return _PART.sub(
        lambda part: _TABLE.sub(lambda _: f"{tables[part[2]]}\n", part[0]) if part[2] in tables else part[0], written
    )


if __name__ == "__main__":
    PAGE.write_text(text(), "utf-8")
