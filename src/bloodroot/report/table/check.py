"""Findings, as a person reads them in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from ...checks.finding import Severity
from ...checks.witnesses import command
from ..words import ASKS, GOOD, OPEN, WRONG, plural

if TYPE_CHECKING:
    from ...checks.checking import CheckResult
    from ...checks.finding import Finding
    from ...language.problems import Place

_STYLES = {Severity.ERROR: f"bold {WRONG}", Severity.WARNING: f"bold {OPEN}", Severity.NOTE: f"bold {ASKS}"}


def check(result: CheckResult, console: Console) -> RenderableType:
    """The count, each finding with its line and what to do, and what is accepted."""
    worst = min((finding.severity.rank for finding in result.findings), default=None)
    style = f"bold {GOOD}" if worst is None else _STYLES[list(Severity)[worst]]
    parts: list[RenderableType] = [Text(_headline(result), style=style)]
    arrow = "→" if console.encoding.lower().startswith("utf") else "->"
    for finding in result.findings:
        parts += [Text(), *_finding(finding, arrow)]
    if result.accepted:
        count = len({finding.place for finding, _ in result.accepted})
        parts += [Text(), Text(f"Accepted, each with a reason in its line ({count}):", style="bold")]
        parts += [
            Text(f"  {finding.place.at}  {finding.name}: {reason}", style="dim") for finding, reason in result.accepted
        ]
    parts += [Text(), *(Text(f"Note: {each}", style="dim") for each in result.unknown)] if result.unknown else []
    return Group(*parts, Text(), Text(_next(result)))


def _headline(result: CheckResult) -> str:
    counts = [plural(result.count(each), each.value) for each in Severity if result.count(each)]
    lines = plural(len({line.place for line in result.policy.endpoints}), "endpoint line")
    of = lines
    if result.sources:
        of += f" and {plural(result.endpoints, 'endpoint')} of {', '.join(result.sources)}"
    return f"{', '.join(counts) or 'No findings'}: {of} checked"


def _finding(finding: Finding, arrow: str) -> list[RenderableType]:
    head = Text.assemble(
        (f"{finding.severity.value:8}", _STYLES[finding.severity]), (finding.name, "bold"), f"  {finding.place.at}"
    )
    parts: list[RenderableType] = [head]
    parts += [_quoted(place, finding.place) for place in (finding.place, *finding.related) if place.text.strip()]
    parts.append(_indented(Text(finding.message)))
    shown = command(finding.witness) if finding.witness is not None else None
    if shown is not None:
        parts.append(_indented(Text(f"See it: {shown}", style="dim")))
    parts.append(_indented(Text(f"{arrow} {finding.remedy}")))
    return parts


def _quoted(place: Place, of: Place) -> Text:
    """A line of a policy or a program, with its number; and its file, where that is another one."""
    number = f"{place.line:>5}" if place.source.name == of.source.name else place.at
    return Text(f"{number} | {' '.join(place.text.split(' #')[0].split())}")


def _indented(text: Text) -> Padding:
    return Padding(text, (0, 0, 0, 8))


def _next(result: CheckResult) -> str:
    if not result.findings:
        return "Next: bloodroot probe asks the running application whether it does what is declared."
    return (
        'Next: mend each, or write accept NAME "reason" at the end of its line where it is right. '
        "docs/findings.md says more of each."
    )
