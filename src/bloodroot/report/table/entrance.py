"""Who gets in at one endpoint, as a person reads it in a terminal."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from ...core.decision import Outcome
from ...core.requirements import requirement_in_words
from ..words import STYLES, plural

if TYPE_CHECKING:
    from ...core.entrance import Entrance, Treated
    from ...core.lines import Line


def entrance(result: Entrance, console: Console) -> RenderableType:  # noqa: ARG001
    """How many kinds of callers are let in, the lines that say so, and who gets what."""
    headline = f"{result.method} {result.path}: {result.let_in} of {plural(result.count, 'kind')} of caller let in"
    parts: list[RenderableType] = [Text(headline, style="bold"), Text()]
    if result.line is None:
        parts.append(Text("  No line covers it, and what is not declared is closed."))
    else:
        parts += _line(result.line, "")
        for rule in result.rules:
            parts += _line(rule, "and always ")
    for title, treated in (("", result.roles), ("Personas", result.personas)):
        if treated:
            parts += [Text(), *([Text(title, style="bold")] if title else []), _table(treated)]
    example = next((name for each in result.roles for name in each.names if each.outcome is not Outcome.ALLOW), None)
    if example is not None:
        asked = shlex.join(["bloodroot", "why", example, result.method, result.path])
        parts += [Text(), Text(f"Next: {asked} shows the steps.")]
    return Group(*parts)


def _line(line: Line, before: str) -> Iterator[RenderableType]:
    yield Text(f"  {before}{line.text}  {line.place.at}")
    yield Padding(Text(f"requires {requirement_in_words(line.requirement.formula)}", style="dim"), (0, 0, 0, 4))


def _table(treated: tuple[Treated, ...]) -> Table:
    table = Table.grid(padding=(0, 2))
    for each in treated:
        words = Text(", ".join(each.names))
        if each.remainder is not None:
            words.append(f"\nif {each.remainder}", STYLES[Outcome.DEPENDS])
        elif each.answer is not None:
            words.append(f"\n{each.reason}; {_answer(each)}", "dim")
        table.add_row(Text(f"  {each.outcome.value}", style=STYLES[each.outcome]), words)
    return table


def _answer(each: Treated) -> str:
    answer = each.answer
    assert answer is not None
    if answer.hidden:
        return "gets what a missing page gets"
    if answer.location is not None:
        return f"is sent to {answer.location}, or gets {answer.otherwise}"
    return f"gets {answer.status}: {answer.message}"
