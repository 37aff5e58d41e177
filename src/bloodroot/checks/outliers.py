"""Findings about endpoints that are unlike what is around them: in their area, beneath a record, in another version."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from itertools import pairwise

from ..core.conditions import Comparison
from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import Conjunction, Formula, Negated, walk
from ..core.methods import ANY
from ..core.paths import Parameter
from ..core.requirements import HELD, Holding, Requirement, references_in
from ..core.roles import SIGNED_IN, SIGNED_OUT
from ..language import tree
from .openness import is_for_entering
from .reach import WRITES, Shape, Unit
from .subject import Subject
from .witnesses import witness_of

BENEATH = FindingKind(
    "child-without-condition",
    Severity.WARNING,
    "What is beneath a record, or changes many at once, does not require the condition that the record requires.",
    "Require the condition of it too, best by the same permission.",
)
AREA = FindingKind(
    "wider-than-its-area",
    Severity.WARNING,
    "One endpoint is open to more callers than all others of its area.",
    "Require of it what the others require, or accept the finding and say why.",
)
READ_ALONE = FindingKind(
    "read-without-condition",
    Severity.WARNING,
    "A record is read without the condition that its changes require, where other records are read with theirs.",
    "Require the condition of the read too, or accept the finding and say why.",
)
VERSIONS = FindingKind(
    "versions-differ",
    Severity.WARNING,
    "Two versions of one endpoint are open to different callers.",
    "Require the same of both, best by one permission.",
)
ALIAS = FindingKind(
    "alias-differs",
    Severity.WARNING,
    "One function is served at two paths that are open to different callers.",
    "Require the same of both, or name the action in one line.",
    Needs.ROUTES,
)
SENSITIVE = FindingKind(
    "own-rights-by-field",
    Severity.WARNING,
    "A field that says what somebody may do, or how they sign in, may be changed by every member.",
    "Give the change of the field to those who hand out roles.",
)
DEBUG = FindingKind(
    "debug-page-open",
    Severity.WARNING,
    "A page for developers is open to callers who are no developers.",
    "Require a role of it, or leave it out of production.",
)
GET_CHANGES = FindingKind(
    "get-that-changes",
    Severity.WARNING,
    "A GET has a path that says it changes something; links, caches and other sites make such requests.",
    "Serve it by POST or DELETE alone.",
)
HEAD_WIDER = FindingKind(
    "head-wider-than-get",
    Severity.WARNING,
    "HEAD is open to more callers than GET of the same path.",
    "Leave HEAD out of the line: GET covers it.",
)
BY_QUERY = FindingKind(
    "query-decides",
    Severity.WARNING,
    "What the caller writes into the query alone decides whether it is let in.",
    "Require something of the caller or of the record.",
)
DENY_LIST = FindingKind(
    "all-but-a-role",
    Severity.WARNING,
    "An endpoint is open to all but a role, and so to every role that comes later.",
    "Name the roles, or a permission, that may.",
)
MEANT_SIGNED_IN = FindingKind(
    "signed-out-alone",
    Severity.WARNING,
    "An endpoint is for signed-out callers alone, and is no page for signing in or joining.",
    "Write signed-in, if that is meant.",
)
RULE_MISSES_API = FindingKind(
    "rule-misses-api",
    Severity.WARNING,
    "A standing rule holds for pages, and not for the same things in the API.",
    "Write the rule for the paths of the API too.",
)
KINDS = (
    BENEATH,
    AREA,
    READ_ALONE,
    VERSIONS,
    ALIAS,
    SENSITIVE,
    DEBUG,
    GET_CHANGES,
    HEAD_WIDER,
    BY_QUERY,
    DENY_LIST,
    MEANT_SIGNED_IN,
    RULE_MISSES_API,
)

_MANY = {"bulk", "batch", "mass", "import", "archive", "purge", "clear", "reorder", "export", "download", "all"}
_CHANGES = {
    *("delete", "remove", "approve", "reject", "send", "cancel", "activate", "deactivate", "archive", "restore"),
    *("publish", "withdraw", "suspend", "reset", "purge", "clear", "impersonate", "transfer", "refund", "pay"),
}
_DEBUG = {"debug", "__debug__", "console", "actuator", "env", "phpinfo", "profiler", "trace", "heapdump", "routes"}
_RIGHTS = re.compile(
    r"^(roles?|is_?(admin|staff|superuser)|admin|permissions?|scopes?|groups?|rights|grants|"
    r"password(_hash)?|secret|api_?key|mfa.*|otp.*|email_verified)$",
    re.I,
).search
_VERSION = re.compile(r"v[0-9]+(\.[0-9]+)*").fullmatch


# Columns, what is required of them, and values that show it.
Missing = tuple[int, Formula, dict[str, object] | None]


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    words = {unit: _literals(unit) for unit in subject.reach.units}
    yield from _beneath(subject)
    yield from _areas(subject, words)
    yield from _reads(subject)
    yield from _versions(subject, words)
    yield from _aliases(subject)
    yield from _fields(subject)
    yield from _single(subject, words)
    yield from _rules_and_api(subject, words)


# The fixed parts of the path of each endpoint, by its id.
Words = Mapping[Unit, list[str]]


def _literals(unit: Unit) -> list[str]:
    return [part.lower() for part in unit.template.segments if isinstance(part, str)]


def _is_item(unit: Unit) -> bool:
    """Whether it is for one record: its path ends with a parameter."""
    last = unit.template.segments[-1:]
    return bool(last) and isinstance(last[0], Parameter)


def _reads(subject: Subject) -> Iterator[Finding]:
    """Reads of a record without the condition that its changes require, where most records are read with theirs."""
    reach = subject.reach
    alike: list[tuple[Unit, Unit, Missing]] = []
    with_condition = 0
    for (method, shape), unit in reach.by_shape.items():
        if method != "GET" or not _is_item(unit):
            continue
        writes = [each for name in ("PUT", "PATCH", "POST") if (each := reach.by_shape.get((name, shape))) is not None]
        for write in writes[:1]:
            lacking = [
                missing
                for allowed, columns in reach.groups(unit.row)
                for missing in reach.missing(allowed, columns & reach.let_in(write.row), write.row)
                if _asks_for_record(missing[1])
            ]
            if lacking:
                alike.append((unit, write, lacking[0]))
            elif any(_asks_for_record(formula) for formula, _ in reach.groups(write.row)):
                with_condition += 1
    if with_condition > len(alike):
        for unit, write, (columns, required, assignment) in alike:
            yield READ_ALONE.at(
                unit.place,
                f"{unit.words} lets in {reach.who(columns)} where {write.words} requires {required.words()}.",
                witness=witness_of(subject, unit, columns, assignment),
                related=(write.place,) if write.place != unit.place else (),
            )


def _asks_for_record(formula: Formula) -> bool:
    """Whether it asks whose record it is: for the caller and for the record."""
    roots = {reference.root for reference in references_in(formula)}
    return "caller" in roots and bool(roots & {"record", "records"})


def _beneath(subject: Subject) -> Iterator[Finding]:
    """What is beneath a record, or changes many of its kind at once, held against the record."""
    reach = subject.reach
    items = {
        (unit.method, unit.shape): unit
        for unit in reach.units
        if _is_item(unit) and any(_asks_for_record(formula) for formula, _ in reach.groups(unit.row))
    }
    if not items:
        return
    for unit in reach.units:
        item = _item_above(unit, items)
        if item is None:
            continue
        for allowed, columns in reach.groups(unit.row):
            lacking = reach.missing(allowed, columns, item.row)
            lacking = [each for each in lacking if _asks_for_record(each[1])]
            if lacking:
                missing, required, assignment = lacking[0]
                yield BENEATH.at(
                    unit.place,
                    f"{unit.words} lets in {reach.who(missing)} where {item.words} requires {required.words()}.",
                    witness=witness_of(subject, unit, missing, assignment, allowed),
                    related=(item.place,) if item.place != unit.place else (),
                )
                break


def _item_above(unit: Unit, items: Mapping[tuple[str, Shape], Unit]) -> Unit | None:
    """The record that an endpoint is beneath, or of which it changes many; None for any other endpoint."""
    # What is written beneath a record that all may read, such as a reply, is not for its owner alone.
    methods = ("GET",) if unit.method in ("GET", "POST") else ("PUT", "PATCH", "POST", "DELETE")
    segments = unit.template.segments
    for end in range(len(segments) - 1, 0, -1):
        # Beneath a record: its own path with more behind it; a form of it is held against its action elsewhere.
        if isinstance(segments[end - 1], Parameter) and segments[end] not in ("edit", "new", "delete"):
            above = ((method, unit.shape[:end]) for method in methods)
            found = next((items[key] for key in above if key in items), None)
            if found is not None:
                return found
    last = segments[-1] if segments else None
    if isinstance(last, str) and last.lower().partition(".")[0] in _MANY and unit.method != ANY:
        length = len(segments)
        for (method, _), item in items.items():
            inside = item.template.segments[: length - 1] == segments[:-1] and len(item.template.segments) == length
            if inside and (method in methods or unit.method != "GET"):
                return item
    return None


def _areas(subject: Subject, words: Words) -> Iterator[Finding]:
    """One endpoint of an area that is open to more callers than all others, which are open to the same ones."""
    reach = subject.reach
    areas: dict[tuple[str, bool], list[Unit]] = {}
    for unit in reach.units:
        first = words[unit][:1]
        if first and unit.template.text not in subject.sign_in_pages and unit.method != "HEAD":
            areas.setdefault((first[0], unit.method in WRITES), []).append(unit)
    for units in areas.values():
        if len(units) < 4:
            continue
        counts = Counter(reach.let_in(unit.row) for unit in units)
        usual, count = counts.most_common(1)[0]
        others = [unit for unit in units if reach.let_in(unit.row) != usual]
        if count < len(units) - 1 or not others or not usual:
            continue
        unit = others[0]
        more = reach.let_in(unit.row) & ~usual
        if more & (reach.signed_in | reach.signed_out) and not usual & (reach.signed_in | reach.signed_out):
            yield AREA.at(
                unit.place,
                f"{unit.words} lets in {reach.who(reach.let_in(unit.row))}; the other {count} of its area let in "
                f"{reach.who(usual)} alone.",
                witness=witness_of(subject, unit, more),
            )


def _versions(subject: Subject, words: Words) -> Iterator[Finding]:
    """The same endpoint under two versions of an API."""
    known: dict[object, list[Unit]] = {}
    for unit in subject.reach.units:
        if not any(map(_VERSION, words[unit])):
            continue
        parts = list(unit.shape)
        segments = enumerate(unit.template.segments)
        place = next((place for place, part in segments if isinstance(part, str) and _VERSION(part)), None)
        if place is not None:
            del parts[place]
            known.setdefault((unit.method, tuple(parts)), []).append(unit)
    for units in known.values():
        for one, other in pairwise(units):
            yield from _differ(subject, VERSIONS, one, other)


def _aliases(subject: Subject) -> Iterator[Finding]:
    """Routes by which one function is served."""
    by_handler: dict[tuple[int, str], list[Unit]] = {}
    for unit in subject.reach.units:
        route = unit.surveyed.endpoint.route if unit.surveyed is not None else None
        if route is not None and route.handler is not None and unit.line.action is None:
            by_handler.setdefault((id(route.handler), unit.method), []).append(unit)
    for units in by_handler.values():
        names = {len(unit.template.names) for unit in units}
        if len(units) == 2 and len(names) == 1:
            yield from _differ(subject, ALIAS, *units)


def _differ(subject: Subject, kind: FindingKind, one: Unit, other: Unit) -> Iterator[Finding]:
    """Two endpoints that should be open to the same callers, said of the one that is more open."""
    reach = subject.reach
    for here, there in ((one, other), (other, one)):
        wider = reach.wider(here.row, there.row)
        if wider is not None:
            how = "" if wider.required is None else f" where {wider.required.words()} does not hold"
            yield kind.at(
                here.place,
                f"{here.words} lets in {reach.who(wider.columns)}, whom {there.words} refuses{how}.",
                witness=witness_of(subject, here, wider.columns, wider.assignment, wider.allowed),
                related=(there.place,) if there.place != here.place else (),
            )
            return


def _fields(subject: Subject) -> Iterator[Finding]:
    """Fields that say what somebody may do, and that everybody may change."""
    reach = subject.reach
    roles = subject.policy.roles
    # Roles that others include: those of most members.
    included = {name for each, bits in roles.closure_of.items() for name in roles.kinds_of(bits) if name != each}
    juniors = sum(reach.bit[name] for name in included)
    for kind, rules in subject.policy.fields.items():
        for name, rule in rules.rules.items():
            if _RIGHTS(name) and reach.let_in_by(rule.change) & (reach.signed_in | juniors):
                entries = (
                    (section, entry) for section in subject.document.headed("fields") for entry in section.entries
                )
                place = next(
                    entry.place
                    for section, entry in entries
                    if section.argument == kind and isinstance(entry, tree.Field) and entry.name == name
                )
                yield SENSITIVE.at(place, f"{kind}.{name} may be changed by {reach.who(reach.let_in_by(rule.change))}.")


def _single(subject: Subject, every: Words) -> Iterator[Finding]:
    """What is odd about an endpoint by itself."""
    reach = subject.reach
    odd: dict[Requirement, tuple[bool, bool]] = {}
    for (method, shape), unit in reach.by_shape.items():
        let_in, words = reach.let_in(unit.row), every[unit]
        open_to_all = bool(let_in & (reach.signed_in | reach.signed_out))
        if open_to_all and not _DEBUG.isdisjoint(words):
            yield DEBUG.at(unit.place, f"{unit.words} lets in {reach.who(let_in)}.")
        segments = unit.template.segments
        of_record = len(segments) > 1 and isinstance(segments[-2], Parameter)
        changes = method == "GET" and bool(words) and not _is_item(unit) and words[-1] in _CHANGES and of_record
        if changes and let_in and not any((each, shape) in reach.by_shape for each in (*WRITES, ANY)):
            yield GET_CHANGES.at(unit.place, f"{unit.words} says that it changes something.")
        if method == "HEAD" and (get := reach.by_shape.get(("GET", shape))) is not None:
            wider = reach.wider(unit.row, get.row)
            if wider is not None:
                yield HEAD_WIDER.at(unit.place, f"{unit.words} lets in {reach.who(wider.columns)}, whom GET refuses.")
        requirement = unit.line.requirement
        if requirement not in odd:
            # Most lines share what they require with others, and require roles alone.
            odd[requirement] = _is_odd(requirement)
        excludes, by_query = odd[requirement]
        formula = requirement.formula
        if excludes:
            yield DENY_LIST.at(unit.place, f"{unit.words} requires {formula.words()} alone.")
        if by_query:
            yield BY_QUERY.at(unit.place, f"{unit.words} requires {formula.words()}, which asks for the query alone.")
        alone = let_in == reach.signed_out
        if alone and unit.template.text not in subject.sign_in_pages and not is_for_entering(unit.template):
            yield MEANT_SIGNED_IN.at(unit.place, f"{unit.words} lets in signed-out callers alone.")


def _is_odd(requirement: Requirement) -> tuple[bool, bool]:
    """Whether it only excludes a role, and whether the query alone decides."""
    if requirement.plain:
        return False, False
    return _only_excludes(requirement.formula), _by_query_alone(requirement.formula)


def _only_excludes(formula: Formula) -> bool:
    """Whether it asks for nothing but that a role is not held."""
    parts = list(_flat(formula))
    excluded = [part for part in parts if isinstance(part, Negated) and isinstance(part.part, HELD)]
    rest = [part for part in parts if part not in excluded]
    plain = all(isinstance(part, Holding) and part.mask in (SIGNED_IN, SIGNED_IN | SIGNED_OUT) for part in rest)
    roles = [part for part in excluded if isinstance(part.part, Holding) and part.part.mask & ~(SIGNED_IN | SIGNED_OUT)]
    return bool(roles) and plain


def _flat(formula: Formula) -> Iterator[Formula]:
    """The parts that are asked together, however they are gathered."""
    for part in formula.parts if isinstance(formula, Conjunction) else (formula,):
        yield from _flat(part) if isinstance(part, Conjunction) else (part,)


def _by_query_alone(formula: Formula) -> bool:
    """Whether some way of letting a caller in asks for values of the query, and for nothing else."""
    compared = [part for part in walk(formula) if isinstance(part, Comparison)]
    roots = {reference.root for reference in references_in(formula)}
    held = [part for part in walk(formula) if isinstance(part, HELD)]
    plain = all(isinstance(part, Holding) and not part.mask & ~(SIGNED_IN | SIGNED_OUT) for part in held)
    return bool(compared) and roots == {"query"} and plain


def _rules_and_api(subject: Subject, every: Words) -> Iterator[Finding]:
    """Standing rules for pages that leave the API of the same things out."""
    policy, reach = subject.policy, subject.reach
    for rule in policy.standing:
        words = [part for part in rule.template.segments if isinstance(part, str)]
        if not words or words[0].lower() in ("api",) or _VERSION(words[0]):
            continue
        missed = [
            unit
            for unit in reach.units
            if (parts := every[unit])[:1] == ["api"]
            and words[0].lower() in parts[1:3]
            and (not rule.methods or unit.method in rule.methods)
            and not any(
                other.requirement.formula == rule.requirement.formula and other.overlaps(unit.template)
                for other in policy.standing
            )
        ]
        if missed:
            yield RULE_MISSES_API.at(
                rule.place,
                f"{rule.pattern} requires {rule.requirement.words()}, and {missed[0].words} is under no such rule.",
                related=(missed[0].place,),
            )
