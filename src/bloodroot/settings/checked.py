"""Values of a settings file, checked one by one. What is wrong is reported with the line that it is most likely on."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from ..core.paths import Template, TemplateError, parse_template
from ..language.problems import suggestion

ASKED = re.compile(r"\{(env|persona)\.([^{}]*)\}")


class SettingsError(Exception):
    """Settings that cannot be used. The message names the file, the key and the way out."""


class Checked:
    """A settings file whose values are looked at one by one."""

    def __init__(self, file: Path, text: str) -> None:
        self.file = file
        self.lines = text.splitlines()
        self.asked = {name for root, name in ASKED.findall(text) if root == "persona"}

    def fail(self, where: str, message: str) -> SettingsError:
        key = where.rsplit(".", 1)[-1].strip('"')
        pattern = re.compile(rf'^\s*(?:\[+[^\]]*\b)?"?{re.escape(key)}"?\s*[\]=.]')
        number = next((number for number, line in enumerate(self.lines, 1) if pattern.match(line)), None)
        place = f"{self.file.name}:{number}" if number else self.file.name
        return SettingsError(f"{place}: {where}: {message}")

    def check_keys(self, where: str, table: dict[str, Any], known: tuple[str, ...]) -> None:
        for key in table:
            if key not in known:
                guess = suggestion(key, known) or f"; known are {', '.join(known)}"
                raise self.fail(f"{where}.{key}".strip("."), f"unknown key{guess}")

    def table(self, where: str, value: Any) -> dict[str, Any]:
        if not isinstance(value, dict):
            raise self.fail(where, "this must be a table")
        return value

    def text(self, where: str, value: Any, default: str | None) -> str | None:
        if value is None:
            return default
        if not isinstance(value, str) or not value:
            raise self.fail(where, "this must be a text")
        return value

    def texts(self, where: str, value: Any) -> tuple[str, ...]:
        if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
            raise self.fail(where, 'this must be a list of names, such as ["curator"]')
        return tuple(value)

    def value(self, where: str, value: Any) -> str:
        """A text or a number, as text."""
        if isinstance(value, bool) or not isinstance(value, str | int | float):
            raise self.fail(where, "this must be a text or a number")
        return str(value)

    def flag(self, where: str, value: Any) -> bool:
        """True or false."""
        if not isinstance(value, bool):
            raise self.fail(where, "this must be true or false")
        return value

    def number(self, where: str, value: Any, *, least: float, most: float, unit: str) -> float:
        """A number within limits."""
        if isinstance(value, bool) or not isinstance(value, int | float) or not least <= value <= most:
            raise self.fail(where, f"this must be a number of {unit} from {least:g} to {most:g}")
        return value

    def choice(self, where: str, value: Any, known: tuple[str, ...]) -> str:
        """One of several words."""
        if value not in known:
            raise self.fail(where, f"this must be one of {', '.join(known)}{suggestion(str(value), known)}")
        return str(value)

    def template(self, where: str, value: Any) -> Template | None:
        """A path template, or None where nothing is said."""
        text = self.text(where, value, None)
        try:
            return parse_template(text) if text is not None else None
        except TemplateError as error:
            raise self.fail(where, str(error)) from None
