"""Results as people and programs read them: one module a format, over results that are plain data.

Each module of a format has ``REPORTS``, which maps the type of a result to the function that writes it. The table gives
what `rich` prints on a console, or a string to be shown as it is; every other format gives the text of a file, and
pictures its bytes.
"""

from __future__ import annotations

from enum import StrEnum


class Format(StrEnum):
    """The formats."""

    TABLE = "table"
    JSON = "json"
    CSV = "csv"
    OPENAPI = "openapi"
    SARIF = "sarif"
    LINES = "lines"
    JUNIT = "junit"
    HTML = "html"
    MARKDOWN = "markdown"
    PNG = "png"
    SVG = "svg"

    @property
    def module(self) -> str:
        """The name of its module here."""
        return "one_a_line" if self is Format.LINES else self.value


# By which ending of a file name a format is chosen.
ENDINGS = {
    ".txt": Format.TABLE,
    ".json": Format.JSON,
    ".csv": Format.CSV,
    ".sarif": Format.SARIF,
    ".xml": Format.JUNIT,
    ".html": Format.HTML,
    ".md": Format.MARKDOWN,
    ".png": Format.PNG,
    ".svg": Format.SVG,
}
