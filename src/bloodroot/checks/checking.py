"""All checks of a subject, and what its entries accept."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from ..core.compiler import collector_paused
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.lines import Line
from ..core.policy import Policy
from ..core.requirements import asks_for_guard, references_in
from ..language import tree
from ..language.problems import SourceText, suggestion
from . import (
    declared,
    hiding,
    holders,
    holding,
    in_handlers,
    in_things,
    lifetimes,
    openness,
    outliers,
    shown_fields,
    siblings,
    unused,
)
from .subject import Subject, all_entries

STALE_ACCEPT = FindingKind(
    "stale-accept",
    Severity.WARNING,
    "An entry accepts a finding that it does not have.",
    "Remove the accept, or correct the name of the finding.",
)
_FAMILIES = (
    declared,
    unused,
    holders,
    openness,
    siblings,
    outliers,
    in_handlers,
    in_things,
    holding,
    shown_fields,
    hiding,
    lifetimes,
)
_FIND: tuple[Callable[[Subject], Iterator[Finding]], ...] = tuple(family.find for family in _FAMILIES)
KINDS: dict[str, FindingKind] = {
    kind.name: kind for kind in (*(kind for family in _FAMILIES for kind in family.KINDS), STALE_ACCEPT)
}


@dataclass(frozen=True, slots=True)
class CheckResult:
    """What a check came to.

    Attributes:
        policy: the policy that was checked.
        sources: where endpoints were looked for; empty where the policy alone was checked.
        endpoints: how many were found.
        findings: what was found and is not accepted: file by file, by line, the worst first.
        accepted: what was found and is accepted, with the reason.
        unknown: what could not be checked, in words.
    """

    policy: Policy
    sources: tuple[str, ...]
    endpoints: int
    findings: tuple[Finding, ...]
    accepted: tuple[tuple[Finding, str], ...] = ()
    unknown: tuple[str, ...] = ()

    def count(self, severity: Severity) -> int:
        """How many findings are this bad."""
        return sum(1 for finding in self.findings if finding.severity is severity)

    def at_least(self, severity: Severity) -> bool:
        """Whether a finding is at least this bad."""
        return any(finding.severity.rank <= severity.rank for finding in self.findings)


def check(subject: Subject, only: Iterable[str] = ()) -> CheckResult:
    """Run all checks.

    Args:
        subject: what to look at.
        only: names of the kinds of findings to report; by default all.
    """
    with collector_paused():
        return _check(subject, only)


def _check(subject: Subject, only: Iterable[str]) -> CheckResult:
    findings = (finding for find in _FIND for finding in find(subject))
    found = list({(finding.name, finding.place, finding.message): finding for finding in findings}.values())
    left, accepted, stale = _accepting(subject, found)
    wanted = set(only) or KINDS.keys()
    chosen = [finding for finding in (*left, *stale) if finding.name in wanted]
    chosen.sort(
        key=lambda finding: (finding.place.source.name, finding.place.line, finding.severity.rank, finding.place.column)
    )
    survey = subject.survey
    return CheckResult(
        subject.policy,
        survey.sources if survey is not None else (),
        len(survey.endpoints) if survey is not None else 0,
        tuple(chosen),
        tuple((finding, reason) for finding, reason in accepted if finding.name in wanted),
        tuple(_unknown(subject)),
    )


class _Accepted(NamedTuple):
    """Findings, and which of them are accepted.

    Attributes:
        left: those that nothing accepts.
        accepted: those that an entry or the settings accept, each with the reason.
        stale: what is accepted and not there.
    """

    left: list[Finding]
    accepted: list[tuple[Finding, str]]
    stale: list[Finding]


def _accepting(subject: Subject, findings: list[Finding]) -> _Accepted:
    """Findings without those that their entries or the settings accept."""
    starts: dict[SourceText, list[tuple[int, tree.Entry]]] = {}
    for entry in all_entries(subject.document):
        starts.setdefault(entry.place.source, []).append((entry.place.line, entry))
    for entries in starts.values():
        entries.sort(key=lambda each: each[0])
    left: list[Finding] = []
    accepted: list[tuple[Finding, str]] = []
    used: set[tuple[int, str]] = set()
    asked_for: set[str] = set()
    for finding in findings:
        here = _entry_at(starts.get(finding.place.source, []), finding.place.line)
        reason = (
            next((accept.reason for accept in here.accepts if accept.finding == finding.name), None) if here else None
        )
        if here is None or reason is None:
            asked = _accepted_in_settings(subject, finding)
            if asked is None:
                left.append(finding)
            else:
                asked_for.add(asked)
                assert subject.settings is not None
                accepted.append((finding, subject.settings.accept[asked]))
        else:
            used.add((id(here), finding.name))
            accepted.append((finding, reason))
    stale = [
        finding
        for entries in starts.values()
        for _, entry in entries
        for accept in entry.accepts
        if (id(entry), accept.finding) not in used
        for finding in _stale(subject, entry, accept)
    ]
    return _Accepted(left, accepted, [*stale, *_stale_in_settings(subject, asked_for)])


def _accepted_in_settings(subject: Subject, finding: Finding) -> str | None:
    """What of the settings accepts a finding, whose entry may be in a file that others include as well; or None."""
    lines = finding.place.source.lines
    begins = " ".join(lines[finding.place.line - 1].split()) if len(lines) >= finding.place.line else ""
    for asked in subject.settings.accept if subject.settings is not None else ():
        name, _, entry = asked.partition(" ")
        if name == finding.name and entry and f"{begins} ".startswith(f"{entry} "):
            return asked
    return None


def _stale_in_settings(subject: Subject, used: set[str]) -> Iterator[Finding]:
    """What the settings accept and is not there."""
    settings = subject.settings
    if settings is None:
        return
    for asked in settings.accept:
        name, _, entry = asked.partition(" ")
        kind, place = KINDS.get(name), lifetimes.place_of(settings, "accept", asked)
        if kind is None:
            guess = suggestion(name, KINDS) or "."
            yield STALE_ACCEPT.at(place, f'There is no finding of the name "{name}"{guess}')
        elif not entry:
            yield STALE_ACCEPT.at(place, f'Write how the entry begins that accepts it, as in "{name} auditor".')
        elif asked not in used and subject.knows(kind.needs):
            yield STALE_ACCEPT.at(place, f'No entry that begins with "{entry}" has the finding {name}.')


def _entry_at(entries: list[tuple[int, tree.Entry]], line: int) -> tree.Entry | None:
    """The entry that a line belongs to."""
    number = bisect_right(entries, line, key=lambda each: each[0])
    return entries[number - 1][1] if number else None


def _stale(subject: Subject, entry: tree.Entry, accept: tree.Accept) -> Iterator[Finding]:
    kind = KINDS.get(accept.finding)
    if kind is None:
        guess = suggestion(accept.finding, KINDS) or "."
        yield STALE_ACCEPT.at(entry.place, f'There is no finding of the name "{accept.finding}"{guess}')
    elif subject.knows(kind.needs):
        yield STALE_ACCEPT.at(entry.place, f"This entry accepts {kind.name}, and has no such finding.")


def _needs_record(line: Line) -> bool:
    return not line.requirement.plain and any(
        reference.root == "record" for reference in references_in(line.requirement.formula)
    )


def _unknown(subject: Subject) -> Iterator[str]:
    if not subject.knows(Needs.ENDPOINTS):
        yield "no endpoints were looked at: name a source, or write app = ... or openapi = ... in the settings"
    actions = subject.policy.unbound
    if actions:
        what = "1 line names an action" if len(actions) == 1 else f"{len(actions)} lines name actions"
        yield f"{what}, and there is no application to find it in: what these lines say was not checked"
    if not subject.routes and any(map(asks_for_guard, {line.requirement.formula for line in subject.policy.endpoints})):
        yield "lines leave the decision to guards, and there is no application to read these from"
    if subject.routes and subject.loaders is None and any(map(_needs_record, subject.policy.endpoints)):
        yield "loaders of records are not known: the application is not protected where it is imported"
    if subject.reasoner.undecided:
        count = subject.reasoner.undecided
        what = "1 question about conditions was" if count == 1 else f"{count} questions about conditions were"
        yield f"{what} too hard to decide here; install bloodroot[prove] to have them decided"
