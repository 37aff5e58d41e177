"""The keys of a settings file, as `known_keys.toml` declares them, for reading and for docs/settings.md."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any


@dataclass(frozen=True, slots=True)
class Key:
    """One key of a table.

    Attributes:
        says: what it says, as Markdown.
        default: its value where it is left out; None for none.
        needs: in words, where it may not be left out; empty where it may.
        of: of tables that come in kinds, those that have it; empty for all.
    """

    says: str
    default: Any = None
    needs: str = ""
    of: tuple[str, ...] = ()


Keys = Mapping[str, Key]


def keys_of(section: str) -> Keys:
    """The keys of a section, by name: ``project`` for the file itself, ``probe.fields.KIND`` and so on."""
    return _sections()[section]


@cache
def _sections() -> dict[str, Keys]:
    declared = tomllib.loads(Path(__file__).with_suffix(".toml").read_text("utf-8"))
    return {
        section: {name: Key(**{**values, "of": tuple(values.get("of", ()))}) for name, values in keys.items()}
        for section, keys in declared.items()
    }


def described() -> dict[str, str]:
    """Each section as a table of Markdown, by its name."""
    return {section: _table(keys) for section, keys in _sections().items()}


def _table(keys: Keys) -> str:
    in_kinds = any(key.of for key in keys.values())
    rows = [["key", "default", *(["of"] if in_kinds else []), "what it says"]]
    rows.append(["---"] * len(rows[0]))
    for name, key in keys.items():
        default = key.needs or (f"`{_toml(key.default)}`" if key.default is not None else "")
        rows.append([f"`{name}`", default, *([", ".join(key.of) or "all"] if in_kinds else []), key.says])
    return "\n".join(f"| {' | '.join(row)} |".replace("| --- ", "|---").replace("|  |", "| |") for row in rows)


def _toml(value: Any) -> str:
    """A default as a settings file writes it."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    return "{}" if value == {} else f'"{value}"' if isinstance(value, str) else str(value)
