"""Two policies side by side, as a person reads it in a terminal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from ...comparison.changes import Change
from ..compared import (
    SIGNS,
    cells_by_endpoint,
    declared_in_words,
    endpoint_in_words,
    headline,
    how_to_see,
    named_alike,
    next_step,
)
from ..words import ASKS, GOOD, OPEN, WARN

if TYPE_CHECKING:
    from ...comparison.changes import Comparison
    from ..compared import Alike

_STYLES = {
    Change.GAINED: f"bold {WARN}",
    Change.WIDENED: f"bold {WARN}",
    Change.DIFFERENT: f"bold {OPEN}",
    Change.LOST: f"bold {ASKS}",
    Change.NARROWED: f"bold {ASKS}",
    Change.ANSWER: "dim",
}


def compare(result: Comparison, console: Console) -> RenderableType:
    """What changes in one line, then endpoint by endpoint, then beside them."""
    plain = not console.encoding.lower().startswith("utf")
    style = f"bold {GOOD}" if result.same_access else f"bold {WARN}" if result.opens else "bold"
    parts: list[RenderableType] = [Text(headline(result), style=style)]
    parts.append(Text(f"{result.old.name} {'->' if plain else '→'} {result.new.name}", style="dim"))
    parts += _lines(result)
    for title, answers in (("Who gets in", False), ("What refused callers get", True)):
        at_endpoints = cells_by_endpoint(result, answers=answers)
        if at_endpoints:
            parts += [Text(), Text(title, style="bold")]
            for each in at_endpoints:
                where = each.new_line or each.old_line
                parts.append(Text.assemble(f"  {each.method} {each.path}", (f"  {where}" if where else "", "dim")))
                parts += _changes(((", ".join(alike.roles), alike) for alike in each.changes), plain)
    for title, named in (
        ("Fields", result.fields),
        ("Permissions that code asks for", result.permissions),
        ("Conditions that code asks for", result.conditions),
    ):
        if named:
            parts += [Text(), Text(title, style="bold")]
            rows = ((f"{name}  {', '.join(alike.roles)}".rstrip(), alike) for name, alike in named_alike(named))
            parts += _changes(rows, plain)
    if result.declared:
        parts += [Text(), Text("Declared otherwise", style="bold")]
        for declared in result.declared:
            sign = "+" if declared.opens else " "
            parts.append(Text(f"    {sign} {declared_in_words(declared)}", style=WARN if declared.opens else ""))
    if result.left_open:
        parts += [Text(), *(Text(f"Not compared: {each}.", style=f"bold {WARN}") for each in result.left_open)]
    how = how_to_see(result)
    return Group(*parts, Text(), Text(next_step(result)), *([Text(how)] if how else []))


def _lines(result: Comparison) -> Iterator[RenderableType]:
    if not result.endpoints:
        return
    yield Text()
    yield Text("Lines", style="bold")
    table = Table.grid(padding=(0, 2))
    for each in result.endpoints:
        table.add_row(
            "   " + ("new" if each.new else "gone"),
            f"{each.method} {each.path}",
            Text(each.line.place.at, style="dim"),
            Text(endpoint_in_words(each), style="dim"),
        )
    yield table


def _changes(rows: Iterable[tuple[str, Alike]], plain: bool) -> Iterator[RenderableType]:
    arrow = "->" if plain else "→"
    for subject, alike in rows:
        sign = "~" if plain and alike.change is Change.DIFFERENT else SIGNS[alike.change]
        style = _STYLES[alike.change]
        doubt = "" if alike.proved else "  (could not be proved)"
        text = Text.assemble(
            (f"{sign} {alike.change.value:10}", style), f"{subject}: {alike.old} {arrow} {alike.new}", doubt
        )
        yield Padding(text, (0, 0, 0, 4))
        shown = alike.example
        if shown is not None:
            said = f"{shown.old} {arrow} {shown.new}"
            yield Padding(Text(f"{shown.command}  {said}", style="dim"), (0, 0, 0, 16))
