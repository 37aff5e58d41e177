"""Findings about denials: pages that are hidden for one reason and given away by another, and answers never given."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.answers import REASONS, Denial
from ..core.endpoint_outcomes import asked_at
from ..core.finding import Finding, FindingKind, Severity
from ..core.formulas import TRUE
from ..core.methods import ANY, covers
from ..core.paths import overlap, parse_template
from ..core.reasons import UNNAMED, blamable
from ..core.requirements import conditions_in
from ..core.roles import SIGNED_OUT
from ..core.routing import PathTree
from .reach import Unit
from .subject import Subject

GIVEN_AWAY = FindingKind(
    "hidden-page-given-away",
    Severity.WARNING,
    "A page is hidden from those whom it refuses for one reason, and another reason tells them that it is there.",
    "Hide it for every reason: write any in the place of the reason.",
)
IDLE_DENIAL = FindingKind(
    "idle-denial",
    Severity.WARNING,
    "A denial answers a condition that nothing under its path requires, so that it is never used.",
    "Correct its path or its reason, or remove it.",
)
KINDS = (GIVEN_AWAY, IDLE_DENIAL)
_MOST_NAMED = 4
_ANYWHERE = parse_template("/**")


_OF_CALLERS = ("signed-out", "signed-in", "role")


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    yield from _given_away(subject)
    yield from _idle(subject)


def _given_away(subject: Subject) -> Iterator[Finding]:
    if not any(denial.kind == "hide" for denial in subject.policy.answers.denials):
        return
    given_away: dict[tuple[Denial, str, str], tuple[Denial, list[str]]] = {}
    by_place = {denial.place: denial for denial in subject.policy.answers.denials}
    for unit in subject.reach.units:
        method = "GET" if unit.method == ANY else unit.method
        path = unit.template.fill(dict.fromkeys(unit.template.names, "x"))
        answers = {reason: subject.policy.answers.answer(method, path, reason) for reason in _reasons(subject, unit)}
        hidden = [reason for reason, answer in answers.items() if answer.hidden]
        for reason, answer in answers.items():
            if reason in _OF_CALLERS and hidden and hidden[0] not in _OF_CALLERS:
                continue  # they are refused at every record alike, whether there is one or not
            if hidden and not answer.hidden:
                denial = by_place[answers[hidden[0]].place]  # type: ignore[index]
                key = (denial, hidden[0], reason)
                how = f"a redirect to {answer.location}" if answer.location else f"status {answer.status}"
                given_away.setdefault(key, (denial, [how]))[1].append(unit.words)
    for (_, hidden_for, reason), (denial, (how, *units)) in given_away.items():
        shown = ", ".join(units[:_MOST_NAMED]) + (
            f" and {len(units) - _MOST_NAMED} more" if len(units) > _MOST_NAMED else ""
        )
        yield GIVEN_AWAY.at(
            denial.place,
            f"{shown}: hidden from callers who are refused for {hidden_for}, and {reason} answers with {how}.",
        )


def _reasons(subject: Subject, unit: Unit) -> list[str]:
    """The reasons for which an endpoint may refuse callers; none where signed-out callers are let in."""
    reach, row = subject.reach, unit.row
    let_in = reach.let_in(row)
    if row.allow & reach.signed_out:
        return []
    reasons = ["signed-out"] if row.sign_in or not let_in & reach.signed_out else []
    if reach.every & ~reach.signed_out & ~let_in:
        only_out = unit.line.requirement.opens == SIGNED_OUT
        reasons.append("signed-in" if only_out else "role")
    for formula, columns in reach.groups(row):
        if formula is not TRUE and columns & ~reach.signed_out:
            reasons += sorted(blamable(formula) - {UNNAMED})
    return list(dict.fromkeys(reasons))


def _idle(subject: Subject) -> Iterator[Finding]:
    conditions = [denial for denial in subject.policy.answers.denials if denial.reason not in (*REASONS, "any")]
    if not conditions:
        return
    asking: dict[str, PathTree[Unit]] = {}
    for unit in subject.reach.units:
        names = {
            condition.name
            for _, formula in asked_at(subject.policy, unit.line, unit.method)
            for condition in conditions_in(formula)
        }
        for name in names:
            asking.setdefault(name, PathTree()).add((), unit.template, unit)
    for denial in conditions:
        units = asking.get(denial.reason, PathTree())
        if not any(_concerns(denial, unit) for unit in units.near(denial.template or _ANYWHERE)):
            where = f" under {denial.template.text}" if denial.template is not None else ""
            yield IDLE_DENIAL.at(
                denial.place, f"No endpoint{where} requires {denial.reason}, so this is never the answer."
            )


def _concerns(denial: Denial, unit: Unit) -> bool:
    if unit.method != ANY and not covers(denial.methods, unit.method):
        return False
    return denial.template is None or overlap(denial.template, unit.template) is not False
