"""Sends every request of a plan, as every persona, and compares the answers with the policy."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.patterns import check_patterns, matches
from ..settings import Settings, SettingsError
from .application import Application, application_of
from .asked_endpoints import AskedEndpoint, endpoints_asked
from .curl import USUAL_BASE, curl_lines, repeated
from .examples import examples_of
from .facts import AnsweredBy, ResponseKind, Seen, ways_of
from .field_cases import with_fields
from .journal import Journal, merged
from .judging import is_not_served, judge
from .listed_values import with_listed_values
from .more_records import with_more_records
from .not_judged import (
    NOT_PUT_BACK,
    accepted_at,
    dispatchers,
    doubts_of,
    marks_not_seen,
    on_accepted,
    only_let_in,
    outside,
    unclear_at,
)
from .plan import Case, KnownValues, Plan, PlanFilter, SkippedRequest
from .planning import plan
from .resetting import Data
from .result import PlanResult, ProbeResult
from .sending import Sender
from .sign_in import check_way
from .staleness import Stale, staleness
from .variants import with_variants
from .verdicts import Observation, Verdict
from .verifying import verify, with_candidates

if TYPE_CHECKING:
    from ..core.policy import Policy

JOURNAL = Path(".bloodroot") / "probe.jsonl"
_KEPT_OUT = (
    ResponseKind.REFUSED,
    ResponseKind.SIGN_IN,
    ResponseKind.SENT,
    ResponseKind.NOT_FOUND,
    ResponseKind.NOT_SERVED,
    ResponseKind.UNPROVEN,
    ResponseKind.LIMITED,
)


@dataclass(frozen=True, slots=True)
class Share:
    """A share of a plan.

    Attributes:
        number: which one it is, counted from 1.
        total: how many there are.
    """

    number: int = 1
    total: int = 1

    def __str__(self) -> str:
        return f"{self.number}/{self.total}"


@dataclass(frozen=True, slots=True)
class Options:
    """How a probe is run.

    Attributes:
        hosts: names of hosts, beside this machine, that may be asked.
        chosen: which part of the plan is wanted.
        share: which share of that.
        journal: the file that requests are written down in; None for the one of the settings, or the usual one.
        resume: whether to go on with the journal of a run that was stopped.
        variants: whether refused requests are sent in other spellings too.
        stale: the most seconds that a role may count after it was taken away; None where that is not looked at.
    """

    hosts: tuple[str, ...] = ()
    chosen: PlanFilter = field(default_factory=PlanFilter)
    share: Share = field(default_factory=Share)
    journal: Path | None = None
    resume: bool = False
    variants: bool = False
    stale: float | None = None


# Called with how many answers have come, and how many there will be.
Progressed = Callable[[int, int], None]


def planned(policy: Policy, settings: Settings, options: Options, application: Application) -> Plan:
    """All that an application is going to be asked.

    Raises:
        SettingsError: the settings lack what is needed.
    """
    endpoints = endpoints_to_ask(policy, settings, application)
    check_patterns("--only", options.chosen.patterns, (asked.name for asked in endpoints))
    return planned_for(policy, settings, application, endpoints, options.chosen, every=options.variants)


def endpoints_to_ask(policy: Policy, settings: Settings, application: Application) -> list[AskedEndpoint]:
    """The endpoints that are asked for: all but those that the settings exclude.

    Raises:
        PatternError: a pattern of the settings is for none.
    """
    endpoints = endpoints_asked(policy, application.routes)
    names = [asked.name for asked in endpoints]
    for key, patterns in (("exclude", settings.probe.exclude), ("accept", settings.probe.accept)):
        check_patterns(f"{settings.file.name}: probe.{key}", patterns, names)
    return [asked for asked in endpoints if not matches(asked.name, settings.probe.exclude)]


def planned_for(
    policy: Policy,
    settings: Settings,
    application: Application,
    endpoints: list[AskedEndpoint],
    chosen: PlanFilter | None = None,
    *,
    every: bool = False,
) -> Plan:
    """Every request to some endpoints.

    Args:
        policy: what is declared.
        settings: the personas, the samples, the bodies.
        application: the application.
        endpoints: the endpoints.
        chosen: which part of it is wanted.
        every: whether refused requests are sent in other spellings too.
    """
    examples = examples_of(settings, application)
    requests_planned = plan(policy, settings, endpoints, KnownValues(examples.body, examples.values), chosen)
    if settings.probe.fields:
        requests_planned = with_fields(requests_planned, policy, settings)
    return with_variants(
        with_more_records(requests_planned),
        policy,
        seen=application.here and application.routes is not None,
        routed=application.routes is not None,
        every=every,
        parameters=examples.parameters,
    )


def _application(settings: Settings, options: Options) -> Application:
    """The application that the settings name.

    Raises:
        SettingsError: there is none, it cannot be imported, or there are no personas to ask as.
    """
    if not settings.personas:
        raise SettingsError(f"{settings.file.name}: there are no personas to ask as; write [personas.NAME]")
    return application_of(settings, options.hosts)


def list_plan(policy: Policy, settings: Settings, options: Options) -> PlanResult:
    """What a probe would ask; nothing is sent."""
    application = _application(settings, options)
    settings = _started_with_values(policy, settings, application) if settings.candidates else settings
    found = planned(policy, settings, options, application)
    return PlanResult(found, "" if application.here else application.base)


def merge(policy: Policy, settings: Settings, options: Options, files: list[Path]) -> ProbeResult:
    """The result of several parts of one plan, from their journals.

    Raises:
        JournalError: a journal cannot be used, or a part is missing.
    """
    application = _application(settings, options)
    settings = _started_with_values(policy, settings, application)
    found = planned(policy, settings, options, application)
    facts, faults, doubts = merged(found, files)
    # As in each part, what the records themselves say counts.
    found = asyncio.run(_verified(policy, settings, application, found))
    remaining = _without_changes(found, settings)
    lost = [
        SkippedRequest(case.asked, case.persona, "no journal has it")
        for case in remaining.cases
        if case.key not in facts
    ]
    remaining = replace(remaining, untried=(*remaining.untried, *lost))
    seen = {case: facts[case.key] for case in remaining.cases if case.key in facts}
    result = _result(remaining, seen, application, settings, policy)
    # What all answers together say is looked at here; that a part's data was not put back, only the part has seen.
    seen_in_parts = [doubt for doubt in doubts if doubt == NOT_PUT_BACK]
    return replace(result, sign_in_faults=faults, doubts=tuple(dict.fromkeys((*result.doubts, *seen_in_parts))))


def probe(
    policy: Policy,
    settings: Settings,
    options: Options | None = None,
    *,
    progressed: Progressed | None = None,
) -> ProbeResult:
    """Ask the application that the settings name, in this process or where it is running.

    Args:
        policy: what is declared.
        settings: the application, the personas, the samples.
        options: how it is run.
        progressed: called after each answer with how many have come and how many there will be.

    Raises:
        SettingsError: the application cannot be imported or started, a persona cannot sign in, a sample does not hold,
            the data cannot be put back, or the settings lack what is needed.
        JournalError: the journal cannot be written, or cannot be gone on with.
    """
    options = options or Options()
    application = _application(settings, options)
    # One event loop for all of it: what an application makes when it starts belongs to a loop.
    if settings.probe.values or settings.candidates:
        return asyncio.run(_probe_with_values(policy, settings, options, application, progressed))
    found = planned(policy, settings, options, application)
    return asyncio.run(_probe_started(_Probe(policy, settings, options, application, found, progressed)))


async def _probe_started(run: _Probe) -> ProbeResult:
    async with run.application.running():
        return await run.run()


async def _probe_with_values(
    policy: Policy, settings: Settings, options: Options, application: Application, progressed: Progressed | None
) -> ProbeResult:
    async with application.running():
        settings = await _with_values(policy, settings, application)
        found = planned(policy, settings, options, application)
        return await _Probe(policy, settings, options, application, found, progressed).run()


def _started_with_values(policy: Policy, settings: Settings, application: Application) -> Settings:
    """The settings with what only the running application says, where they ask for that."""

    async def started() -> Settings:
        async with application.running():
            return await _with_values(policy, settings, application)

    return asyncio.run(started()) if settings.probe.values or settings.candidates else settings


async def _verified(policy: Policy, settings: Settings, application: Application, found: Plan) -> Plan:
    if not application.here:
        return found
    async with application.running():
        await Data(settings, application).put_back()
        return await verify(policy, found, application)


async def _with_values(policy: Policy, settings: Settings, application: Application) -> Settings:
    """The same, once its data is as it should be."""
    await Data(settings, application).put_back()
    return await with_values(policy, settings, application)


async def with_values(policy: Policy, settings: Settings, application: Application) -> Settings:
    """The settings with the values that a running application lists, and the records that it loads.

    Raises:
        SettingsError: there is no such value, or no such record.
    """
    settings = await with_listed_values(settings, application)
    return await with_candidates(policy, settings, application) if settings.candidates else settings


class _Probe:
    """One run."""

    def __init__(
        self,
        policy: Policy,
        settings: Settings,
        options: Options,
        application: Application,
        whole: Plan,
        progressed: Progressed | None,
    ) -> None:
        self.policy = policy
        self.settings = settings
        self.options = options
        self.application = application
        self.progressed = progressed
        self.data = Data(settings, application)
        self.part = str(options.share) if options.share.total > 1 else ""
        self.plan = _without_changes(_part(whole, options.share), settings)
        file = options.journal or settings.probe.journal or settings.folder / JOURNAL
        self.journal = Journal(file, whole, str(options.share), resume=options.resume)
        self.facts: dict[Case, Seen] = {
            case: self.journal.answered[case.key] for case in self.plan.cases if case.key in self.journal.answered
        }
        ways = ways_of(settings, here=application.here)
        self._data: str | None = None
        self._signed_in = 0
        self._after: dict[tuple[str, ...], str | None] = {}
        self.sender = Sender(settings, application, ways, self.plan.secrets, self.plan.marks)

    async def run(self) -> ProbeResult:
        """Everything that only reads, many at once; then what changes data, one by one with the data put back."""
        faults: list[str] = []
        stale: list[Stale] = []
        try:
            async with self.sender:
                await self.data.put_back()
                self._verified(await verify(self.policy, self.plan, self.application))
                reading, changing = self._waiting()
                faults = await self._sign_in_faults()
                await self._read_all(reading)
                for case in changing:
                    await self._change(case)
                await self.data.put_back()
                if self.options.stale is not None:
                    asked = self.policy, self.settings, self.plan, self.application, self.sender, self.options.stale
                    stale = await staleness(*asked)
            result = _result(self.plan, self.facts, self.application, self.settings, self.policy)
            if not self.data.is_put_back:
                result = replace(result, doubts=(*result.doubts, NOT_PUT_BACK))
            # What a part has found beside its answers must not be lost when parts are put together.
            self.journal.end(
                result.observations,
                [*faults, *(stale_case.words for stale_case in stale if stale_case.late)],
                len(self.plan.untried),
                result.doubts,
            )
        finally:
            self.journal.close()
        return replace(result, sign_in_faults=tuple(faults), stale=tuple(stale), part=self.part)

    def _verified(self, plan: Plan) -> None:
        """Go on with a plan in which the records themselves have had their say."""
        by_key = {case.key: seen for case, seen in self.facts.items()}
        self.plan = plan
        self.sender.marks = plan.looked_for
        self.facts = {case: by_key[case.key] for case in plan.cases if case.key in by_key}

    def _waiting(self) -> tuple[list[Case], list[Case]]:
        """What is still to be asked: what only reads, and what changes data, DELETE last."""
        waiting = [case for case in self.plan.cases if case not in self.facts]
        changing = [case for case in waiting if not case.safe]
        return [case for case in waiting if case.safe], sorted(changing, key=lambda case: case.method == "DELETE")

    async def _sign_in_faults(self) -> list[str]:
        """Where signing in does not lead where the settings say."""
        faults: list[str] = []
        for way in self.settings.probe.sign_ins:
            if way.lands is None:
                continue
            persona = next((persona for persona in self.settings.personas.values() if persona.signed_in), None)
            if persona is not None:
                faults += await check_way(
                    self.settings, way, persona, self.application, self._closed_page(persona.name)
                )
        return faults

    def _closed_page(self, name: str) -> str | None:
        """A page that a persona may see, and a signed-out caller is asked to sign in for."""
        closed = {
            case.path for case in self.plan.cases if case.asked.method == "GET" and case.declared.value == "sign-in"
        }
        lands = {way.lands for way in self.settings.probe.sign_ins}
        return next(
            (
                case.path
                for case in self.plan.cases
                if case.persona.name == name and case.allowed and case.path in closed - lands and case.method == "GET"
            ),
            None,
        )

    async def _read_all(self, cases: list[Case]) -> None:
        """Ask what only reads: first as those who are to be refused, and see that this changes nothing."""
        refused = [case for case in cases if not case.allowed]
        before = await self.data.fingerprint() if self.data.can_be_seen else None
        await self._read(refused)
        if before is not None and await self.data.fingerprint() != before:
            await self._find_changes(refused)
        await self._read([case for case in cases if case.allowed])
        if before is not None:
            self.data.touched = self.data.touched or await self.data.fingerprint() != before

    async def _find_changes(self, cases: list[Case]) -> None:
        """Ask once more, one by one, to see which of these requests changes data; a sign-in before may have."""
        self.data.touched = True
        for case in cases:
            await self.data.put_back()
            await self.sender.prepare(case)
            before = await self.data.fingerprint()
            seen = await self.sender.ask(case)
            if await self.data.fingerprint() != before:
                self._note(case, replace(seen, changed=True))
                self.data.touched = True
                self.sender.sessions_may_have_ended()

    async def _read(self, cases: list[Case]) -> None:
        limit = asyncio.Semaphore(self.settings.probe.at_once)

        async def one(case: Case) -> None:
            async with limit:
                self._note(case, await self.sender.ask(case))

        try:
            async with asyncio.TaskGroup() as group:
                for case in cases:
                    group.create_task(one(case))
        except ExceptionGroup as failed:
            # The first failure ended the others; it is the one to report, with its own cause.
            first = failed.exceptions[0]
            raise first from first.__cause__
        for case in cases:
            # One of these requests may have signed the persona out while others were under way.
            asked_to_sign_in = self.facts[case].came in (ResponseKind.SIGN_IN, ResponseKind.UNPROVEN)
            if case.allowed and asked_to_sign_in and case.persona.name in self.sender.ended:
                self.sender.sessions_may_have_ended()
                self._note(case, await self.sender.ask(case))

    async def _change(self, case: Case) -> None:
        is_another = self.data.touched
        await self.data.put_back()
        await self.sender.prepare(case)
        before = await self._before(is_another=is_another) if self.data.can_be_seen else None
        self.journal.sending(case)
        self.data.touched = True
        seen = await self.sender.ask(case, around=self.data.around)
        if self.data.around is not None:
            seen = replace(seen, changed=self.data.around.changed, data=self.data.around.after)
        elif before is not None:
            after = await self.data.fingerprint()
            seen = replace(seen, changed=after != before, data=after)
            self.data.touched = after != before
            self._data, self._signed_in = after, self.sender.signed_in
        else:
            # What a handler refuses half way may have changed something.
            self.data.touched = seen.came not in _KEPT_OUT or seen.reached
        if self.data.touched:
            self.sender.sessions_may_have_ended()
        if case.changes and case.plain is not None and seen.changed:
            # What the request changes anyway is no change of the field.
            plain = await self._data_after(case.plain)
            seen = replace(seen, changed=None if plain is None else seen.data != plain)
        self._note(case, seen)

    async def _before(self, *, is_another: bool) -> str:
        """What the data is like before a request: as after the last one, where nothing has come between."""
        if is_another or self._data is None or self.sender.signed_in != self._signed_in:
            return await self.data.fingerprint()
        return self._data

    async def _data_after(self, case: Case) -> str | None:
        """What the data is like after a request; None where that is another each time."""
        if case.key not in self._after:
            looks = set()
            for _ in range(2):
                await self.data.put_back()
                await self.sender.prepare(case)
                await self.sender.ask(case, around=self.data.around)
                around = self.data.around
                looks.add(around.after if around is not None else await self.data.fingerprint())
                self.data.touched = self.data.around is None
                self.sender.sessions_may_have_ended()
            self._after[case.key] = looks.pop() if len(looks) == 1 else None
        return self._after[case.key]

    def _note(self, case: Case, seen: Seen) -> None:
        self.facts[case] = seen
        self.journal.seen(case, seen)
        if self.progressed is not None:
            self.progressed(len(self.facts), len(self.plan.cases))


def _part(whole: Plan, share: Share) -> Plan:
    """A share of a plan. What is judged together stays together."""
    if share.total == 1:
        return whole
    numbers: dict[AskedEndpoint, int] = {}
    for case in whole.cases:
        numbers.setdefault(case.asked, len(numbers))
    mine = {endpoint for endpoint, number in numbers.items() if number % share.total == share.number - 1}
    untried = whole.untried if share.number == 1 else ()
    mine_alone = tuple(case for case in whole.cases if case.asked in mine)
    return replace(whole, cases=mine_alone, untried=untried, whole=False)


def _without_changes(plan: Plan, settings: Settings) -> Plan:
    """A plan without requests that would change data which nothing puts back."""
    if settings.probe.reset is not None:
        return plan
    why = "it would change data, and nothing puts it back; write reset under [probe]"
    changing = [case for case in plan.cases if not case.safe and not case.twin]
    untried = (*plan.untried, *(SkippedRequest(case.asked, case.persona, why) for case in changing))
    return replace(plan, cases=tuple(case for case in plan.cases if case.safe), untried=untried)


def _result(
    plan: Plan, facts: dict[Case, Seen], application: Application, settings: Settings, policy: Policy
) -> ProbeResult:
    """What the facts come to."""
    observations = judge(plan, facts)
    groups: dict[AskedEndpoint, list[Observation]] = {}
    for observation in observations:
        groups.setdefault(observation.case.asked, []).append(observation)
    served = {asked: group for asked, group in groups.items() if not is_not_served(group)}
    kept = [observation for observation in observations if observation.case.asked in served]
    accepted = accepted_at(plan, settings)
    dispatching = dispatchers(kept)
    unjudged = [*(skipped.asked.name for skipped in plan.untried), *unclear_at(kept), *dispatching]
    notes = [
        *plan.notes,
        *_left_out(settings, policy, application),
        *_sent_first(served.values()),
        *outside(application),
        *only_let_in(plan, facts, settings),
        *on_accepted(accepted, unjudged, settings),
    ]
    twins = sum(observation.case.twin and observation.verdict is Verdict.AGREE for observation in kept)
    kept = [seen for seen in kept if not (seen.case.twin and seen.verdict is Verdict.AGREE)]
    base = application.base if not application.here else settings.url or USUAL_BASE
    return ProbeResult(
        tuple(_with_repeat(observation, settings, base) for observation in kept),
        plan.untried,
        (),
        (),
        tuple(dict.fromkeys(notes)),
        "" if application.here else application.base,
        application.made_with.adapter.protection if application.made_with else "bloodroot.enforce",
        any(observation.seen.by is AnsweredBy.POLICY for observation in kept),
        other_ways=twins,
        accepted=accepted,
        doubts=(
            *plan.doubts,
            *doubts_of(kept, settings),
            *(words for name, words in dispatching.items() if name not in accepted),
            *marks_not_seen(plan, facts),
        ),
    )


def _left_out(settings: Settings, policy: Policy, application: Application) -> Iterator[str]:
    """What is not asked, as the settings say."""
    if settings.probe.personas:
        others = [name for name in settings.personas if name not in settings.probe.personas]
        if others:
            yield f"not asked as {', '.join(others)}, as probe.personas says"
    if settings.probe.exclude:
        names = (asked.name for asked in endpoints_asked(policy, application.routes))
        left = sum(matches(name, settings.probe.exclude) for name in names)
        yield f"left out, as probe.exclude says: {left} endpoints ({', '.join(settings.probe.exclude)})"


def _sent_first(groups: Iterable[list[Observation]]) -> Iterator[str]:
    """Where the router asks for another spelling before it serves."""
    for group in groups:
        followed = next((observation.seen.followed for observation in group if observation.seen.followed), "")
        if followed:
            yield f"{group[0].case.asked.name}: the router sends to {followed} first"


def _with_repeat(observation: Observation, settings: Settings, base: str) -> Observation:
    if observation.verdict is Verdict.AGREE:
        return observation
    return replace(observation, repeat=tuple(curl_lines(settings, repeated(observation.case, base))))
