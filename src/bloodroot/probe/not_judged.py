"""What a run has not judged beside single requests, in sentences; and where the settings accept that."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ..core.binding import RouteKind
from ..core.patterns import matches
from .facts import AnsweredBy
from .judging import Verdict

if TYPE_CHECKING:
    from ..settings import Settings
    from .application import Application
    from .facts import Seen
    from .judging import Observation
    from .plan import Case, Plan


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
    return [each.case.asked.name for each in observations if each.verdict is Verdict.INCONCLUSIVE]


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


def doubts_of(application: Application, observations: list[Observation]) -> Iterator[str]:
    """What was not judged beside single requests."""
    sockets = [route for route in application.routes or () if route.kind == RouteKind.WEBSOCKET]
    if sockets:
        names = ", ".join(route.path for route in sockets[:5])
        yield f"WebSocket routes are not asked: {names}{' and others' if len(sockets) > 5 else ''}"
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
    ]
    looked_at = [observation for observation in done if observation.seen.changed is not None]
    if looked_at and not any(observation.seen.changed for observation in looked_at):
        yield (
            "probe.state was the same after every request that was let in: it does not see what they change, and so "
            "says nothing of those that were refused"
        )


def marks_not_seen(plan: Plan, facts: dict[Case, Seen]) -> Iterator[str]:
    """Marks that no one was shown: looking for them has shown nothing."""
    seen = {mark for each in facts.values() for mark in each.marks}
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
