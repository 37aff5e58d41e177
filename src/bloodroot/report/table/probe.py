"""What a probe found, or would ask, as a person reads it in a terminal."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.text import Text

from ...probe.facts import By
from ...probe.judging import Verdict
from ..words import GOOD, OPEN, WARN, WRONG, plural

if TYPE_CHECKING:
    from ...probe.asked import AskedEndpoint
    from ...probe.judging import Observation
    from ...probe.planning import Case
    from ...probe.result import PlanResult, Result
    from ...probe.staleness import Stale

# Words of a command line; what is in quotes is never broken.
_WORD = re.compile(r"""(?:"(?:[^"\\]|\\.)*"|'[^']*'|\\.|[^\s"'\\])+""")
_MOST = 12  # groups of one kind; --format json has them all
_KINDS = (
    (Verdict.HOLE, "HOLE", WRONG),
    (Verdict.BLOCKED, "BLOCKED", WARN),
    (Verdict.OTHER, "OTHER", WARN),
    (Verdict.INCONCLUSIVE, "INCONCLUSIVE", OPEN),
)
_PROTECT = {
    "flask": "bloodroot.enforce.flask.protect(app, ...)",
    "fastapi": "bloodroot.enforce.fastapi.protect(app, ...)",
    "starlette": "bloodroot.enforce.starlette.protect(app, ...)",
    "django": "the middleware of bloodroot.enforce.django",
}


def probe(result: Result, made: Console) -> RenderableType:
    """What a probe found: the count first, then each hole, and what else is not as declared, with who and what."""
    style = f"bold {WRONG}" if result.count(Verdict.HOLE) else f"bold {GOOD}" if result.sound else f"bold {WARN}"
    parts: list[RenderableType] = [Text(_summary(result), style=style)]
    for verdict, title, colour in _KINDS:
        found = (each for each in result.observations if each.verdict is verdict)
        groups = _by_endpoint(found, methods_apart=verdict in (Verdict.HOLE, Verdict.BLOCKED))
        most = len(groups) if verdict is Verdict.HOLE else _MOST
        for group in groups[:most]:
            parts += [Text(), *_finding(group, title, colour, made.width)]
        if len(groups) > most:
            parts += [
                Text(),
                Text(f"{title:7} and {len(groups) - most} more; --format json has them all", style=colour),
            ]
    if result.untried:
        parts += [Text(), *_not_tried(result)]
    for fault in result.sign_in_faults:
        parts += [Text(), Text.assemble(("SIGN-IN ", f"bold {WRONG}"), fault)]
    for each in result.stale:
        parts += [Text(), _stale(each)]
    if result.notes:
        parts.append(Text())
    parts += [Text(f"note    {note}", style="dim") for note in result.notes[:_MOST]]
    if len(result.notes) > _MOST:
        parts.append(Text(f"note    and {len(result.notes) - _MOST} more; --format json has them all", style="dim"))
    parts += [Text(), *map(Text, _closing(result))]
    return Group(*parts)


def _stale(each: Stale) -> Text:
    label = ("STALE   ", f"bold {WRONG}") if each.late else ("stale   ", "")
    return Text.assemble(label, each.words)


def _summary(result: Result) -> str:
    holes = [each for each in result.observations if each.verdict is Verdict.HOLE]
    parts = [plural(len(holes), "hole") + (f" at {plural(_endpoints(holes), 'endpoint')}" if holes else "")]
    parts.append(f"{result.count(Verdict.BLOCKED)} blocked")
    if other := result.count(Verdict.OTHER):
        parts.append(f"{other} refused otherwise than declared")
    parts.append(f"{result.count(Verdict.AGREE)} agree")
    if unclear := result.count(Verdict.INCONCLUSIVE):
        parts.append(f"{unclear} inconclusive")
    if result.untried:
        parts.append(f"{len(result.untried)} not tried")
    people = len({each.case.persona.name for each in result.observations})
    part = f", part {result.part}" if result.part else ""
    endpoints = plural(_endpoints(result.observations), "endpoint")
    return f"{', '.join(parts)}; {endpoints} as {plural(people, 'persona')}{part}"


def _endpoints(found: Iterable[Observation]) -> int:
    return len({id(each.case.asked) for each in found})


