"""Findings about what is more open than it should be: changes, catch-alls; and the sign-in page that is not."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ..core.binding import RouteKind
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.lines import Line
from ..core.methods import ANY
from ..core.paths import Parameter, Template, read_path, specificity
from ..core.requirements import asks_for_guard
from .reach import WRITES, Unit
from .subject import Subject
from .witnesses import witness_of

OPEN_CHANGE = FindingKind(
    "open-change",
    Severity.ERROR,
    "An endpoint that changes something is open to anyone.",
    "Require at least signed-in, name the methods that only read, or accept the finding and say why.",
)
WIDER_CHANGE = FindingKind(
    "change-wider-than-read",
    Severity.WARNING,
    "Callers may change something that they may not read.",
    "Require of the change what the read requires, or open the read to them.",
)
CLOSED_SIGN_IN = FindingKind(
    "closed-sign-in",
    Severity.ERROR,
    "The page that signed-out callers are sent to for signing in does not let them in, or not with the form's method.",
    "Let signed-out callers in there, with GET and POST.",
)
CATCH_ALL = FindingKind(
    "catch-all",
    Severity.NOTE,
    "A line for many paths lets callers in at endpoints that no line of their own names.",
    "Write a line for each endpoint; or accept the finding where all of them are meant.",
    Needs.ENDPOINTS,
)
KINDS = (OPEN_CHANGE, WIDER_CHANGE, CLOSED_SIGN_IN, CATCH_ALL)
_MOST_NAMED = 8


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    for unit in subject.reach.units:
        if unit.method == ANY or unit.method in WRITES:
            yield from _open_change(subject, unit) if _is_open(subject, unit) else _wider_change(subject, unit)
    yield from _closed_sign_in(subject)
    if subject.survey is not None:
        yield from _catch_alls(subject)


_ENTERING = re.compile(
    r"sign[-_]?(in|up|on)|log[-_]?in|register|registration|join|forgot(ten)?([-_]password)?|password[-_](reset|forgotten)|"
    r"reset[-_]password|oauth2?|sso",
    re.I,
).fullmatch
# These are for coming in only beneath a word that says so: an order is confirmed as well, and a job is reset.
_BENEATH = re.compile(r"reset|verify|confirm|activate|token|tokens|callback|forgot", re.I).fullmatch
_ABOVE = re.compile(r"auth|oauth2?|sso|accounts?|passwords?|e?mail|sign[-_]?up|registration|api", re.I).fullmatch


def is_for_entering(template: Template) -> bool:
    """Whether a path is, by its words, one by which callers come in: signing in, joining, a forgotten password."""
    *above, last = template.segments or ("",)
    words = [part for part in above if isinstance(part, str)]
    if len(words) < len(above) or not isinstance(last, str):
        return False  # it is about some record
    return bool(_ENTERING(last) or (_BENEATH(last) and any(map(_ABOVE, words))))


def _is_open(subject: Subject, unit: Unit) -> bool:
    """Whether signed-out callers may use an endpoint that is not for them alone: then everybody may."""
    reach = subject.reach
    return bool(reach.let_in_somewhere(unit.row) & reach.signed_out and reach.let_in(unit.row) & ~reach.signed_out)


def _open_change(subject: Subject, unit: Unit) -> Iterator[Finding]:
    entry = unit.method != ANY and is_for_entering(unit.template)
    if unit.template.text in subject.sign_in_pages or entry or _only_reads(unit):
        return
    what = "Every method, also one that changes something, is" if unit.method == ANY else f"{unit.words} is"
    at = f" at {unit.template.text}" if unit.method == ANY else ""
    yield OPEN_CHANGE.at(
        unit.place,
        f"{what} open to callers who are not signed in{at}, and so to anyone.",
        witness=witness_of(subject, unit, subject.reach.signed_out),
    )


def _only_reads(unit: Unit) -> bool:
    kind = unit.surveyed.endpoint.kind if unit.surveyed is not None else ""
    return kind in (RouteKind.STATIC, RouteKind.REDIRECT, RouteKind.DOCUMENTATION)


def _wider_change(subject: Subject, unit: Unit) -> Iterator[Finding]:
    """A change of one thing, held against the read of the same thing."""
    read = _read_of(subject, unit)
    if unit.method == ANY or read is None:
        return
    wider = subject.reach.wider(unit.row, read.row)
    if wider is not None:
        who = subject.reach.who(wider.columns)
        how = "" if wider.required is None else f" where {wider.required.words()} does not hold"
        yield WIDER_CHANGE.at(
            unit.place,
            f"{unit.words} lets in {who}, whom {read.words} refuses{how}.",
            witness=witness_of(subject, unit, wider.columns, wider.assignment, wider.allowed),
            related=(read.place,),
        )


def _read_of(subject: Subject, unit: Unit) -> Unit | None:
    """The read of what a change is about: at its path, or above it for an action such as ``/trials/{id}/close``."""
    segments = unit.template.segments
    if segments and isinstance(segments[-1], Parameter):
        return subject.reach.unit("GET", unit.shape)
    is_action = len(segments) > 1 and isinstance(segments[-2], Parameter) and isinstance(segments[-1], str)
    if is_action and subject.reach.unit("GET", unit.shape) is None:
        return subject.reach.unit("GET", unit.shape[:-1])
    return None


def _closed_sign_in(subject: Subject) -> Iterator[Finding]:
    reach = subject.reach
    places = {denial.to: denial.place for denial in subject.policy.answers.denials if denial.reason == "signed-out"}
    for page in sorted(subject.sign_in_pages):
        segments = read_path(page)
        if segments is None:
            continue
        for method in ("GET", "POST"):
            line = subject.policy.lookup.find(method, segments)
            if line is None:
                # A page need not have a form of its own; a sign-in by a program is POST alone.
                sent = subject.settings is not None and any(way.path == page for way in subject.settings.probe.sign_ins)
                if not (method == "POST" and sent and subject.policy.endpoints):
                    continue
                place = places.get(page) or subject.policy.endpoints[0].place
                yield CLOSED_SIGN_IN.at(place, f"Callers sign in with POST {page}, and no line covers that.")
                continue
            if not reach.let_in(reach.row_at(line, method)) & reach.signed_out:
                yield CLOSED_SIGN_IN.at(
                    line.place,
                    f"Signed-out callers sign in at {page}, and {method} {page} does not let them in.",
                    related=(places[page],) if page in places else (),
                )


def _catch_alls(subject: Subject) -> Iterator[Finding]:
    """Lines for more than one endpoint, and the endpoints that no line of their own names."""
    assert subject.survey is not None
    covered: dict[Line, list[str]] = {}
    shapes: dict[Line, object] = {}
    for surveyed in subject.survey.endpoints:
        line, endpoint = surveyed.line, surveyed.endpoint
        # Most endpoints have a line that is written as they are.
        if line is None or endpoint.template == line.template.text or line.guards or line.action is not None:
            continue
        if (
            endpoint.kind in (RouteKind.STATIC, RouteKind.MOUNT)
            or endpoint.statuses
            or asks_for_guard(line.requirement.formula)
        ):
            continue
        shape = shapes.setdefault(line, specificity(line.template, exact=True))
        if shape != surveyed.shape:
            covered.setdefault(line, []).append(f"{surveyed.method} {endpoint.template}")
    for line, endpoints in covered.items():
        let_in = subject.reach.let_in(subject.reach.row_at(line, (line.methods or (ANY,))[0]))
        if not let_in:
            continue
        shown = ", ".join(endpoints[:_MOST_NAMED])
        more = f" and {len(endpoints) - _MOST_NAMED} more" if len(endpoints) > _MOST_NAMED else ""
        count = f"{len(endpoints)} endpoints" if len(endpoints) > 1 else "an endpoint"
        yield CATCH_ALL.at(
            line.place,
            f"{line.template.text} lets in {subject.reach.who(let_in)} at {count} that no other line names: "
            f"{shown}{more}.",
        )
