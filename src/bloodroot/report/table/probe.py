"""What a probe found, as a person reads it in a terminal."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.text import Text

from ...probe.verdicts import Verdict
from .words import plural

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ...core.lines import Line
    from ...probe.result import Result
    from ...probe.verdicts import Observation


def probe(result: Result, _: Console) -> RenderableType:
    """What a probe found: the count first, then each hole and each blocked endpoint with who and what."""
    holes = result.count(Verdict.HOLE)
    blocked = result.count(Verdict.BLOCKED)
    unclear = result.count(Verdict.UNCLEAR)
    endpoints = len({(each.case.line.order, each.case.method) for each in result.observations})
    people = len({each.case.persona.name for each in result.observations})
    open_at = len(
        {(each.case.line.order, each.case.method) for each in result.observations if each.verdict is Verdict.HOLE}
    )
    summary = plural(holes, "hole") + (f" at {plural(open_at, 'endpoint')}" if holes else "")
    summary += f", {blocked} blocked, {result.count(Verdict.AGREE)} agree"
    summary += f", {unclear} unclear" if unclear else ""
    summary += f", {len(result.untried)} not tried" if result.untried else ""
    summary += f"; {plural(endpoints, 'endpoint')} as {plural(people, 'persona')}"
    style = "bold red" if holes else "bold green" if result.sound else "bold yellow"
    parts: list[RenderableType] = [Text(summary, style=style)]
    for verdict, title, colour in (
        (Verdict.HOLE, "HOLE", "red"),
        (Verdict.BLOCKED, "BLOCKED", "yellow"),
        (Verdict.UNCLEAR, "UNCLEAR", "magenta"),
    ):
        found = [each for each in result.observations if each.verdict is verdict]
        for group in _by_endpoint(found):
            parts += [Text(), *_finding(group, title, colour)]
    if result.untried:
        parts += [Text(), Text("NOT TRIED", style="bold magenta")]
        reasons = Counter(
            f"{each.method} {each.line.template.text} as {each.persona.name}: {each.why}" for each in result.untried
        )
        shown = list(reasons)[:8]
        parts += [Text(f"        {reason}") for reason in shown]
        if len(reasons) > len(shown):
            parts.append(Text(f"        and {len(reasons) - len(shown)} more"))
    parts += [Text(), Text(_next_step(result))]
    return Group(*parts)


def _by_endpoint(found: list[Observation]) -> list[list[Observation]]:
    """Observations of one endpoint, with one thing observed, together."""
    groups: dict[tuple[int, str, str, str], list[Observation]] = {}
    for each in found:
        key = (each.case.line.order, each.case.method, each.text, each.case.sample)
        groups.setdefault(key, []).append(each)
    return list(groups.values())


def _finding(group: list[Observation], title: str, colour: str) -> Iterable[Text]:
    first = group[0]
    case = first.case
    line: Line = case.line
    sample = f"  [{case.sample}]" if case.sample else ""
    yield Text.assemble((f"{title:8}", f"bold {colour}"), (f"{case.method} {line.template.text}", "bold"), sample)
    by_declared: dict[str, list[str]] = {}
    for each in group:
        by_declared.setdefault(each.case.declared.value, []).append(each.case.persona.name)
    for declared, names in by_declared.items():
        yield Text(f"        declared {declared} for {', '.join(dict.fromkeys(names))}")
    statuses = ", ".join(dict.fromkeys(_status(each) for each in group))
    yield Text.assemble("        observed ", (first.text, colour))
    yield Text(f"        {case.method} {case.path} answered {statuses}")
    yield Text(f"        {line.place.at}  {line.text}", style="dim")


def _status(each: Observation) -> str:
    return f"{each.status} to {each.location}" if each.location else str(each.status)


def _next_step(result: Result) -> str:
    if result.count(Verdict.HOLE):
        return "Next: close the holes in the application, or protect it with bloodroot.enforce."
    if result.count(Verdict.BLOCKED):
        return "Next: ask `bloodroot why PERSONA METHOD PATH` whether the policy or the application is right."
    if not result.sound:
        return "Next: complete the samples in the settings, see that they exist in the data, and probe again."
    return "The application does what the policy declares."