def _by_endpoint(found: Iterable[Observation], *, methods_apart: bool) -> list[list[Observation]]:
    """Observations of one endpoint, with one thing observed, together."""
    groups: dict[tuple[object, ...], list[Observation]] = {}
    for each in found:
        asked = each.case.asked
        endpoint = id(asked) if methods_apart else (asked.template.text, asked.action, each.seen.note)
        key = (endpoint, each.text, each.case.sample, each.case.spelled)
        groups.setdefault(key, []).append(each)
    return list(groups.values())


def _finding(group: list[Observation], title: str, colour: str, width: int) -> Iterator[Text]:
    first = group[0]
    case = first.case
    sample = f"  [{case.sample}]" if case.sample else ""
    methods = " ".join(dict.fromkeys(each.case.asked.method for each in group))
    name = f"{methods} {case.asked.template.text}"
    yield Text.assemble((f"{title:7} ", f"bold {colour}"), (name, "bold"), sample)
    by_declared: dict[str, list[str]] = {}
    for each in group:
        by_declared.setdefault(_declared(each.case), []).append(each.case.persona.name)
    for declared, names in by_declared.items():
        yield Text(f"        declared {declared} for {', '.join(dict.fromkeys(names))}")
    yield Text.assemble("        observed ", (first.text, colour))
    statuses = ", ".join(dict.fromkeys(_status(each) for each in group))
    yield Text(f"        {case.method} {case.raw or case.target} answered {statuses}")
    errors = list(dict.fromkeys(each.seen.note for each in group if each.seen.note))
    for error in errors[:1]:
        yield Text(f"        first exception: {error}")
    if first.settle:
        yield Text(f"        to settle it, {first.settle}")
    yield Text(f"        {_place(case.asked)}", style="dim")
    if first.verdict is Verdict.HOLE:
        for line in first.repeat:
            for number, part in enumerate(_broken(line, max(width - 14, 40))):
                yield Text(
                    f"        {'$ ' if not number else '    '}{part}", style="dim", no_wrap=True, overflow="ignore"
                )


def _broken(line: str, width: int) -> list[str]:
    """A command line in parts that fit a width, as a shell reads it still: broken only between words."""
    parts: list[str] = [""]
    for word in _WORD.findall(line):
        if parts[-1] and len(parts[-1]) + 1 + len(word) > width:
            parts[-1] += " \\"
            parts.append(word)
        else:
            parts[-1] = f"{parts[-1]} {word}".strip()
    return parts


def _declared(case: Case) -> str:
    """What is declared, with the answer that a refused caller is to get."""
    answer = case.answer
    if answer is None:
        return case.declared.value
    if answer.hidden:
        return f"{case.declared.value} (hidden)"
    if answer.location is not None:
        return f"{case.declared.value} (go {answer.location})"
    return f"{case.declared.value} ({answer.status})" if answer.status not in (401, 403) else case.declared.value


def _place(asked: AskedEndpoint) -> str:
    if asked.line is None:
        return "no line covers this, and what is not declared is closed"
    return f"{asked.line.place.at}  {asked.line.text}"


def _status(each: Observation) -> str:
    if not each.seen.status:
        return "nothing"
    return f"{each.seen.status} to {each.seen.location}" if each.seen.location else str(each.seen.status)


def _not_tried(result: Result) -> Iterator[Text]:
    yield Text("NOT TRIED", style=f"bold {OPEN}")
    reasons: dict[str, dict[str, list[str]]] = {}
    for each in result.untried:
        reasons.setdefault(each.why, {}).setdefault(each.asked.name, []).append(each.persona.name)
    for why, endpoints in list(reasons.items())[:_MOST]:
        shown = list(endpoints)[:3]
        more = f" and {len(endpoints) - 3} more" if len(endpoints) > 3 else ""
        names = list(dict.fromkeys(name for personas in endpoints.values() for name in personas))
        who = f" as {', '.join(names)}" if len(names) <= 4 else f" as {len(names)} personas"
        yield Text(f"        {', '.join(shown)}{more}{who}: {why}")
    if len(reasons) > _MOST:
        yield Text(f"        and for {len(reasons) - _MOST} more reasons; --format json has them all")


