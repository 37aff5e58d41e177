"""One decision, and the lines that cover a path, as a person reads them in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ...core.decision import Outcome
from ..words import GOOD, OPEN, STYLES, WRONG

if TYPE_CHECKING:
    from ...core.decision import Decision
    from ...core.explanation import Explanation
    from ..results import LinesResult

_VERDICTS = {"passed": ("✓", GOOD), "refused": ("✗", WRONG), "open": ("◐", OPEN)}
_PLAIN_VERDICTS = {"passed": "ok", "refused": "no", "open": "??"}


def decision(result: Explanation, console: Console) -> RenderableType:
    """One decision: the outcome, the steps with their lines, the answer, and who would have been let in."""
    made = result.decision
    style = STYLES[made.outcome] if made.outcome is not Outcome.DENY else WRONG
    sentence = made.outcome.value + (f" ({made.reason})" if made.reason else "")
    head = Text.assemble((f"{result.method} {result.path} as {result.who}: ", "bold"), (sentence, f"bold {style}"))
    parts: list[RenderableType] = [head]
    if made.reason != "signed-out" and result.who != "signed-out":
        parts.append(Text(f"{result.who} holds {_held(result)}", style="dim"))
    parts += [Text(), _steps(made, console), Text()]
    answer = made.answer
    if answer is not None:
        where = f" to {answer.location}" if answer.location is not None else ""
        by = f" ({answer.place.at})" if answer.place is not None else ""
        parts.append(Text(f"The caller gets {answer.status}{where}: {answer.message}{by}"))
    if result.sufficient_roles:
        parts.append(Text(f"Roles that would be enough: {', '.join(result.sufficient_roles)}"))
    parts += [Text(f"{hint[0].upper()}{hint[1:]}.") for hint in result.hints]
    if result.remainder is not None:
        parts.append(Text(f"Still to be known: {result.remainder}"))
    if result.record is not None:
        parts.append(Text(f"To settle it, add the record: --record '{result.record}'"))
    return Group(*parts)


def _held(result: Explanation) -> str:
    direct, included = result.role_table.direct_and_included(result.caller)
    return ", ".join((*direct, *included)) or "no role"


def _steps(made: Decision, console: Console) -> Table:
    plain = not console.encoding.lower().startswith("utf")
    steps = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for step in made.steps:
        sign, colour = _VERDICTS[step.verdict]
        steps.add_row(
            Text(_PLAIN_VERDICTS[step.verdict] if plain else sign, style=colour),
            Text(step.name, style="bold"),
            Text(step.text),
        )
        if step.where:
            steps.add_row("", "", Text(f"{step.where}  {step.line}", style="dim"))
    return steps


def lines(result: LinesResult, _: Console) -> RenderableType:
    """The lines that cover a request, the one that decides first, and the standing rules beside them."""
    method, path, found = result.method, result.path, result.lines
    if not found:
        return Text(f"no line covers {method} {path}, so no one may see it", style="bold")
    parts: list[RenderableType] = [Text(f"{method} {path} is decided by {found[0].place.at}", style="bold"), Text()]
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for number, line in enumerate(found):
        table.add_row("less specific" if number else "decides", line.place.at, line.text)
    for rule in result.rules:
        table.add_row("and always", rule.place.at, rule.text)
    return Group(*parts, table)
