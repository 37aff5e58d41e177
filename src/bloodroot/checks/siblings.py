"""Findings about endpoints that belong together and disagree: a form and its action, a page and its API, writes."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.formulas import TRUE, Formula
from ..core.lines import Line
from ..core.methods import covers
from ..core.paths import Parameter, overlap, specificity
from ..core.requirements import Holding
from ..core.roles import SIGNED_IN, SIGNED_OUT
from ..survey.drafting import is_prefix
from .finding import Finding, Kind, Needs, Severity
from .reach import WRITES, Shape, Unit, Wider
from .subject import Subject
from .witnesses import witness_of

ACTION_WIDER = Kind(
    "action-wider-than-form",
    Severity.ERROR,
    "A form is guarded, and what it sends to is open to more callers.",
    "Require of the action at least what its form requires.",
)
FORM_WIDER = Kind(
    "form-wider-than-action",
    Severity.WARNING,
    "A form is shown to callers who may not send it.",
    "Require of the form what its action requires.",
)
PUT_AND_PATCH = Kind(
    "put-and-patch-differ",
    Severity.WARNING,
    "PUT and PATCH of one path are open to different callers, though both change the same thing.",
    "Require the same of both, best in one line: PUT PATCH.",
)
PAGE_METHODS = Kind(
    "page-methods-differ",
    Severity.WARNING,
    "One function serves GET and POST of a page, and they are open to different callers.",
    "Require the same of both, or serve them by two functions.",
    Needs.ROUTES,
)
API_DIFFERS = Kind(
    "api-differs",
    Severity.WARNING,
    "A page and its twin in the API are open to different callers.",
    "Require the same of both, best by one permission.",
)
WITHOUT_CONDITION = Kind(
    "write-without-condition",
    Severity.WARNING,
    "One of several writes of a thing does not require a condition that the others require.",
    "Require the condition of it too, best by one permission for all.",
)
WITHOUT_RULE = Kind(
    "write-without-rule",
    Severity.WARNING,
    "A standing rule holds for most changes, and not for this one.",
    "Extend the rule to its path and method, or accept the finding and say why.",
)
KINDS = (ACTION_WIDER, FORM_WIDER, PUT_AND_PATCH, PAGE_METHODS, API_DIFFERS, WITHOUT_CONDITION, WITHOUT_RULE)

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
        if method == "PUT" and ("PATCH", shape) in units:
            yield from _disagree(subject, PUT_AND_PATCH, unit, units["PATCH", shape])
        if method in WRITES:
            yield from _without_condition(subject, unit, shape)
        if (
            unit.template.segments
            and isinstance(unit.template.segments[0], str)
            and is_prefix(unit.template.segments[0])
        ):
            yield from _api(subject, unit)
    yield from _without_rule(subject)


def _disagree(subject: Subject, kind: Kind, one: Unit, other: Unit) -> Iterator[Finding]:
    """Two endpoints that should be open to the same callers, said of the one that is more open."""
    for here, there in ((one, other), (other, one)):
        wider = subject.reach.wider(here.row, there.row)
        if wider is not None:
            yield _finding(subject, kind, here, there, wider)
            return


def _finding(subject: Subject, kind: Kind, here: Unit, there: Unit, wider: Wider) -> Finding:
    who = subject.reach.who(wider.columns)
    how = "" if wider.required is None else f" where {wider.required.words()} does not hold"
    refuses = "which" if who in ("anyone", "nobody") else "whom"
    return kind.at(
        here.line.place,
        f"{here.words} lets in {who}, {refuses} {there.words} refuses{how}.",
        witness=witness_of(subject, here, wider.columns, wider.assignment, wider.allowed),
        related=(there.line.place,) if there.line is not here.line else (),
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
    units = subject.reach.by_shape
    shape = form.shape
    same = units.get(("POST", shape))
    if same is not None:
        return [same]
    methods = {"new": ("POST",), "edit": ("PUT", "PATCH", "POST"), "delete": ("DELETE", "POST")}
    word = "new" if last.lower() in _NEW else "edit" if last.lower() in _EDIT else "delete"
    if word != "new" and not any(isinstance(part, Parameter) for part in segments[:-1]):
        return []
    found = [units.get((method, shape[:-1])) for method in methods[word]]
    first = next((each for each in found if each is not None), None)
    if word == "delete":
        return [first] if first is not None and first.method == "DELETE" else []
    return [each for each in found if each is not None]


def _functions_of_pages(subject: Subject) -> dict[Shape, str]:
    """The functions that serve both GET and POST of one page, by the shape of its path."""
    from ..core.binding import template_of

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
    shape = twin.shape[start:]
    if not start or not shape:
        return
    units = subject.reach.by_shape
    page = units.get((twin.method, shape))
    if page is None and twin.method in ("PUT", "PATCH") and isinstance(segments[-1], Parameter):
        # A form can only send POST.
        page = units.get(("POST", shape))
    if page is not None and page.method != "any":
        yield from _disagree(subject, API_DIFFERS, twin, page)


# Writes ---------------------------------------------------------------------------------------------------------


def _without_condition(subject: Subject, unit: Unit, shape: Shape) -> Iterator[Finding]:
    """A write that lets callers in outright for whom all other writes of the same path require a condition."""
    reach = subject.reach
    others = [
        each for method in WRITES if (each := reach.by_shape.get((method, shape))) is not None and each is not unit
    ]
    others = [each for each in others if {unit.method, each.method} != {"PUT", "PATCH"}]
    # That to remove requires more than to change is as it should be.
    if not others or (len(others) == 1 and unit.method != "DELETE"):
        return
    columns = unit.row.allow
    for each in others:
        columns &= ~each.row.allow & reach.let_in(each.row)
    if not columns:
        return
    required = next(formula for formula, bits in others[0].row.depends if bits & columns)
    first = others[0]
    wider = Wider(columns, TRUE, required)
    yield WITHOUT_CONDITION.at(
        unit.line.place,
        f"{unit.words} always lets in {reach.who(columns)}, and {first.words} only if {required.words()}.",
        witness=witness_of(subject, unit, wider.columns),
        related=(first.line.place,),
    )


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
    for formula, same in rules.items():
        covered: list[Unit] = []
        missed: list[Unit] = []
        for unit in writes:
            found = any(covers(rule.methods, unit.method) and overlap(rule.template, unit.template) for rule in same)
            (covered if found else missed).append(unit)
        if len(covered) < 3 or len(missed) * 3 > len(covered):
            continue
        for unit in missed:
            asked = unit.line.requirement.formula
            if isinstance(asked, Holding) and asked.mask == SIGNED_IN:
                # Signing out, and the like: open to all who are signed in.
                continue
            yield WITHOUT_RULE.at(
                unit.line.place,
                f"{formula.words()} must hold for {len(covered)} changes, and not for {unit.words}.",
                related=tuple(rule.place for rule in same[:3]),
            )
