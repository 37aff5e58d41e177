"""Values of a settings file, checked one by one. Every mistake is kept, with its line, and reading goes on."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from ..core.paths import Template, TemplateError, parse_template
from ..language.errors import BloodrootError
from ..language.problems import suggestion
from .known_keys import Keys, keys_of
from .places import KeyPath, line_of, places_of

ASKED = re.compile(r"\{(env|persona)\.([^{}]*)\}")
ENVIRONMENT = re.compile(r"\{(env)\.([^{}]*)\}")
_BARE = re.compile(r"[A-Za-z0-9_-]+")


class SettingsError(BloodrootError):
    """Settings that cannot be used. The message names the file, the key and the way out of every mistake.

    Attributes:
        problems: a sentence for each mistake.
    """

    def __init__(self, *problems: str) -> None:
        self.problems = problems
        super().__init__("\n".join(problems))


class Checked:
    """A settings file and the mistakes found in it.

    Attributes:
        file: the file.
        places: the line of each key.
        asked: what ``{persona.NAME}`` refers to anywhere in the file.
    """

    def __init__(self, file: Path, text: str, root: KeyPath = ()) -> None:
        self.file = file
        self.root = root
        self.places = places_of(text)
        self.asked = {name for asked, name in ASKED.findall(text) if asked == "persona"}
        self._problems: list[tuple[int, str]] = []

    def problem(self, path: KeyPath, message: str) -> None:
        """Keep a mistake."""
        line = line_of((*self.root, *path), self.places)
        place = f"{self.file.name}:{line}" if line is not None else self.file.name
        what = f"{in_words(path)}: " if path else ""
        self._problems.append((line or 0, f"{place}: {what}{message}"))

    def finish(self) -> None:
        """See that there are no mistakes.

        Raises:
            SettingsError: with every mistake, in the order of the file.
        """
        if self._problems:
            raise SettingsError(*dict.fromkeys(message for _, message in sorted(self._problems)))


class SettingsTable:
    """A table of the settings. A value that cannot be used is kept as a mistake, and read as if it were not there.

    Args:
        checked: the file.
        path: where the table is.
        values: its keys and values.
        section: the section of `keys` that declares its keys; None for a table whose keys are names.
    """

    def __init__(self, checked: Checked, path: KeyPath, values: dict[str, Any], section: str | None = None) -> None:
        self.checked = checked
        self.path = path
        self.values = values
        self.keys: Keys = keys_of(section) if section is not None else {}

    def __contains__(self, key: str) -> bool:
        return key in self.values

    def problem(self, key: str | None, message: str) -> None:
        """Keep a mistake in a key, or in the table as a whole."""
        self.checked.problem((*self.path, *([key] if key is not None else [])), message)

    def known(self) -> None:
        """Keep every key that is not declared as a mistake."""
        for key in self.values:
            if key not in self.keys:
                guess = suggestion(key, self.keys) or f"; known are {', '.join(self.keys)}"
                self.problem(key, f"unknown key{guess}")

    def known_of(self, kind: str, chosen_by: str) -> None:
        """Keep every key that does not belong to a kind of table as a mistake.

        Args:
            kind: the kind that it is.
            chosen_by: the key that says so.
        """
        for key in self.values:
            of = self.keys[key].of if key in self.keys else ()
            if of and kind not in of:
                others = " or ".join(f'{chosen_by} = "{other}"' for other in of)
                self.problem(key, f'this belongs to {others}, and here {chosen_by} = "{kind}"')
        keys = {name: key for name, key in self.keys.items() if not key.of or kind in key.of}
        for key in self.values:
            if key not in self.keys:
                guess = suggestion(key, keys) or f"; known are {', '.join(keys)}"
                self.problem(key, f"unknown key{guess}")

    def _default(self, key: str) -> Any:
        return self.keys[key].default if key in self.keys else None

    def text(self, key: str) -> str | None:
        """A string."""
        default: str | None = self._default(key)
        value = self.values.get(key)
        if value is None:
            return default
        if isinstance(value, str) and value:
            return value
        self.problem(key, "this must be a string")
        return default

    def names(self, key: str) -> tuple[str, ...]:
        """A list of names."""
        default = self._default(key) or []
        value = self.values.get(key, default)
        if isinstance(value, list) and all(isinstance(item, str) for item in value):
            return tuple(value)
        self.problem(key, 'this must be a list of names, such as ["curator"]')
        return tuple(default)

    def texts(self, key: str) -> tuple[str, ...]:
        """A string, or a list of them."""
        value = self.values.get(key, [])
        several = [value] if isinstance(value, str) else value
        if isinstance(several, list) and all(isinstance(item, str) and item for item in several):
            return tuple(several)
        self.problem(key, "this must be a string, or a list of strings")
        return ()

    def value(self, key: str) -> str:
        """A string or a number, as a string."""
        value = self.values[key]
        if isinstance(value, str | int | float) and not isinstance(value, bool):
            return str(value)
        self.problem(key, "this must be a string or a number")
        return ""

    def each_value(self) -> dict[str, str]:
        """Every key with its string or number, as a string."""
        return {key: self.value(key) for key in self.values}

    def flag(self, key: str) -> bool:
        """True or false."""
        default = bool(self._default(key))
        value = self.values.get(key, default)
        if isinstance(value, bool):
            return value
        self.problem(key, "this must be true or false")
        return default

    def number(self, key: str, *, least: float, most: float, unit: str) -> float:
        """A number within limits."""
        default: float = self._default(key) or 0
        value = self.values.get(key, default)
        if isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most:
            return value
        self.problem(key, f"this must be a number of {unit} from {least:g} to {most:g}")
        return default

    def choice(self, key: str, choices: tuple[str, ...]) -> str | None:
        """One of several words; None for another or none at all, which is a mistake."""
        value = self.values.get(key)
        if value in choices:
            return str(value)
        guess = suggestion(value, choices) if isinstance(value, str) else ""
        self.problem(key, f"this must be one of {', '.join(choices)}{guess}")
        return None

    def template(self, key: str) -> Template | None:
        """A path template."""
        text = self.text(key)
        try:
            return parse_template(text) if text is not None else None
        except TemplateError as error:
            self.problem(key, str(error))
            return None

    def file(self, key: str) -> Path | None:
        """A file, named from the folder of the settings."""
        text = self.text(key)
        return self.checked.file.parent / text if text is not None else None

    def table(self, key: str, section: str | None = None) -> SettingsTable:
        """A table within; an empty one where there is none."""
        value = self.values.get(key, {})
        if not isinstance(value, dict):
            self.problem(key, "this must be a table")
            value = {}
        return SettingsTable(self.checked, (*self.path, key), value, section)

    def each_table(self, section: str | None = None) -> dict[str, SettingsTable]:
        """Every key with its table."""
        return {key: self.table(key, section) for key in self.values}

    def tables(self, key: str, section: str | None = None) -> list[SettingsTable]:
        """One table, or an array of them."""
        value = self.values.get(key, [])
        if isinstance(value, dict):
            return [SettingsTable(self.checked, (*self.path, key), value, section)]
        if isinstance(value, list) and all(isinstance(item, dict) for item in value):
            return [
                SettingsTable(self.checked, (*self.path, key, number), item, section)
                for number, item in enumerate(value)
            ]
        self.problem(key, f"this must be a table, or several with [[{in_words((*self.path, key))}]]")
        return []


def in_words(path: KeyPath) -> str:
    """A key as the file writes it. The number of a table in an array is left out: the line says which one it is."""
    names = [name for name in path if isinstance(name, str)]
    return ".".join(name if _BARE.fullmatch(name) else f'"{name}"' for name in names)
