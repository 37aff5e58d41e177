"""Which policy files are tidy, as a person reads it in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console

    from ..results import FormatResult


def formatted(result: FormatResult, _: Console) -> str:
    """What changes in each file; or which files are not tidy, and how many there are of each."""
    if result.shows_diff:
        return "".join(file.diff for file in result.files)
    untidy = [file for file in result.files if not file.tidy]
    count = f"{len(untidy)} to tidy, {len(result.files) - len(untidy)} tidy"
    lines = [f"{file.name} is not tidy" for file in untidy]
    return "\n".join([*lines, count + ("; next: bloodroot format" if untidy else ""), ""])
