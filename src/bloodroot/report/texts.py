"""Results that are a text, shown as it is."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .results import FormatResult, MadeToken


def formatted(result: FormatResult) -> str:
    """What changes in each file; or which files are not tidy, and how many there are of each."""
    if result.shows_diff:
        return "".join(file.diff for file in result.files)
    untidy = [file for file in result.files if not file.tidy]
    count = f"{len(untidy)} to tidy, {len(result.files) - len(untidy)} tidy"
    lines = [f"{file.name} is not tidy" for file in untidy]
    return "\n".join([*lines, count + ("; next: bloodroot format" if untidy else ""), ""])


def made_token(result: MadeToken) -> str:
    """A token made for development, alone, so that it can be put into a command."""
    return f"{result.token}\n"
