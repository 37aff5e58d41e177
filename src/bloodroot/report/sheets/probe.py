"""What a probe found, or would ask."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from ...endings import Ending
from ...probe.facts import AnsweredBy
from ...probe.verdicts import Verdict
from ..sheet import Cell, Line, Meaning, Section, Sheet, command, endpoint, line, place, plural, quiet, strong

if TYPE_CHECKING:
    from ...probe.asked_endpoints import AskedEndpoint
    from ...probe.plan import Case, SkippedRequest
    from ...probe.result import PlanResult, ProbeResult
    from ...probe.staleness import Stale
    from ...probe.verdicts import Observation

_MOST = 12  # groups of one kind; --format json has them all
_KINDS = (
    (Verdict.HOLE, "HOLE", Meaning.WRONG),
    (Verdict.BLOCKED, "BLOCKED", Meaning.WARN),
    (Verdict.OTHER, "OTHER", Meaning.WARN),
    (Verdict.INCONCLUSIVE, "INCONCLUSIVE", Meaning.OPEN),
)


def probe(result: ProbeResult) -> Sheet:
    """What a probe found: the count first, then each hole, and what else is not as declared, with who and what."""
    meaning = (
        Meaning.WRONG if result.count(Verdict.HOLE) else Meaning.GOOD if result.ending is Ending.WELL else Meaning.WARN
    )
    sections = [section for kind in _KINDS for section in _of_kind(result, *kind)]
    if result.untried:
        sections.append(_not_tried(result.untried))
    sections += [Section((Cell("NOT JUDGED ", Meaning.OPEN, bold=True), doubt)) for doubt in result.doubts]
    sections += [Section((Cell("SIGN-IN ", Meaning.WRONG, bold=True), fault)) for fault in result.sign_in_faults]
    sections += [Section(_stale(stale)) for stale in result.stale]
    if result.notes:
        notes = [f"note    {note}" for note in result.notes[:_MOST]]
        if len(result.notes) > _MOST:
            notes.append(f"note    and {len(result.notes) - _MOST} more; --format json has them all")
        sections.append(Section(lines=tuple(line(quiet(note)) for note in notes)))
    sections.append(_every_endpoint(result))
    columns = ("verdict", "method", "template", "path", "persona", "sample", "declared", "observed", "status", "text")
    return Sheet(Cell(_summary(result), meaning), tuple(sections), tuple(_closing(result)), columns, _rows(result))


def _every_endpoint(result: ProbeResult) -> Section:
    """Every endpoint against every persona, with the worst verdict of each."""
    personas = list(dict.fromkeys(observation.case.persona.name for observation in result.observations))
    cells: dict[AskedEndpoint, dict[str, list[Observation]]] = {}
    for observation in result.observations:
        if not observation.case.spelled:
            cells.setdefault(observation.case.asked, {}).setdefault(observation.case.persona.name, []).append(
                observation
            )
    rows = tuple(
        (endpoint(asked.name), *(_worst(by_persona.get(name, [])) for name in personas))
        for asked, by_persona in cells.items()
    )
    return Section((strong("Every endpoint as every persona"),), heads=("endpoint", *personas), rows=rows, wide=True)


def _worst(observations: list[Observation]) -> Cell:
    """The worst of the verdicts on one endpoint as one persona; where all agree, what is declared."""
    for verdict, title, meaning in _KINDS:
        if any(observation.verdict is verdict for observation in observations):
            return Cell(title.lower(), meaning, bold=True)
    declared = " / ".join(dict.fromkeys(observation.case.declared.value for observation in observations))
    return Cell(declared or "not asked", Meaning.PLAIN if declared else Meaning.QUIET)


def _rows(result: ProbeResult) -> Iterator[tuple[object, ...]]:
    """A row for each request of a probe, and for each that could not be tried."""
    for observation in result.observations:
        case = observation.case
        about = (case.method, case.asked.template.text, case.raw or case.target, case.persona.name, case.sample)
        yield (
            observation.verdict,
            *about,
            case.declared,
            observation.seen.came,
            observation.seen.status,
            observation.text,
        )
    for left in result.untried:
        endpoint = left.asked
        yield "not-tried", endpoint.method, endpoint.template.text, "", left.persona.name, "", "", "", "", left.why


def _of_kind(result: ProbeResult, verdict: Verdict, title: str, meaning: Meaning) -> Iterator[Section]:
    """What has one verdict, endpoint by endpoint."""
    observations = (observation for observation in result.observations if observation.verdict is verdict)
    groups = _by_endpoint(observations, methods_apart=verdict in (Verdict.HOLE, Verdict.BLOCKED))
    most = len(groups) if verdict is Verdict.HOLE else _MOST
    for group in groups[:most]:
        yield _finding(group, title, meaning)
    if len(groups) > most:
        yield Section((Cell(f"{title:7} and {len(groups) - most} more; --format json has them all", meaning),))


def _stale(stale: Stale) -> tuple[Cell | str, ...]:
    return (Cell("STALE   ", Meaning.WRONG, bold=True) if stale.late else "stale   "), stale.words


def _summary(result: ProbeResult) -> str:
    holes = [observation for observation in result.observations if observation.verdict is Verdict.HOLE]
    parts = [plural(len(holes), "hole") + (f" at {plural(_endpoints(holes), 'endpoint')}" if holes else "")]
    parts.append(f"{result.count(Verdict.BLOCKED)} blocked")
    if other := result.count(Verdict.OTHER):
        parts.append(f"{other} refused otherwise than declared")
    parts.append(f"{result.count(Verdict.AGREE)} agree")
    if unclear := result.count(Verdict.INCONCLUSIVE):
        parts.append(f"{unclear} inconclusive")
    if result.untried:
        parts.append(f"{len(result.untried)} not tried")
    people = len({observation.case.persona.name for observation in result.observations})
    part = f", part {result.part}" if result.part else ""
    endpoints = plural(_endpoints(result.observations), "endpoint")
    return f"{_OPENING[result.ending]}: {', '.join(parts)}; {endpoints} as {plural(people, 'persona')}{part}"


_OPENING = {
    Ending.WELL: "As declared",
    Ending.FOUND: "Not as declared",
    Ending.UNJUDGED: "Nothing found, but not everything was judged",
}


def _endpoints(observations: Iterable[Observation]) -> int:
    return len({observation.case.asked for observation in observations})


def _by_endpoint(observations: Iterable[Observation], *, methods_apart: bool) -> list[list[Observation]]:
    """Observations of one endpoint, with one thing observed, together."""
    groups: dict[tuple[object, ...], list[Observation]] = {}
    for observation in observations:
        asked = observation.case.asked
        endpoint = asked if methods_apart else (asked.template.text, asked.action, observation.seen.note)
        key = (endpoint, observation.text, observation.case.sample, observation.case.spelled)
        groups.setdefault(key, []).append(observation)
    return list(groups.values())


def _finding(group: list[Observation], title: str, meaning: Meaning) -> Section:
    first = group[0]
    case = first.case
    sample = f"  [{case.sample}]" if case.sample else ""
    methods = " ".join(dict.fromkeys(observation.case.asked.method for observation in group))
    name = endpoint(f"{methods} {case.asked.template.text}", bold=True)
    lines = list(_details(group, meaning))
    if first.verdict is Verdict.HOLE:
        lines += [command(text, 8) for text in first.repeat]
    return Section((Cell(f"{title:7} ", meaning, bold=True), name, sample), tuple(lines))


def _details(group: list[Observation], meaning: Meaning) -> Iterator[Line]:
    first = group[0]
    case = first.case
    by_declared: dict[str, list[str]] = {}
    for observation in group:
        by_declared.setdefault(_declared(observation.case), []).append(observation.case.persona.name)
    for declared, names in by_declared.items():
        yield line(f"declared {declared} for {', '.join(dict.fromkeys(names))}", indent=8)
    yield line("observed ", Cell(first.text, meaning), indent=8)
    statuses = ", ".join(dict.fromkeys(_status(observation) for observation in group))
    yield line(f"{case.method} {case.raw or case.target} answered {statuses}", indent=8)
    error = next((observation.seen.note for observation in group if observation.seen.note), None)
    if error is not None:
        yield line(f"first exception: {error}", indent=8)
    if first.settle:
        yield line(f"to settle it, {first.settle}", indent=8)
    yield line(place(_place(case.asked)), indent=8)


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


def _place(endpoint: AskedEndpoint) -> str:
    if endpoint.line is None:
        return "no line covers this, and what is not declared is closed"
    return f"{endpoint.line.place.at}  {endpoint.line.text}"


def _status(observation: Observation) -> str:
    if not observation.seen.status:
        return "nothing"
    return (
        f"{observation.seen.status} to {observation.seen.location}"
        if observation.seen.location
        else str(observation.seen.status)
    )


def _not_tried(untried: Iterable[SkippedRequest]) -> Section:
    reasons: dict[str, dict[str, list[str]]] = {}
    for skipped in untried:
        reasons.setdefault(skipped.why, {}).setdefault(skipped.asked.name, []).append(skipped.persona.name)
    lines = []
    for why, endpoints in list(reasons.items())[:_MOST]:
        shown = list(endpoints)[:3]
        more = f" and {len(endpoints) - 3} more" if len(endpoints) > 3 else ""
        names = list(dict.fromkeys(name for personas in endpoints.values() for name in personas))
        who = f" as {', '.join(names)}" if len(names) <= 4 else f" as {len(names)} personas"
        lines.append(line(f"{', '.join(shown)}{more}{who}: {why}", indent=8))
    if len(reasons) > _MOST:
        lines.append(line(f"and for {len(reasons) - _MOST} more reasons; --format json has them all", indent=8))
    return Section((Cell("NOT TRIED", Meaning.OPEN, bold=True),), tuple(lines))


def _closing(result: ProbeResult) -> Iterator[str]:
    """What was shown, and no more than that; then what to do next."""
    if result.ending is Ending.WELL:
        requests = plural(len(result.observations), "request")
        allowed = [observation for observation in result.observations if observation.case.allowed]
        unseen = sum(observation.seen.by is AnsweredBy.UNSEEN for observation in allowed)
        how = "answered" if unseen and unseen == len(allowed) else "answered by its handler"
        refused = "refused by policy" if _refused_by_policy(result) else "refused as declared"
        more = (
            f"; {unseen} went to files, or to what is mounted, and were answered" if 0 < unseen < len(allowed) else ""
        )
        yield f"Every one of {requests} was {how} or {refused}{more}."
        return
    if result.count(Verdict.HOLE):
        if result.protected:
            yield (
                "Next: close the holes. A policy is in front of this application, and let these in: see that it is the "
                "same policy, and that the personas are to the application who the settings say."
            )
        else:
            yield f"Next: close the holes in the application, or put the policy in front of it: {result.protection}."
    elif result.count(Verdict.BLOCKED):
        yield "Next: ask `bloodroot why PERSONA METHOD PATH` whether the policy or the application is right."
    elif any(stale.late for stale in result.stale):
        yield "Next: look roles up afresh, or shorten the life of tokens: see docs/identity.md."
    elif result.sign_in_faults:
        yield "Next: mend where signing in leads, or correct lands under [probe.sign_in]."
    elif not result.observations and not result.untried:
        yield "Nothing was asked: no endpoint and persona are chosen. Next: bloodroot probe --list shows what there is."
    elif result.count(Verdict.OTHER):
        yield "Next: declare these answers under denials, or let the application refuse as declared."
    else:
        yield (
            "Next: settle what was not judged, as said with each, and probe again. Nothing is known of it so far; "
            "with --allow-unjudged the exit status is 0 all the same."
        )


def _refused_by_policy(result: ProbeResult) -> bool:
    refused = [observation for observation in result.observations if not observation.case.allowed]
    return bool(refused) and all(observation.seen.by is AnsweredBy.POLICY for observation in refused)


def plan(result: PlanResult) -> Sheet:
    """What a probe would ask: each endpoint with the personas, by what is declared for them."""
    cases = tuple(case for case in result.plan.cases if not case.twin)
    untried, twins = result.plan.untried, len(result.plan.cases) - len(cases)
    by_endpoint: dict[AskedEndpoint, list[Case]] = {}
    for case in cases:
        by_endpoint.setdefault(case.asked, []).append(case)
    people = len({case.persona.name for case in cases})
    where = f" to {result.base}" if result.base else ""
    endpoints = f"{plural(len(by_endpoint), 'endpoint')} as {plural(people, 'persona')}"
    headline = f"{plural(len(cases), 'request')}{where}: {endpoints}"
    if twins:
        headline += f"; {twins} more with other methods, headers and parameters"
    sections = [
        Section((endpoint(asked.name, bold=True), "  ", place(asked.declared_at)), tuple(_planned(group)))
        for asked, group in by_endpoint.items()
    ]
    if untried:
        headline += f"; {len(untried)} cannot be tried"
        sections.append(_not_tried(untried))
    return Sheet(
        strong(headline),
        tuple(sections),
        ("Nothing was sent. Next: bloodroot probe asks.",),
        ("method", "template", "path", "persona", "sample", "declared", "line"),
        (
            (
                case.method,
                case.asked.template.text,
                case.raw or case.target,
                case.persona.name,
                case.sample,
                case.declared,
                case.asked.declared_at,
            )
            for case in cases
        ),
    )


def _planned(group: list[Case]) -> Iterator[Line]:
    """The requests to one endpoint, each with the personas by what is declared for them."""
    by_request: dict[tuple[str, str, str, str], dict[str, list[str]]] = {}
    for case in group:
        by_declared = by_request.setdefault((case.method, case.raw or case.target, case.sample, case.spelled), {})
        by_declared.setdefault(case.declared.value, []).append(case.persona.name)
    for (method, target, sample, spelled), by_declared in by_request.items():
        outcomes = "; ".join(f"{declared} {', '.join(names)}" for declared, names in by_declared.items())
        words = ", ".join(filter(None, (sample, f"spelled with {spelled}" if spelled else "")))
        yield line(f"{method} {target}{f'  [{words}]' if words else ''}  {outcomes}", indent=2)
