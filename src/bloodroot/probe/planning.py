"""Which requests a probe sends, as whom, and what the policy declares for each."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import parse_qs

from ..core.decision import Decision, Outcome
from ..core.endpoint_outcomes import asked_at, outcome_at
from ..core.formulas import TRUE, Facts, Formula, both, can_be_true, opposite, walk
from ..core.locating import Together
from ..core.methods import SAFE
from ..core.paths import Parameter, read_path
from ..core.question import Question
from ..core.reasoning import Reasoner
from ..core.records import UNKNOWN
from ..core.request_facts import facts_for
from ..core.requirements import HELD, asks_for_guard, conditions_in, references_in, rests_on_records
from ..settings import Body, Persona, Settings, SettingsError
from .body_records import filled_body, named_in, with_names, with_others
from .marks import KeptSecrets, lists_without_marks, marks_of
from .plan import Case, KnownValues, Plan, PlanFilter, Secret, SkippedRequest
from .samples import NoValueError, SampleRecord, records_for, target
from .spelling import is_same_page
from .thing_samples import ThingSamples

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .asked_endpoints import AskedEndpoint

_MOST_CONDITIONS = 6
_FAIL = ("fails", "fail")


def plan(
    policy: Policy,
    settings: Settings,
    endpoints: Iterable[AskedEndpoint],
    known_values: KnownValues | None = None,
    chosen: PlanFilter | None = None,
) -> Plan:
    """Work out every request from a policy and the samples of the settings.

    Args:
        policy: what is declared.
        settings: the personas, the samples, the bodies.
        endpoints: the endpoints, as `endpoints_asked` has them.
        known_values: what is known of the application beside the settings.
        chosen: which part of the plan is wanted; None for all of it.

    Raises:
        SettingsError: a sample contradicts the condition that it is for.
    """
    known_values, chosen = known_values or KnownValues(), chosen or PlanFilter()
    cases: dict[tuple[str, ...], Case] = {}
    untried: list[SkippedRequest] = []
    kept = KeptSecrets()
    personas = personas_asked(settings)
    every: list[Case] = []
    held: dict[str, set[bool | None]] = {}
    for endpoint in endpoints:
        bodies = _bodies_for(endpoint, settings)
        for number, body in enumerate(bodies, 1):
            planning = _Planning(policy, settings, endpoint, known_values, held, body)
            for persona in personas:
                planned = planning.requests(persona)
                if len(bodies) > 1:
                    planned = [_with_number(request, number) for request in planned]
                every += [request for request in planned if isinstance(request, Case)]
                kept.add(persona.name, planning.secrets(persona))
                if chosen.endpoint(endpoint) and chosen.persona(persona):
                    untried += [request for request in planned if isinstance(request, SkippedRequest)]
                    for case in planned:
                        if isinstance(case, Case):
                            cases.setdefault(case.key, case)
    secrets = kept.secrets(every)
    sure, unsure = (
        {
            name: tuple(secret for secret in found if (secret.by is None and not secret.granted) is wanted)
            for name, found in secrets.items()
        }
        for wanted in (True, False)
    )
    return Plan(
        tuple(cases.values()),
        _each_once(untried),
        sure,
        unsure,
        tuple(dict.fromkeys(marks_of(settings))),
        lists_without_marks(every, secrets),
        whole=chosen.whole,
        doubts=_suiting_none(settings, held),
    )


def _suiting_none(settings: Settings, held: Mapping[str, set[bool | None]]) -> tuple[str, ...]:
    """What to say of samples under ``holds`` whose condition fails for every persona."""
    return tuple(
        f"{settings.file.name}: samples.{name}.holds: {name} fails there for every persona; correct the sample"
        for name, answers in held.items()
        if answers == {False}
    )


def personas_asked(settings: Settings) -> list[Persona]:
    """The personas to ask as."""
    wanted = settings.probe.personas
    return [persona for persona in settings.personas.values() if not wanted or persona.name in wanted]


def _each_once(untried: list[SkippedRequest]) -> tuple[SkippedRequest, ...]:
    """Each of them once, where several bodies of an endpoint lack the same."""
    return tuple({(skipped.asked, skipped.persona.name, skipped.why): skipped for skipped in untried}.values())


def _bodies_for(endpoint: AskedEndpoint, settings: Settings) -> tuple[Body | None, ...]:
    """The bodies that the settings have for an endpoint; None alone where they have none."""
    named = endpoint.line.template.text if endpoint.line is not None else endpoint.template.text
    found = settings.bodies.get(endpoint.name) or settings.bodies.get(f"{endpoint.method} {named}")
    if found is None and endpoint.undeclared and endpoint.method not in SAFE:
        # A view that takes any method does with this one what it does by POST.
        found = settings.bodies.get(f"POST {named}")
    return found or (None,)


def _with_number(planned: Case | SkippedRequest, number: int) -> Case | SkippedRequest:
    """A request that says which of several bodies it sends."""
    if isinstance(planned, SkippedRequest):
        return planned
    return replace(planned, in_body=", ".join(filter(None, (f"body {number}", planned.in_body))))


class _Request(NamedTuple):
    """A request for a record, and what is declared for it.

    Attributes:
        path: the path, with every parameter filled in.
        query: the query, encoded.
        record: the record, with what the policy itself can tell of it.
        declared: what the policy says, the sample taken at its word where that matters.
        by_record: whether it is the record that decides.
    """

    path: str
    query: str
    record: SampleRecord
    declared: Decision
    by_record: bool

    @property
    def truths(self) -> dict[str, bool]:
        """By condition, whether it holds for the record, as far as that is known."""
        return {**self.record.settled, **self.record.known}


class _Planning:
    """The requests for one endpoint.

    Args:
        policy: what is declared.
        settings: the personas, the samples, the bodies.
        endpoint: the endpoint.
        known_values: what is known of the application beside the settings.
        held: by condition, what the policy says of records under ``holds``: true, false or None for nothing. It is
            added to.
        body: what the settings send there, or None.
    """

    def __init__(
        self,
        policy: Policy,
        settings: Settings,
        endpoint: AskedEndpoint,
        known_values: KnownValues,
        held: dict[str, set[bool | None]],
        body: Body | None,
    ) -> None:
        self.held = held
        self.reasoner = Reasoner()
        self._records: dict[str, list[SampleRecord]] = {}
        self.policy = policy
        self.settings = settings
        self.asked = endpoint
        self.conditions: tuple[str, ...] = ()
        if endpoint.line is not None:
            formulas = [formula for _, formula in asked_at(policy, endpoint.line, endpoint.method)]
            self.conditions = tuple(
                dict.fromkeys(condition.name for formula in formulas for condition in conditions_in(formula))
            )
        if body is None and endpoint.method not in SAFE:
            body = known_values.body(endpoint)
            body = with_names(body, self.in_samples()) if body is not None else None
        self.body = body
        self.in_body = named_in(body)
        self.examples = known_values.examples(endpoint)
        self.beside = self.conditions_beside()
        things = policy.roles.things
        self.things = ThingSamples(things, settings)
        self.named = things.named(endpoint.template.names)

    def conditions_beside(self) -> tuple[str, ...]:
        """The conditions whose samples are asked for although the endpoint itself asks for none of them.

        What fields depend on; and where nothing else has a value for a parameter, all that have one.
        """
        names = set(self.asked.template.names)
        fitting = [
            name
            for name, sample in self.settings.samples.items()
            if any(names & example.values.keys() for example in (*sample.holds, *sample.fails))
        ]
        in_fields = {
            condition.name
            for kind in self.settings.probe.fields
            if kind in self.policy.fields
            for rule in self.policy.fields[kind].rules.values()
            for condition in conditions_in(rule.read)
        }
        known = {*self.settings.values, *self.examples, *self.settings.probe.values}
        if not self.conditions and not self.policy.roles.things.named(tuple(names)) and names - known:
            return tuple(fitting)
        return tuple(name for name in fitting if name in in_fields)

    def in_samples(self) -> dict[str, str]:
        """The values that samples of the conditions have beside the parameters of the path, each with its condition."""
        found: dict[str, str] = {}
        for name in self.conditions:
            sample = self.settings.samples.get(name)
            for example in (*sample.holds, *sample.fails) if sample is not None else ():
                for parameter in example.values:
                    if parameter not in self.asked.template.names:
                        found.setdefault(parameter, name)
        return found

    def requests(self, persona: Persona) -> list[Case | SkippedRequest]:
        """The requests as one persona, and what of them cannot be made."""
        made: list[Case] = []
        missing = ""
        tried: list[Mapping[str, bool]] = []
        open_ones: list[Decision] = []
        for record in self.records(persona):
            try:
                path, query = target(self.settings, self.asked, record, persona)
            except NoValueError as error:
                return [SkippedRequest(self.asked, persona, str(error))]
            except SettingsError as error:
                # This persona has no such record of its own. Another one may do.
                missing = missing or str(error)
                continue
            request = self.request(persona, self.corrected(persona, record, query), path, query)
            if request.declared.remainder is not None:
                open_ones.append(request.declared)
                continue
            if not record.crossed:
                tried.append(request.truths)
            lacking_value = next((name for name in self.in_body.parameters if name not in record.values), None)
            if lacking_value is None:
                made.append(self.case(persona, request))
            else:
                missing = missing or f"no sample has a {lacking_value} for the body"
        others = with_others(self.body, self.in_body, made) if self.body is not None else []
        # A record of which too little is known is missed only where no other takes its place: `lacking` says that.
        if tried and all(self.has_samples(persona, declared) for declared in open_ones):
            open_ones = []
        untried = [_depends(declared) for declared in open_ones]
        if made:
            lacking = self.things.lacks_crossing(self.records(persona), self.named)
            untried += [*([lacking] if lacking else []), *self.lacking(persona, tried)]
        elif not untried:
            untried = [missing or "no sample leads to a record"]
        return [*made, *others, *(SkippedRequest(self.asked, persona, why) for why in untried)]

    def request(self, persona: Persona, record: SampleRecord, path: str, query: str) -> _Request:
        """The request for a record, with what is declared for it."""
        declared = self.declared(persona, path, query, record)
        by_record = declared.reason is not None and self.is_let_in_elsewhere(persona, path, record)
        return _Request(path, query, record, declared, by_record)

    def case(self, persona: Persona, request: _Request) -> Case:
        """A request as it is asked, with its body."""
        path, record, truths = request.path, request.record, request.truths
        body = self.body or self.signing_in(persona, path)
        if body is not None and self.in_body.parameters:
            body = filled_body(body, record.values)
        return Case(
            self.asked,
            path,
            request.query,
            persona,
            request.declared.outcome,
            request.declared.answer,
            self.words(record),
            record.values,
            truths,
            body,
            crossed=bool(record.crossed),
            by_record=request.by_record,
            owned=request.by_record and self.is_owned(persona, path, record, truths),
            in_body=", ".join(f"{name} {record.values[name]}" for name in self.in_body.parameters),
        )

    def words(self, record: SampleRecord) -> str:
        """Which record it is, by the conditions that the endpoint itself, or its body, asks for."""
        names = {*self.conditions, *self.in_body.conditions}
        return replace(record, known={name: truth for name, truth in record.known.items() if name in names}).words

    def signing_in(self, persona: Persona, path: str) -> Body | None:
        """What is sent to the application's own sign-in; a visitor signs in as the first persona who can."""
        way = next((way for way in self.settings.probe.sign_ins if way.path and is_same_page(way.path, path)), None)
        if way is None or not (self.asked.method == "POST" or self.asked.undeclared):
            return None
        for who in (persona, *self.settings.personas.values()):
            if not who.signed_in:
                continue
            try:
                fields = {name: self.settings.fill_in(text, who) for name, text in way.fields.items()}
            except SettingsError:
                continue
            return Body("form" if way.how == "form" else "json", fields)
        return None

    def records(self, persona: Persona) -> list[SampleRecord]:
        """The records to ask for."""
        asked_for = self._records.get(persona.name)
        if asked_for is None:
            conditions = tuple(dict.fromkeys((*self.conditions, *self.in_body.conditions, *self.beside)))
            names = {*self.asked.template.names, *self.in_body.parameters}
            asked_for = records_for(self.settings, names, conditions, persona, self.examples)
            candidates = self.candidates(persona, names)
            if candidates:
                asked_for = [each for each in asked_for if names <= each.values.keys()] + candidates
            if self.named:
                asked_for = [
                    address for record in asked_for for address in self.things.addresses(record, self.named)
                ] or asked_for
            self._records[persona.name] = asked_for
        return asked_for

    def candidates(self, persona: Persona, names: set[str]) -> list[SampleRecord]:
        """The records that the settings name without saying what holds for them: for each persona, they say it."""
        identifying = (*reversed(self.asked.template.names), *self.in_body.parameters)
        name = next((name for name in identifying if name in self.settings.loaded), None)
        if name is None:
            return []
        base = records_for(self.settings, names, (), persona, self.examples)[0].values
        found = []
        for value, record in self.settings.loaded[name].items():
            facts = facts_for(
                self.policy.roles, persona.caller, record=record, path={**base, name: value}, query=UNKNOWN
            )
            left = {each: condition.test.fold(facts) for each, condition in self.policy.conditions.items()}
            known = {each: test is TRUE for each, test in left.items() if test is TRUE or not can_be_true(test)}
            found.append(SampleRecord({**base, name: value}, known=known))
        return found if self.conditions else found[:1]

    def decided(
        self,
        persona: Persona,
        path: str,
        query: str,
        assume: Mapping[str, bool] | None,
        records: Mapping[str, Any] | None = None,
    ) -> Decision:
        """What the policy says of a request that this endpoint serves."""
        question = Question(persona.caller, self.asked.method, path)
        question.line, question.routed = self.asked.line, True
        sent = parse_qs(query, keep_blank_values=True) if query else {}
        question.query = {name: values[0] if len(values) == 1 else values for name, values in sent.items()}
        question.assume, question.records = assume, records or None
        return self.policy.evaluator.decide(question, read_path(path.rstrip("/") or "/"))

    def corrected(self, persona: Persona, record: SampleRecord, query: str) -> SampleRecord:
        """A record with what the policy itself can tell of it, from the path, the query and the caller.

        A record that is one persona's own is another's for most: what the policy can tell counts.
        """
        if not self.conditions:
            return record
        query_values = {name: values[0] for name, values in parse_qs(query, keep_blank_values=True).items()}
        facts = facts_for(self.policy.roles, persona.caller, path=record.values, query=query_values)
        left = {name: self.policy.conditions[name].test.fold(facts) for name in self.conditions}
        settled = {
            name: formula is TRUE for name, formula in left.items() if formula is TRUE or not can_be_true(formula)
        }
        for name, holds in record.known.items():
            if holds:
                self.held.setdefault(name, set()).add(settled.get(name))
        truths = {name: settled.get(name, holds) for name, holds in record.known.items()}
        return replace(record, known=truths, settled=settled)

    def declared(self, persona: Persona, path: str, query: str, record: SampleRecord) -> Decision:
        """What the policy says, the sample taken at its word where that matters."""
        declared = self.decided(persona, path, query, None, records=record.records)
        if declared.remainder is not None and record.known:
            declared = self.decided(persona, path, query, record.known, records=record.records)
        if self.is_never_let_in(persona, declared.remainder):
            none_holds = dict.fromkeys(self.conditions, False)
            declared = self.decided(persona, path, query, none_holds, records=record.records)
        return declared

    def is_never_let_in(self, persona: Persona, remainder: Formula | None) -> bool:
        """Whether no record can be one where a persona is let in; where its record is within others is left open."""
        if remainder is None or any(isinstance(part, (Together, *HELD)) for part in walk(remainder)):
            return False
        return self.reasoner.never(remainder.fold(self.facts(persona))).holds is True

    def has_samples(self, persona: Persona, declared: Decision) -> bool:
        """Whether all that a decision depends on are conditions with samples."""
        if declared.remainder is None or rests_on_records(declared.remainder) or asks_for_guard(declared.remainder):
            return False
        names = [condition.name for condition in conditions_in(declared.remainder)]
        path, records = self.an_address(persona)
        settled = all(
            self.decided(persona, path, "", dict.fromkeys(self.conditions, truth), records=records).remainder is None
            for truth in (True, False)
        )
        return settled and bool(names) and all(name in self.settings.samples for name in names)

    def is_owned(self, persona: Persona, path: str, record: SampleRecord, truths: Mapping[str, bool]) -> bool:
        """Whether it is a condition that asks for the caller on account of which one is refused."""
        failing = [
            name
            for name in self.conditions
            if truths.get(name) is False
            and any(reference.root == "caller" for reference in references_in(self.policy.conditions[name].test))
        ]
        if not failing:
            return False
        assumed = {**truths, **dict.fromkeys(failing, True)}
        return self.decided(persona, path, "", assumed, records=record.records).reason is None

    def is_let_in_elsewhere(self, persona: Persona, path: str, record: SampleRecord) -> bool:
        """Whether a persona is let in where other conditions hold: then it is the record that decides."""
        return any(
            self.decided(persona, path, "", dict.fromkeys(self.conditions, holds), records=record.records).allowed
            for holds in (True, False)
            if self.conditions
        )

    def lacking(self, persona: Persona, tried: list[Mapping[str, bool]]) -> Iterator[str]:
        """The combinations of conditions that change the outcome for a persona, and that no sample leads to."""
        if self.asked.line is None or not self.conditions:
            return
        outcome, _, remainder = outcome_at(self.policy, self.asked.line, self.asked.method, persona.caller)
        if outcome is not Outcome.DEPENDS or remainder is None:
            return
        names = tuple(dict.fromkeys(condition.name for condition in conditions_in(remainder)))
        if not names:
            return
        if len(names) > _MOST_CONDITIONS:
            yield f"depends on {len(names)} conditions, of which not every combination is looked at: {', '.join(names)}"
            return
        path, records = self.an_address(persona)
        allowed: dict[tuple[bool, ...], bool] = {}
        for truths in itertools.product((True, False), repeat=len(names)):
            decision = self.decided(persona, path, "", dict(zip(names, truths, strict=True)), records=records)
            if decision.outcome is Outcome.DEPENDS:
                return  # on something without a name
            allowed[truths] = decision.allowed
        # What cannot be makes no difference, and is not asked for.
        allowed = {
            truths: outcome_there
            for truths, outcome_there in allowed.items()
            if not self.cannot_be(persona, dict(zip(names, truths, strict=True)))
        }
        for truths, outcome_there in allowed.items():
            flips = [(*truths[:place], not truths[place], *truths[place + 1 :]) for place in range(len(names))]
            if all(allowed.get(flip, outcome_there) is outcome_there for flip in flips):
                continue
            wanted = dict(zip(names, truths, strict=True))
            if not any(all(seen.get(name) is truth for name, truth in wanted.items()) for seen in tried):
                yield _no_sample(wanted)

    def cannot_be(self, persona: Persona, wanted: Mapping[str, bool]) -> bool:
        """Whether no record can be so for a persona: one condition implies another, or its own attributes say it."""
        parts = []
        for name, truth in wanted.items():
            test = self.policy.conditions[name].test.fold(self.facts(persona))
            parts.append(test if truth else opposite(test))
        return self.reasoner.never(both(parts)).holds is True

    def facts(self, persona: Persona) -> Facts:
        """What is known of a persona, whatever it asks for."""
        return facts_for(self.policy.roles, persona.caller, path=UNKNOWN, query=UNKNOWN)

    def secrets_of_things(self, persona: Persona) -> Iterator[Secret]:
        """Marked records of things that their own page keeps from a persona."""
        if not self.named or self.named[-1][0] != self.asked.template.names[-1]:
            return
        if not isinstance(self.asked.template.segments[-1], Parameter):
            return
        for record in self.records(persona):
            mark = self.things.mark(record, self.named)
            if mark is None or record.crossed:
                continue
            try:
                path, query = target(self.settings, self.asked, record, persona)
            except SettingsError:
                continue
            if self.declared(persona, path, query, record).reason is not None:
                yield Secret(mark, f"which GET {path} keeps from them", record.values)

    def an_address(self, persona: Persona) -> tuple[str, Mapping[str, Any]]:
        """An address at which conditions make a difference for a persona, and the records that it leads to."""
        for record in self.records(persona) if self.named else ():
            path = "/" + "/".join(
                record.values.get(part.name, "x") if isinstance(part, Parameter) else str(part)
                for part in self.asked.template.segments
            )
            depends = self.decided(persona, path, "", None, records=record.records).remainder
            if not record.crossed and depends is not None and not rests_on_records(depends):
                return path, record.records
        return "/" + "/".join("x" for _ in self.asked.template.segments), {}

    def secrets(self, persona: Persona) -> Iterator[Secret]:
        """Marked records that this endpoint keeps from a persona, as the record's own page or in place of one."""
        by = None if self.asked.method == "GET" else self.asked
        if by is None:
            yield from self.secrets_of_things(persona)
        elif self.asked.method != "POST":
            return
        if not self.conditions:
            return
        for record in self.records(persona):
            if not record.marks:
                continue
            try:
                path, query = target(self.settings, self.asked, record, persona)
            except SettingsError:
                continue
            record = self.corrected(persona, record, query)
            if self.declared(persona, path, query, record).reason is not None:
                truths = {**record.settled, **record.known}
                fails = [name for name in self.conditions if truths.get(name) is False]
                if not fails:
                    continue  # it is for who they are that they are refused, whatever the record
                words = f"which {self.asked.name} keeps from them: {' and '.join(fails)} {_FAIL[len(fails) > 1]}"
                for mark in dict.fromkeys(record.marks.values()):
                    yield Secret(mark, words, record.values, frozenset(fails), by)


def _depends(declared: Decision) -> str:
    assert declared.remainder is not None
    words = declared.remainder.words()
    if rests_on_records(declared.remainder):
        return f"depends on {words}; write the records, and what they belong to, under [samples.THING]"
    if asks_for_guard(declared.remainder):
        return f"depends on {words}: what the guard asks is in the application, and not in the policy"
    names = list(dict.fromkeys(condition.name for condition in conditions_in(declared.remainder)))
    where = " and ".join(f"[samples.{name}]" for name in names) or "a condition with a name, and samples for it"
    return f"depends on {words}; write {where}" + (" with holds and fails" if names else "")


def _no_sample(wanted: Mapping[str, bool]) -> str:
    words = " and ".join(f"{name} {'holds' if truth else 'fails'}" for name, truth in wanted.items())
    if len(wanted) == 1:
        name, truth = next(iter(wanted.items()))
        return f"no sample where {words}; write {'holds' if truth else 'fails'} = {{ ... }} under [samples.{name}]"
    tables = " and ".join(f"[samples.{name}]" for name in wanted)
    return f"no sample where {words}; write the same record under {tables}"
