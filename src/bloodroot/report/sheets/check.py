"""Findings."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...checks.witnesses import command
from ...core.finding import Severity
from ..sheet import ARROW, Cell, Meaning, Section, Sheet, line, place, plural, quiet, strong

if TYPE_CHECKING:
    from ...checks.checking import CheckResult
    from ...core.finding import Finding
    from ...language.problems import Place

MEANINGS = {Severity.ERROR: Meaning.WRONG, Severity.WARNING: Meaning.OPEN, Severity.NOTE: Meaning.ASKS}


def check(result: CheckResult) -> Sheet:
    """The count, each finding with its line and what to do, and what is accepted."""
    worst = min((finding.severity.rank for finding in result.findings), default=None)
    sections = [_finding(finding) for finding in result.findings]
    if result.accepted:
        count = len({finding.place for finding, _ in result.accepted})
        reasons = (f"{finding.place.at}  {finding.name}: {reason}" for finding, reason in result.accepted)
        title = f"Accepted, each with a reason ({count}):"
        sections.append(Section((strong(title),), tuple(line(quiet(text), indent=2) for text in reasons)))
    if result.unknown:
        sections.append(Section(lines=tuple(line(quiet(f"Note: {name}")) for name in result.unknown)))
    return Sheet(
        Cell(_headline(result), Meaning.GOOD if worst is None else MEANINGS[list(Severity)[worst]]),
        tuple(sections),
        (_next(result),),
        ("severity", "name", "file", "line", "message", "remedy"),
        (
            (
                finding.severity.value,
                finding.name,
                finding.place.source.name,
                finding.place.line,
                finding.message,
                finding.remedy,
            )
            for finding in result.findings
        ),
    )


def _headline(result: CheckResult) -> str:
    counts = [plural(result.count(severity), severity.value) for severity in Severity if result.count(severity)]
    of = plural(len({line.place for line in result.policy.endpoints}), "endpoint line")
    if result.sources:
        of += f" and {plural(result.endpoints, 'endpoint')} of {', '.join(result.sources)}"
    return f"{', '.join(counts) or 'No findings'}: {of} checked"


def _finding(finding: Finding) -> Section:
    severity = Cell(f"{finding.severity.value:8}", MEANINGS[finding.severity], bold=True)
    places = [place for place in (finding.place, *finding.related) if place.text.strip()]
    lines = [line(place(_quoted(each, finding.place))) for each in places]
    lines.append(line(finding.message, indent=8))
    shown = command(finding.witness) if finding.witness is not None else None
    if shown is not None:
        lines.append(line(quiet(f"See it: {shown}"), indent=8))
    lines.append(line(ARROW, f" {finding.remedy}", indent=8))
    return Section((severity, strong(finding.name), "  ", place(finding.place.at)), tuple(lines))


def _quoted(at: Place, of: Place) -> str:
    """A line of a policy or a program, with its number; and its file, where that is another one."""
    number = f"{at.line:>5}" if at.source.name == of.source.name else at.at
    return f"{number} | {' '.join(at.text.split(' #')[0].split())}"


def _next(result: CheckResult) -> str:
    if not result.findings:
        return "Next: bloodroot probe asks the running application whether it does what is declared."
    return (
        'Next: mend each, or write accept NAME "reason" at the end of its line where it is right. '
        "docs/findings.md says more of each."
    )
