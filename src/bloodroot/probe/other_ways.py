"""Whether requests in other ways are answered as declared: in other spellings, with a field or a record more."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from ..core.decision import Outcome
from ..core.methods import SAFE
from .facts import AnsweredBy, ResponseKind, Seen
from .plan import Case, Plan, Secret
from .verdicts import Observation, Verdict, says_nothing


def add_other_ways(
    plan: Plan, seen: Mapping[Case, Seen], kept: Mapping[str, Iterable[Secret]], by_case: dict[Case, Observation]
) -> None:
    """Judge what is asked in other ways, beside the request that each was made of.

    Args:
        plan: the plan.
        seen: the facts of every response.
        kept: by the name of a persona, what the answers say is kept from it.
        by_case: what is said of requests as they are; it is added to.
    """
    for case in plan.cases:
        if case not in seen or not case.spelled:
            continue
        secrets = (*plan.secrets.get(case.persona.name, ()), *kept.get(case.persona.name, ()), *case.hides)
        other = replace(_judged(case, _as_far_as_seen(case, seen)), seen=seen[case])
        other = _with_what_it_shows(other, secrets, seen)
        plain = by_case.get(case.plain) if case.twin and case.plain is not None else None
        if plain is not None and plain.verdict is Verdict.AGREE and _is_the_same(other.seen, plain.seen):
            other = replace(other, verdict=Verdict.AGREE, text=plain.text, settle="")
        # What the text of the page says, HEAD does not show.
        is_taught = plain is not None and plain.seen.known and seen[case].status == plain.seen.status
        if is_taught and case.method == "HEAD":
            continue
        # What is open, or not known, as it is, is said of it once.
        known = plain is None or plain.verdict not in (Verdict.HOLE, Verdict.INCONCLUSIVE)
        if known or (plain is not None and plain.verdict is not Verdict.HOLE and other.verdict is Verdict.HOLE):
            by_case[case] = other


def _is_the_same(seen: Seen, plain: Seen) -> bool:
    """Whether an answer is that to the request as it is, and as little came of it."""
    return bool(seen.look) and seen.look == plain.look and not seen.changed and not seen.shown


def _with_what_it_shows(other: Observation, secrets: Iterable[Secret], seen: Mapping[Case, Seen]) -> Observation:
    """The same, judged by what it shows beside what it shows as it is."""
    case, marks = other.case, other.seen.marks
    plain = seen.get(case.plain) if case.plain is not None else None
    if other.verdict in (Verdict.HOLE, Verdict.BLOCKED):
        return other
    for secret in secrets:
        if secret.mark in marks and not secret.granted and (plain is None or secret.mark not in plain.marks):
            return replace(other, verdict=Verdict.HOLE, text=f'shows "{secret.mark}", {secret.words}', settle="")
    reads = plain is not None and plain.changed is False
    if other.verdict is Verdict.INCONCLUSIVE and case.of_others and reads and other.seen.came is ResponseKind.MADE:
        # The endpoint reads. That the record is left out is seen by its mark alone.
        if any(secret.record and secret.record.items() <= case.values.items() for secret in secrets):
            return replace(other, verdict=Verdict.AGREE, text="left out", settle="")
        return replace(other, settle='write mark = "text of that record alone" beside it in [samples]')
    return other


def _as_far_as_seen(case: Case, seen: Mapping[Case, Seen]) -> Seen:
    """The facts of a response. That a field was left as it was counts only where a change of its record is seen."""
    found, plain = seen[case], seen.get(case.plain) if case.plain is not None else None
    if case.changes and found.changed is False and (plain is None or not plain.changed):
        return replace(found, changed=None)
    return found


def _change_of_field(case: Case, seen: Seen) -> Observation:
    """A change of a field by a caller who may use the endpoint, and may not change the field."""
    if seen.changed:
        return Observation(case, seen, Verdict.HOLE, f"accepted a change of {case.changes}")
    if seen.came is ResponseKind.REFUSED or seen.by is AnsweredBy.POLICY:
        return Observation(case, seen, Verdict.AGREE, f"refused a change of {case.changes}")
    if seen.changed is False and seen.came in (
        ResponseKind.MADE,
        ResponseKind.DONE,
        ResponseKind.SENT,
    ):
        return Observation(case, seen, Verdict.AGREE, f"{case.changes} was left as it was")
    if seen.changed is False and case.of_others and seen.came in (ResponseKind.UNFIT, ResponseKind.NOT_FOUND):
        # But for the record that it names, the request is one that was let in.
        return Observation(case, seen, Verdict.AGREE, "kept out")
    unclear = says_nothing(case, seen)
    if unclear is not None:
        return Observation(case, seen, Verdict.INCONCLUSIVE, *unclear)
    text = f"answered {seen.status} to a change of {case.changes}"
    settle = "write state under [probe], and a body that changes something, so that it is seen what was changed"
    return Observation(case, seen, Verdict.INCONCLUSIVE, text, settle)


def _judged(case: Case, seen: Seen) -> Observation:
    """A request in another way, by itself: only what reaches the handler counts."""
    if case.changes:
        return _change_of_field(case, seen)
    text = f"let in when spelled with {case.spelled}"
    if seen.shown:
        return Observation(case, seen, Verdict.HOLE, f'shows "{seen.shown[0]}", asked with {case.spelled}')
    if case.allowed and not (case.method in SAFE and seen.changed):
        return Observation(case, seen, Verdict.AGREE, "open by itself, and nothing more was done")
    if seen.changed or (seen.status == 304 and case.declared is not Outcome.ALLOW and not seen.stranger):
        return Observation(case, seen, Verdict.HOLE, text)
    if seen.came in (ResponseKind.LOST, ResponseKind.LIMITED):
        return Observation(case, seen, Verdict.INCONCLUSIVE, "no usable answer", "ask again, more slowly")
    if case.method == "OPTIONS" and seen.came is ResponseKind.MADE and not seen.words:
        return Observation(case, seen, Verdict.AGREE, "says which methods there are")
    reached = seen.by is AnsweredBy.HANDLER or (seen.by is AnsweredBy.UNSEEN and case.method != "OPTIONS")
    if reached and not seen.stranger and seen.came in (ResponseKind.MADE, ResponseKind.DONE):
        return Observation(case, seen, Verdict.HOLE, text)
    return Observation(case, seen, Verdict.AGREE, "kept out")
