"""Findings about endpoints that belong together and disagree: a form and its action, a page and its API, writes."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.binding import template_of
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import Formula
from ..core.lines import Line
from ..core.methods import covers
from ..core.paths import Parameter, specificity
from ..core.requirements import Holding
from ..core.roles import SIGNED_IN, SIGNED_OUT
from ..survey.drafting import is_prefix
from .reach import WRITES, Shape, Unit, Wider
from .subject import Subject
from .witnesses import witness_of

ACTION_WIDER = FindingKind(
    "action-wider-than-form",
    Severity.ERROR,
    "A form is guarded, and what it sends to is open to more callers.",
    "Require of the action at least what its form requires.",
)
FORM_WIDER = FindingKind(
    "form-wider-than-action",
    Severity.WARNING,
    "A form is shown to callers who may not send it.",
    "Require of the form what its action requires.",
)
PUT_AND_PATCH = FindingKind(
    "put-and-patch-differ",
    Severity.WARNING,
    "PUT and PATCH of one path are open to different callers, though both change the same thing.",
    "Require the same of both, best in one line: PUT PATCH.",
)
PAGE_METHODS = FindingKind(
    "page-methods-differ",
    Severity.WARNING,
    "One function serves GET and POST of a page, and they are open to different callers.",
    "Require the same of both, or serve them by two functions.",
    Needs.ROUTES,
)
API_DIFFERS = FindingKind(
    "api-differs",
    Severity.WARNING,
    "A page and its twin in the API are open to different callers.",
    "Require the same of both, best by one permission.",
)
WITHOUT_CONDITION = FindingKind(
    "write-without-condition",
    Severity.WARNING,
    "One of several writes of a thing does not require a condition that the others require.",
    "Require the condition of it too, best by one permission for all.",
)
DELETE_WIDER = FindingKind(
    "delete-wider-than-change",
    Severity.NOTE,
    "Callers may remove something that they may not change.",
    "Make sure that this is meant; else require of DELETE what the changes require.",
)
WITHOUT_RULE = FindingKind(
    "write-without-rule",
    Severity.WARNING,
    "A standing rule holds for most changes, and not for this one.",
    "Extend the rule to its path and method, or accept the finding and say why.",
)
KINDS = (
    ACTION_WIDER,
    FORM_WIDER,
    PUT_AND_PATCH,
    PAGE_METHODS,
    API_DIFFERS,
    WITHOUT_CONDITION,
    DELETE_WIDER,
    WITHOUT_RULE,
)

_NEW = ("new", "add", "create")
_EDIT = ("edit", "update", "change", "modify")
_DELETE = ("delete", "remove", "confirm-delete")


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    units = subject.reach.by_shape
    pages = {} if not subject.routes else _functions_of_pages(subject)
    for (method, shape), unit in units.items():
        if method == "GET":
            yield from _form(subject, unit)
            yield from _page(subject, unit, shape, pages)
        patch = subject.reach.unit("PATCH", shape) if method == "PUT" else None
        if patch is not None:
            yield from _disagree(subject, PUT_AND_PATCH, unit, patch)
        if method in WRITES:
            yield from _without_condition(subject, unit, shape)
        if method == "DELETE":
            yield from _delete(subject, unit)
        yield from _api(subject, unit)
    yield from _without_rule(subject)


def _disagree(subject: Subject, kind: FindingKind, one: Unit, other: Unit) -> Iterator[Finding]:
    """Two endpoints that should be open to the same callers, said of the one that is more open."""
    for here, there in ((one, other), (other, one)):
        wider = subject.reach.wider(here.row, there.row)
        if wider is not None:
            yield _finding(subject, kind, here, there, wider)
            return


def _finding(subject: Subject, kind: FindingKind, here: Unit, there: Unit, wider: Wider) -> Finding:
    who = subject.reach.who(wider.columns)
    how = "" if wider.required is None else f" where {wider.required.words()} does not hold"
    refuses = "which" if who in ("anyone", "nobody") else "whom"
    return kind.at(
        here.place,
        f"{here.words} lets in {who}, {refuses} {there.words} refuses{how}.",
        witness=witness_of(subject, here, wider.columns, wider.assignment, wider.allowed),
        related=(there.place,) if there.place != here.place else (),
    )


# Forms ----------------------------------------------------------------------------------------------------------


def _form(subject: Subject, form: Unit) -> Iterator[Finding]:
    """The page of a form, held against what the form sends to."""
    for action in _actions(subject, form):
        wider = subject.reach.wider(action.row, form.row)
        if wider is not None:
            yield _finding(subject, ACTION_WIDER, action, form, wider)
            continue
        # That an account must be active is often asked of changes alone; a form changes nothing.
        wider = subject.reach.wider(form.row, action.row, by_lines_alone=True)
        if wider is not None:
            yield _finding(subject, FORM_WIDER, form, action, wider)


def _actions(subject: Subject, form: Unit) -> list[Unit]:
    """What a form sends to, by the usual names of paths; empty for what is no form."""
    segments = form.template.segments
    last = segments[-1] if segments else None
    if not isinstance(last, str) or last.lower() not in (*_NEW, *_EDIT, *_DELETE):
        return []
    reach, shape = subject.reach, form.shape
    same = reach.unit("POST", shape)
    if same is not None:
        return [same]
    methods = {"new": ("POST",), "edit": ("PUT", "PATCH", "POST"), "delete": ("DELETE",)}
    word = "new" if last.lower() in _NEW else "edit" if last.lower() in _EDIT else "delete"
    if word != "new" and not any(isinstance(part, Parameter) for part in segments[:-1]):
        return []
    units = [reach.unit(method, shape[:-1]) for method in methods[word]]
    return list(dict.fromkeys(unit for unit in units if unit is not None))


def _functions_of_pages(subject: Subject) -> dict[Shape, str]:
    """The functions that serve both GET and POST of one page, by the shape of its path."""
    return {
        specificity(template_of(route)[0], exact=True): route.action
        for route in subject.routes
        if {"GET", "POST"} <= set(route.methods) and not isinstance(route.handler, type)
    }


def _page(subject: Subject, unit: Unit, shape: Shape, pages: dict[Shape, str]) -> Iterator[Finding]:
    post = subject.reach.by_shape.get(("POST", shape))
    if post is not None and shape in pages and not _actions(subject, unit):
        yield from _disagree(subject, PAGE_METHODS, post, unit)


# A page and its API ---------------------------------------------------------------------------------------------


def _api(subject: Subject, twin: Unit) -> Iterator[Finding]:
    """An endpoint of an API, held against the page of the same name."""
    segments = twin.template.segments
    start = 0
    while start < len(segments) and isinstance(segments[start], str) and is_prefix(str(segments[start])):
        start += 1
    if start in (0, len(segments)):
        return
    shape = twin.shape[start:]
    page = subject.reach.unit(twin.method, shape)
    if twin.method in ("PUT", "PATCH") and isinstance(segments[-1], Parameter):
        # A form can only send POST.
        page = page or subject.reach.unit("POST", shape)
    if page is not None:
        yield from _disagree(subject, API_DIFFERS, twin, page)


# Writes ---------------------------------------------------------------------------------------------------------


def _without_condition(subject: Subject, unit: Unit, shape: Shape) -> Iterator[Finding]:
    """A write without a condition that every other write of the same path requires of the same callers."""
    reach = subject.reach
    others = [
        each for method in WRITES if (each := reach.by_shape.get((method, shape))) is not None and each is not unit
    ]
    others = [other for other in others if {unit.method, other.method} != {"PUT", "PATCH"}]
    # That to remove requires more than to change is as it should be.
    if not others or (len(others) == 1 and unit.method != "DELETE"):
        return
    for allowed, columns in reach.groups(unit.row):
        proofs = [reach.missing(allowed, columns, other.row) for other in others]
        if not all(proofs):
            continue
        first, (missing, required, assignment) = others[0], proofs[0][0]
        yield WITHOUT_CONDITION.at(
            unit.place,
            f"{unit.words} lets in {reach.who(missing)} where {first.words} requires {required.words()}.",
            witness=witness_of(subject, unit, missing, assignment, allowed),
            related=(first.place,),
        )
        return


def _delete(subject: Subject, unit: Unit) -> Iterator[Finding]:
    """A removal that lets in callers whom every change at the same path refuses."""
    changes = [
        each for method in ("PUT", "PATCH", "POST") if (each := subject.reach.unit(method, unit.shape)) is not None
    ]
    if not changes:
        return
    gained = subject.reach.let_in(unit.row)
    for each in changes:
        gained &= ~subject.reach.let_in(each.row)
    if gained:
        yield _finding(subject, DELETE_WIDER, unit, changes[0], Wider(gained, _formula_of(subject, unit, gained), None))


def _formula_of(subject: Subject, unit: Unit, columns: int) -> Formula:
    return next(formula for formula, bits in subject.reach.groups(unit.row) if bits & columns)


def _rules_over(subject: Subject, unit: Unit) -> set[Line]:
    """The standing rules that must hold for an endpoint, whatever the path."""
    near = subject.policy.lookup.rules_near(unit.template)
    return {rule for rule in near if covers(rule.methods, unit.method) and rule.overlaps(unit.template)}


def _without_rule(subject: Subject) -> Iterator[Finding]:
    """Changes that a standing rule misses which holds for most of them."""
    rules: dict[Formula, list[Line]] = {}
    for rule in subject.policy.standing:
        if set(rule.methods) & set(WRITES):
            rules.setdefault(rule.requirement.formula, []).append(rule)
    if not rules:
        return
    writes = [
        unit
        for unit in subject.reach.units
        if unit.method in WRITES and not unit.line.requirement.opens & SIGNED_OUT and subject.reach.let_in(unit.row)
    ]
    covering = {unit: _rules_over(subject, unit) for unit in writes}
    for formula, same in rules.items():
        own = set(same)
        covered = [unit for unit in writes if covering[unit] & own]
        missed = [unit for unit in writes if not covering[unit] & own]
        if len(covered) < 3 or len(missed) * 3 > len(covered):
            continue
        for unit in missed:
            needed = unit.line.requirement.formula
            if isinstance(needed, Holding) and needed.mask == SIGNED_IN:
                # Signing out, and the like: open to all who are signed in.
                continue
            yield WITHOUT_RULE.at(
                unit.place,
                f"{formula.words()} must hold for {len(covered)} changes, and not for {unit.words}.",
                related=tuple(rule.place for rule in same[:3]),
            )