def _closing(result: Result) -> Iterator[str]:
    """What was shown, and no more than that; then what to do next."""
    if result.sound:
        requests = plural(len(result.observations), "request")
        allowed = [each for each in result.observations if each.case.allowed]
        unseen = sum(each.seen.by is By.UNSEEN for each in allowed)
        how = "answered" if unseen and unseen == len(allowed) else "answered by its handler"
        refused = "refused by policy" if _refused_by_policy(result) else "refused as declared"
        more = (
            f"; {unseen} went to files, or to what is mounted, and were answered" if 0 < unseen < len(allowed) else ""
        )
        yield f"Every one of {requests} was {how} or {refused}{more}."
        if any(_may_have_changed(each) for each in result.observations):
            yield "Whether refused requests changed something was not looked at: write state under [probe]."
        return
    if result.count(Verdict.HOLE):
        if result.protected:
            yield (
                "Next: close the holes. A policy is in front of this application, and let these in: see that it is the "
                "same policy, and that the personas are to the application who the settings say."
            )
        else:
            protect = _PROTECT.get(result.framework, "bloodroot.enforce")
            yield f"Next: close the holes in the application, or put the policy in front of it: {protect}."
    elif result.count(Verdict.BLOCKED):
        yield "Next: ask `bloodroot why PERSONA METHOD PATH` whether the policy or the application is right."
    elif any(each.late for each in result.stale):
        yield "Next: look roles up afresh, or shorten the life of tokens: see docs/identity.md."
    elif result.sign_in_faults:
        yield "Next: mend where signing in leads, or correct lands under [probe.sign_in]."
    elif not result.observations and not result.untried:
        yield "Nothing was asked: no endpoint and persona are chosen. Next: bloodroot probe --list shows what there is."
    elif result.count(Verdict.INCONCLUSIVE) or result.untried:
        yield "Next: settle what is inconclusive, as said with each, and probe again. Nothing is known of it so far."
    else:
        yield "Next: declare these answers under denials, or let the application refuse as declared."


def _may_have_changed(each: Observation) -> bool:
    """Whether a refused request may have done its work before it was refused."""
    case = each.case
    before = each.seen.by is By.POLICY and not each.seen.reached
    return not case.allowed and not case.safe and not before and each.seen.changed is None


def _refused_by_policy(result: Result) -> bool:
    refused = [each for each in result.observations if not each.case.allowed]
    return bool(refused) and all(each.seen.by is By.POLICY for each in refused)


def plan(result: PlanResult, _: Console) -> RenderableType:
    """What a probe would ask: each endpoint with the personas, by what is declared for them."""
    cases = result.plan.cases
    by_endpoint: dict[int, list[Case]] = {}
    for case in cases:
        by_endpoint.setdefault(id(case.asked), []).append(case)
    people = len({case.persona.name for case in cases})
    where = f" to {result.base}" if result.base else ""
    text = (
        f"{plural(len(cases), 'request')}{where}: {plural(len(by_endpoint), 'endpoint')} as {plural(people, 'persona')}"
    )
    if result.plan.untried:
        text += f"; {len(result.plan.untried)} cannot be tried"
    parts: list[RenderableType] = [Text(text, style="bold")]
    for group in by_endpoint.values():
        parts += [Text(), Text.assemble((group[0].asked.name, "bold"), f"  {group[0].asked.declared_at}")]
        for line in dict.fromkeys((case.method, case.raw or case.target, case.sample, case.spelled) for case in group):
            same = [case for case in group if (case.method, case.raw or case.target, case.sample, case.spelled) == line]
            by_declared: dict[str, list[str]] = {}
            for case in same:
                by_declared.setdefault(case.declared.value, []).append(case.persona.name)
            said = "; ".join(f"{declared} {', '.join(names)}" for declared, names in by_declared.items())
            words = ", ".join(filter(None, (line[2], f"spelled with {line[3]}" if line[3] else "")))
            parts.append(Text(f"  {line[0]} {line[1]}{f'  [{words}]' if words else ''}  {said}"))
    if result.plan.untried:
        parts += [Text(), *_not_tried_of(result)]
    parts += [Text(), Text("Nothing was sent. Next: bloodroot probe asks.")]
    return Group(*parts)


def _not_tried_of(result: PlanResult) -> Iterator[Text]:
    from ...probe.result import Result as Found

    return _not_tried(Found((), result.plan.untried))
