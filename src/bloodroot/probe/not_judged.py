"""What a run has not judged beside single requests, in sentences; and where the settings accept that."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from ..core.patterns import matches
from .facts import AnsweredBy, ResponseKind
from .spelling import is_same_page
from .verdicts import Verdict

if TYPE_CHECKING:
    from ..settings import Settings
    from .application import Application
    from .facts import Seen
    from .plan import Case, Plan
    from .verdicts import Observation


def accepted_at(plan: Plan, settings: Settings) -> dict[str, str]:
    """The endpoints at which it is accepted that something is not judged, each with the reason."""
    names = {case.asked.name for case in plan.cases} | {skipped.asked.name for skipped in plan.untried}
    return {
        name: reason
        for pattern, reason in settings.probe.accept.items()
        for name in sorted(names)
        if matches(name, [pattern])
    }


def unclear_at(observations: list[Observation]) -> list[str]:
    return [observation.case.asked.name for observation in observations if observation.verdict is Verdict.INCONCLUSIVE]


def on_accepted(accepted: dict[str, str], unjudged: list[str], settings: Settings) -> Iterator[str]:
    """At which endpoints it was accepted that something is not judged; and what accepts nothing any more."""
    for name, reason in accepted.items():
        if name in unjudged:
            yield f"not all was judged at {name}, which is accepted: {reason}"
    for pattern in settings.probe.accept:
        if not any(matches(name, [pattern]) for name in unjudged):
            yield f'probe.accept "{pattern}" accepts nothing: everything there was judged; leave it out'


NOT_PUT_BACK = (
    "probe.reset does not put the data back: what probe.state shows was another one after a reset; correct reset, or "
    "let state show only what reset puts back"
)


def dispatchers(observations: list[Observation]) -> dict[str, str]:
    """Endpoints whose body says what is done, each with what that leaves open."""
    found: dict[str, str] = {}
    for case in (observation.case for observation in observations):
        if not case.safe and case.asked.name not in found and _is_dispatched(case):
            found[case.asked.name] = (
                f"{case.asked.name}: its body says what is done, which no line of the policy sees. What [bodies] has "
                "was asked; test the rest in the application, and accept that with a reason in [probe.accept]"
            )
    return found


def _is_dispatched(case: Case) -> bool:
    last = case.asked.template.segments[-1:]
    content = case.body.content if case.body is not None else None
    names = content if isinstance(content, Mapping) else {}
    query = names.get("query")
    is_graph = isinstance(query, str) and "{" in query
    return is_graph or "jsonrpc" in names or (bool(last) and last[0] in _DISPATCHING)


_DISPATCHING = ("graphql", "jsonrpc", "xmlrpc", "rpc", "batch", "$batch")


def outside(application: Application) -> Iterator[str]:
    """What lies outside of a plan."""
    if application.routes is None:
        yield "which endpoints the application serves is not known: what the policy does not name was not asked for"


def only_let_in(plan: Plan, facts: Mapping[Case, Seen], settings: Settings) -> Iterator[str]:
    """Pages of which it was looked at who is let in, and not what they show: no mark is in any answer."""
    kept = {name for each in (plan.secrets, plan.unsure) for name, secrets in each.items() if secrets}
    # In the order of the plan, whichever answer came first.
    answered = [(case, facts[case]) for case in plan.cases if case in facts]
    let_in = [(case, seen) for case, seen in answered if case.allowed and seen.came is ResponseKind.MADE]
    asked = {case.asked: None for case, _ in let_in if case.method in ("GET", "POST") and not case.values}
    looked_into = {case.asked for case, seen in let_in if seen.marks or seen.changed or _signs_in(case, settings)}
    for_some = {case.asked for case, _ in let_in if case.persona.name in kept}
    names = [each.name for each in asked if each in for_some - looked_into]
    if names:
        listed = f"{', '.join(names[:_MOST_NAMED])}{' and others' if len(names) > _MOST_NAMED else ''}"
        yield f"who is let in was looked at, and not what is shown, as no mark is in any answer: {listed}"


def _signs_in(case: Case, settings: Settings) -> bool:
    return any(way.path and is_same_page(way.path, case.path) for way in settings.probe.sign_ins)


_MOST_NAMED = 8


def doubts_of(observations: list[Observation], settings: Settings) -> Iterator[str]:
    """What was not judged beside single requests."""
    unseen = [observation for observation in observations if _may_have_changed(observation)]
    if unseen:
        first = unseen[0].case
        yield (
            f"whether refused requests changed something was not looked at ({first.method} {first.target} as "
            f"{first.persona.name}{' and others' if len(unseen) > 1 else ''}); write state under [probe]"
        )
    done = [
        observation
        for observation in observations
        if observation.case.allowed and not observation.case.safe and observation.verdict is Verdict.AGREE
        if not _signs_in(observation.case, settings)
    ]
    looked_at = [observation for observation in done if observation.seen.changed is not None]
    if looked_at and not any(observation.seen.changed for observation in looked_at):
        yield (
            "probe.state was the same after every request that was let in: it does not see what they change, and so "
            "says nothing of those that were refused"
        )


def marks_not_seen(plan: Plan, facts: dict[Case, Seen]) -> Iterator[str]:
    """Marks that no one was shown: looking for them has shown nothing."""
    seen = {mark for fact in facts.values() for mark in fact.marks}
    if plan.whole:
        for mark in plan.marks:
            if mark not in seen:
                yield (
                    f'the mark "{mark}" was in no answer to anyone: looking for it shows nothing; correct it, or add a '
                    "persona who may see it"
                )


def _may_have_changed(observation: Observation) -> bool:
    """Whether a refused request may have done its work before it was refused."""
    case = observation.case
    before = observation.seen.by is AnsweredBy.POLICY and not observation.seen.reached
    return not case.allowed and not case.safe and not before and observation.seen.changed is None
