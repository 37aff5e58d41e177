"""Two policies side by side as a page."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ...core.lines import Line
from ...core.matrix import Matrix, Spreading, matrix_of_roles, row_of, spreading_of_names
from ..compared import (
    SIGNS,
    Alike,
    cells_by_endpoint,
    declared_in_words,
    endpoint_in_words,
    headline,
    how_to_see,
    named_alike,
    next_step,
)
from .page import as_script, page, part
from .page_data import PageData, callers_of_roles, descriptions, ordered

if TYPE_CHECKING:
    from ...comparison.changes import CellChange, EndpointChange, PolicyComparison


def compare(result: PolicyComparison) -> str:
    """What changes, in words; then the matrix of the new policy, with what each cell was before."""
    old, new = result.old.policy, result.new.policy
    roles = list(dict.fromkeys((*new.roles.kinds, *old.roles.kinds)))
    matrix = matrix_of_roles(new, roles)
    names = [column.name for column in matrix.columns]
    data = PageData(new, names, callers_of_roles(names))
    rows = [data.row(row, matrix) for row in matrix.rows]
    here = {(method, row["p"]) for row in rows for method in row["m"].split(" ")}
    for gone in result.endpoints:
        if (gone.method, gone.path) not in here:
            rows.append(_gone(gone, data, matrix, spreading_of_names(new, roles)) | {"n": "gone"})
    _mark(result, rows, names)
    return page(
        "matrix.html",
        style=part("matrix.css"),
        script=part("matrix.js"),
        title=headline(result),
        subtitle=f"{result.old.name} → {result.new.name}",
        changes=_sections(result),
        next=" ".join(filter(None, (next_step(result), how_to_see(result)))),
        data=as_script(
            {
                "mode": "compare",
                "old": result.old.name,
                "new": result.new.name,
                "about": descriptions((new, old), names, _ABOUT),
                "personas": False,
                "rows": ordered(rows),
                **data.data(),
            }
        ),
    )


def _gone(gone: EndpointChange, data: PageData, matrix: Matrix, spreading: Spreading) -> dict[str, Any]:
    """An endpoint whose line is gone: what the line says that covers it now, or closed."""
    line, covered = gone.line, gone.covered
    if isinstance(line, Line) and covered is not None:
        row = row_of(data.policy, spreading, replace(covered, template=line.template), (gone.method,))
        return data.row(row, matrix)
    area = line.template.area if isinstance(line, Line) else "action"
    endpoint = data.endpoint(gone.method, gone.path, area, line)
    return endpoint | {"l": -1, "o": "x" * len(matrix.columns), "r": {}, "s": {}, "w": []}


def _mark(result: PolicyComparison, rows: list[dict[str, Any]], names: list[str]) -> None:
    """Put what changes into the cells, and what is new into the rows."""
    changed: dict[tuple[str, str], list[CellChange]] = {}
    for cell in result.cells:
        if cell.role in names and not cell.holding:
            changed.setdefault((cell.method, cell.path), []).append(cell)
    new = {(endpoint.method, endpoint.path) for endpoint in result.endpoints if endpoint.new}
    for row in rows:
        methods = row["m"].split(" ")
        if any((method, row["p"]) in new for method in methods):
            row["n"] = "new"
        for change in (change for method in methods for change in changed.get((method, row["p"]), ())):
            command = change.shown.command if change.shown is not None else None
            said = f"{change.shown.old} → {change.shown.new}" if change.shown is not None else None
            row.setdefault("c", {})[names.index(change.role)] = [
                change.change.value,
                change.old,
                change.new,
                command,
                said,
            ]


def _sections(result: PolicyComparison) -> list[dict[str, Any]]:
    """What changes, in the sections and the order of every format."""
    sections = []
    for title, answers in (("Who gets in", False), ("What refused callers get", True)):
        rows = [
            _row(alike, f"{endpoint.method} {endpoint.path}", f"{endpoint.method.split(' ')[-1]} {endpoint.path}")
            for endpoint in cells_by_endpoint(result, answers=answers)
            for alike in endpoint.changes
        ]
        sections.append({"title": title, "rows": rows, "open": not answers})
    for title, changes in (
        ("Fields", result.fields),
        ("Permissions that code asks for", result.permissions),
        ("Conditions that code asks for", result.conditions),
    ):
        rows = [_row(alike, name, "") for name, alike in named_alike(changes)]
        sections.append({"title": title, "rows": rows, "open": True})
    lines = []
    for endpoint in result.endpoints:
        said = "new" if endpoint.new else "gone"
        place = f"{endpoint.method} {endpoint.path}, {endpoint.line.place.at}"
        lines.append(f"{said}: {place}; {endpoint_in_words(endpoint)}")
    sections.append({"title": "Lines", "lines": lines, "rows": [], "open": True})
    declared = [f"{'+ ' if entry.opens else ''}{declared_in_words(entry)}" for entry in result.declared]
    sections.append({"title": "Declared otherwise", "lines": declared, "rows": [], "open": True})
    left_open = [f"{endpoint}." for endpoint in result.left_open]
    sections.append({"title": "Not compared", "lines": left_open, "rows": [], "open": True})
    return [section for section in sections if section["rows"] or section.get("lines")]


def _row(alike: Alike, name: str, link: str) -> dict[str, Any]:
    return {
        "name": name,
        "link": link,
        "change": alike.change.value,
        "sign": SIGNS[alike.change],
        "opens": alike.change.opens,
        "roles": ", ".join(alike.roles),
        "role": alike.roles[0] if alike.roles else "",
        "old": alike.old,
        "new": alike.new,
        "proved": alike.proved,
        "example": alike.example.command if alike.example is not None else "",
    }


_ABOUT = {"signed-out": "nobody is signed in", "signed-in": "signed in, with no role beyond the defaults"}
