"""Sheets as pages, for results that have no page of their own."""

from __future__ import annotations

from ..grid_layout import grid_sections
from ..sheet import Sheet, pieces
from .page import page


def write(sheet: Sheet) -> str:
    """The headline, each section with its table, and what to do next."""
    sections = [
        part
        for section in sheet.sections
        for part in (grid_sections(section.grid) if section.grid is not None else (section,))
    ]
    return page("sheet.html", sheet=sheet, sections=sections, pieces=pieces)
