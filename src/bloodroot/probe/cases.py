"""Which requests a probe sends, as whom, and what the policy declares for each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.decision import Outcome
from ..core.requirements import asks_for_guard, conditions_in
from ..settings import Example, Persona, Settings, SettingsError

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from ..core.decision import Decision
    from ..core.lines import Line
    from ..core.policy import Policy

SAFE = ("GET", "HEAD", "OPTIONS")


@dataclass(frozen=True, slots=True, eq=False)
class Case:
    """One request as one persona.

    Attributes:
        line: the endpoint line that decides.
        method: in capitals.
        path: with every parameter filled in.
        persona: who asks.
        declared: what the policy says: allow, deny or sign-in.
        sent_to: where the policy sends the caller instead, or None.
        sample: which record it is for, such as ``own-trial holds``; empty where that makes no difference.
    """

    line: Line
    method: str
    path: str
    persona: Persona
    declared: Outcome
    sent_to: str | None = None
    sample: str = ""

    @property
    def safe(self) -> bool:
        """Whether the method promises to change nothing (RFC 9110, section 9.2.1)."""
        return self.method in SAFE


@dataclass(frozen=True, slots=True)
class Untried:
    """A request that could not be made, and why."""

    line: Line
    method: str
    persona: Persona
    why: str


@dataclass(frozen=True, slots=True)
class Secret:
    """Text of a record that a persona may not see, wherever it turns up.

    Attributes:
        mark: the text.
        condition: the condition that keeps the record from the persona.
        page: the line that would refuse the record itself.
    """

    mark: str
    condition: str
    page: Line


@dataclass(frozen=True, slots=True)
class Plan:
    """All that a probe is going to ask.

    Attributes:
        cases: the requests.
        untried: what it cannot ask.
        secrets: by the name of a persona, texts that it may not see.
    """

    cases: tuple[Case, ...]
    untried: tuple[Untried, ...]
    secrets: Mapping[str, tuple[Secret, ...]]


@dataclass(frozen=True, slots=True)
class _Variant:
    """One way to fill in the path of a line."""

    values: Mapping[str, str]
    condition: str = ""
    holds: bool = True


def plan(policy: Policy, settings: Settings) -> Plan:
    """Work out every request from a policy and the samples of the settings."""
    cases: dict[tuple[str, str, str, str], Case] = {}
    untried: list[Untried] = []
    secrets: dict[str, dict[str, Secret]] = {}
    specialized = {line.place for line in policy.endpoints if line.guards}
    for line in policy.endpoints:
        if line.place in specialized and not line.guards and asks_for_guard(line.requirement.formula):
            # Each endpoint that it leaves to a guard has a line of its own here.
            continue
        for method in line.methods or ("GET",):
            for persona in settings.personas.values():
                for case in _cases(policy, settings, line, method, persona):
                    if isinstance(case, Untried):
                        untried.append(case)
                    else:
                        cases.setdefault((method, case.path, persona.name, case.declared), case)
            for secret, persona in _secrets(policy, settings, line, method):
                secrets.setdefault(persona.name, {}).setdefault(secret.mark, secret)
    return Plan(tuple(cases.values()), tuple(untried), {name: tuple(each.values()) for name, each in secrets.items()})


def _cases(policy: Policy, settings: Settings, line: Line, method: str, persona: Persona) -> Iterator[Case | Untried]:
    """The requests for one endpoint as one persona."""
    made = 0
    missing = ""
    for variant in _variants(policy, settings, line, method):
        try:
            path = _path(settings, line, variant, persona)
        except SettingsError as error:
            # This persona has no such record of its own. Another variant may do.
            missing = missing or str(error)
            continue
        except KeyError as error:
            name = error.args[0]
            yield Untried(line, method, persona, f"no value for {{{name}}}; write {name} = ... under [samples]")
            return
        declared = _declared(policy, persona, method, path, variant)
        made += 1
        if declared.remainder is not None:
            asks = declared.remainder.words()
            message = f"depends on {asks}; write [samples.{asks}] with holds and fails"
            if asks_for_guard(declared.remainder):
                message = f"depends on {asks}: what the guard asks is in the application, and not in the policy"
            yield Untried(line, method, persona, message)
        else:
            sample = f"{variant.condition} {'holds' if variant.holds else 'fails'}" if variant.condition else ""
            answer = declared.answer
            sent_to = answer.location if answer is not None else None
            yield Case(line, method, path, persona, declared.outcome, sent_to, sample)
    if not made:
        yield Untried(line, method, persona, missing)


def _variants(policy: Policy, settings: Settings, line: Line, method: str) -> list[_Variant]:
    """The samples that make a difference to an endpoint; the plain values where none does."""
    variants = []
    names = dict.fromkeys(c.name for _, formula in policy.engine.asked(line, method) for c in conditions_in(formula))
    for name in names:
        sample = settings.samples.get(name)
        if sample is None:
            continue
        for example, holds in ((sample.holds, True), (sample.fails, False)):
            if example is not None and not set(example.values).isdisjoint(line.template.names):
                variants.append(_Variant({**settings.values, **example.values}, name, holds))
    return variants or [_Variant(settings.values)]


def _path(settings: Settings, line: Line, variant: _Variant, persona: Persona) -> str:
    """The path of a line with a variant's values.

    Raises:
        KeyError: a parameter has no value.
        SettingsError: a value requires something the persona does not have.
    """
    whole = settings.values.get(line.template.text)
    if whole is not None:
        return settings.fill(whole, persona, f'samples."{line.template.text}"')
    needed = {name: variant.values[name] for name in line.template.names}
    return line.template.fill(
        {name: settings.fill(value, persona, f"samples.{name}") for name, value in needed.items()}
    )


def _declared(policy: Policy, persona: Persona, method: str, path: str, variant: _Variant) -> Decision:
    """What the policy says, the sample taken at its word where it matters."""
    decision = policy.decide(persona.caller, method, path, query={})
    if decision.outcome is Outcome.DEPENDS and variant.condition:
        given = {variant.condition: variant.holds}
        decision = policy.decide(persona.caller, method, path, query={}, assume=given)
    return decision


def _secrets(policy: Policy, settings: Settings, line: Line, method: str) -> Iterator[tuple[Secret, Persona]]:
    """Marked records that this endpoint, being the record's own page, keeps from a persona."""
    if method != "GET":
        return
    for variant in _variants(policy, settings, line, method):
        example = _example(settings, variant)
        if example is None or example.mark is None or variant.holds:
            continue
        for persona in settings.personas.values():
            try:
                path = _path(settings, line, variant, persona)
            except (SettingsError, KeyError):
                continue
            declared = _declared(policy, persona, method, path, variant)
            if declared.reason is not None:
                yield Secret(example.mark, variant.condition, line), persona


def _example(settings: Settings, variant: _Variant) -> Example | None:
    sample = settings.samples.get(variant.condition)
    return None if sample is None else sample.holds if variant.holds else sample.fails
