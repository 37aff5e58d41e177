"""Findings about roles, groups, permissions and grants: what they give, and what they take."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.finding import Finding, FindingKind, Severity
from ..core.formulas import Facts, can_be_true
from ..core.lines import Line
from ..core.matrix import Row
from ..core.records import UNKNOWN
from ..core.requirements import Requirement, permissions_in
from ..core.roles import ANYONE, SIGNED_IN, SIGNED_OUT
from ..language import tree
from ..language.printer import words
from ..survey.drafting import FOR_STAFF
from .reach import Reach, sum_of
from .subject import Subject, all_entries

UNHELD_PERMISSION = FindingKind(
    "unheld-permission",
    Severity.WARNING,
    "A permission is required, and no caller holds it.",
    "Grant it to a role, or write nobody on the lines that require it.",
)
IDLE_ROLE = FindingKind(
    "idle-role",
    Severity.WARNING,
    "A role opens nothing beyond what the role it includes opens.",
    "Grant it what it is for, or remove the role and give the one it includes.",
)
SENIOR_REFUSED = FindingKind(
    "senior-refused",
    Severity.WARNING,
    "A role is refused where a role that it includes is let in.",
    "A caller with the greater role holds the lesser one too; name what is excluded in another way.",
)
OPENS_EVERYTHING = FindingKind(
    "role-opens-everything",
    Severity.NOTE,
    "One role opens every endpoint.",
    "Make sure that few hold it, and that what is dangerous asks for more than one role.",
)
APART_JOINED = FindingKind(
    "apart-joined",
    Severity.ERROR,
    "A group gives two roles that are kept apart, so that its members are refused everything.",
    "Take one of the roles from the group, or remove the line that keeps them apart.",
)
NEEDLESS_GRANT = FindingKind(
    "needless-grant",
    Severity.NOTE,
    "A grant gives nothing that another grant of the same permission does not give.",
    "Remove the one that says less.",
)
STAFF_SHARED = FindingKind(
    "staff-permission-shared",
    Severity.NOTE,
    "One permission opens what is for staff, and what is not.",
    "Require a permission of its own where staff work, so that each can be given without the other.",
)
_MOST_NAMED = 4
_MOST_COMPARED = 50  # of grants with conditions
KINDS = (UNHELD_PERMISSION, IDLE_ROLE, SENIOR_REFUSED, OPENS_EVERYTHING, APART_JOINED, NEEDLESS_GRANT, STAFF_SHARED)


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    yield from _unheld(subject)
    yield from _shared_with_staff(subject)
    yield from _roles(subject)
    yield from _groups(subject)
    for entry in all_entries(subject.document):
        if isinstance(entry, tree.Permission) and len(entry.grants) + len(subject.policy.permissions) > 1:
            yield from _needless(subject, entry)


def _unheld(subject: Subject) -> Iterator[Finding]:
    """Permissions that lines require, and that no role gives."""
    anything = Facts(0, ~0, caller=UNKNOWN)
    granted = subject.settings is not None and subject.settings.directory is not None
    closed = {name: grants for name, grants in subject.grants.items() if grants and all(_is_nobody(g) for g in grants)}
    decided: dict[str, Line] = {}
    seen: set[str] = set()
    checked: set[Requirement] = set()
    for line in (*subject.policy.endpoints, *subject.policy.standing):
        if line.requirement in checked:
            continue
        checked.add(line.requirement)
        for permission in permissions_in(line.requirement.formula):
            if permission.name in seen:
                continue
            seen.add(permission.name)
            if can_be_true(permission.grants.fold(anything)):
                continue
            if permission.name in closed:
                # That is how a draft begins: one finding for all of them.
                decided[permission.name] = line
                continue
            yield UNHELD_PERMISSION.at(
                line.place,
                f'No caller holds "{permission.name}", which this line requires'
                + (", unless the directory grants it." if granted else "."),
                severity=Severity.NOTE if granted else None,
            )
    if decided:
        first = next(iter(decided))
        names = ", ".join([f'"{name}"' for name in decided][:_MOST_NAMED]) + (
            " and more" if len(decided) > _MOST_NAMED else ""
        )
        what = "1 permission is" if len(decided) == 1 else f"{len(decided)} permissions are"
        yield UNHELD_PERMISSION.at(
            decided[first].place,
            f"{what} granted to nobody, and required by lines: {names}.",
            severity=Severity.NOTE,
        )


def _shared_with_staff(subject: Subject) -> Iterator[Finding]:
    """Permissions that lines of an area for staff require, and lines elsewhere."""
    found: dict[str, dict[bool, Line]] = {}
    names: dict[Requirement, list[str]] = {}
    for line in subject.policy.endpoints:
        asked = names.get(line.requirement)
        if asked is None:
            asked = names[line.requirement] = [each.name for each in permissions_in(line.requirement.formula)]
        if asked:
            for_staff = not FOR_STAFF.isdisjoint(line.template.segments)
            for name in asked:
                found.setdefault(name, {}).setdefault(for_staff, line)
    for name, lines in found.items():
        if len(lines) == 2:
            yield STAFF_SHARED.at(
                lines[True].place, f'"{name}" opens this, and {lines[False].text} as well ({lines[False].place.at}).'
            )


def _is_nobody(grant: tree.Grant) -> bool:
    return grant.to.text == "nobody"


def _roles(subject: Subject) -> Iterator[Finding]:
    """What each role opens beside those it includes."""
    reach, roles = subject.reach, subject.policy.roles
    entries = {
        roles.kind(entry.name.text): entry for entry in all_entries(subject.document) if isinstance(entry, tree.Role)
    }
    rows: dict[object, Row] = {}
    for unit in reach.units:
        # Most endpoints treat the roles as many others do.
        rows.setdefault((unit.row.allow, unit.row.depends, unit.row.marks), unit.row)
    is_draft = any(grants and all(_is_nobody(grant) for grant in grants) for grants in subject.grants.values())
    for name, entry in entries.items():
        own = reach.bit[name]
        lesser = _bit(reach, entry.includes[0].text) if entry.includes else reach.signed_in
        # Where permissions are still granted to nobody, that is said, and not of each role that opens nothing yet.
        is_open = not is_draft or any(
            own & row.allow or any(own & bits for _, bits in row.depends) for row in rows.values()
        )
        if (
            is_open
            and _is_lone(subject, entry)
            and all(_required(reach, row, own) == _required(reach, row, lesser) for row in rows.values())
        ):
            other = entry.includes[0].text if entry.includes else "every signed-in caller"
            yield IDLE_ROLE.at(entry.place, f'The role "{name}" opens nothing beyond what {other} may do.')
        included = sum(reach.bit[each] for each in roles.kinds_of(roles.closure_of[name]) if each != name)
        for row in rows.values():
            let_in = reach.let_in(row)
            if let_in & included and not let_in & own:
                yield SENIOR_REFUSED.at(
                    row.line.place,
                    f'"{name}" is refused at {row.method} {row.path}, and {reach.who(let_in & included)}, '
                    "which it includes, is let in.",
                    related=(entry.place,),
                )
    yield from _open_everything(reach, entries, [row for row in rows.values() if reach.let_in(row) & ~reach.signed_out])


def _bit(reach: Reach, role: str) -> int:
    return reach.bit[reach.policy.roles.kind(role)]


def _open_everything(reach: Reach, entries: dict[str, tree.Role], rows: list[Row]) -> Iterator[Finding]:
    """Roles for which no endpoint requires more than it requires of any other."""
    signed_in = reach.every & ~reach.signed_out
    if all(row.allow & signed_in == signed_in for row in rows):
        return
    everywhere = signed_in
    for row in rows:
        groups = reach.groups(row)
        least = 0
        for formula, columns in groups:
            if all(reach.implies(other, formula) for other, bits in groups if bits & signed_in):
                least |= columns
        everywhere &= least
    # A role in a thing opens nothing but what is in one record. That one role opens everything is as it should be.
    opening = [
        (name, entry)
        for name, entry in entries.items()
        if everywhere & reach.bit[name] and entry.name.text not in reach.policy.roles.in_thing
    ]
    for name, entry in opening:
        if len(opening) > 1 or entry.default:
            yield OPENS_EVERYTHING.at(entry.place, f'The role "{name}" opens every endpoint that any role opens.')


def _is_lone(subject: Subject, entry: tree.Role) -> bool:
    """Whether a role is there for its own sake: it joins no others, and is more than a name for everyone signed in."""
    if not subject.reach.units or (subject.policy.fields and entry.name.text in subject.uses.names):
        return False
    if any(word.text in subject.policy.roles.in_thing for word in entry.includes):
        # It holds everywhere what the others hold in one record.
        return False
    if not entry.includes:
        return not entry.default and entry.name.text in subject.uses.names
    return len(entry.includes) == 1


def _required(reach: Reach, row: Row, column: int) -> object:
    """On what it depends for a kind of caller; None where it is refused."""
    return next((formula for formula, columns in reach.groups(row) if columns & column), None)


def _groups(subject: Subject) -> Iterator[Finding]:
    roles = subject.policy.roles
    for entry in all_entries(subject.document):
        if not isinstance(entry, tree.Group):
            continue
        bits = roles.groups[entry.name] | roles.base
        for members in roles.apart:
            held = [name for name, bit in members if bits & bit]
            if len(held) > 1:
                yield APART_JOINED.at(
                    entry.place,
                    f'A member of the group "{entry.name}" holds {held[0]} and {held[1]}, which are kept apart.',
                )
                break


def _needless(subject: Subject, entry: tree.Permission) -> Iterator[Finding]:
    """Grants of a permission that another one of it, or of its family, makes needless."""
    given = list(_given(subject, entry))
    always: dict[int, list[tuple[tree.Grant, str]]] = {}  # grants without a condition, by what is enough for them
    for grant, family in given:
        if grant.condition is None:
            always.setdefault(_holding(subject, grant.to.text), []).append((grant, family))
    enough = sum_of(always)
    conditional = [(grant, family) for grant, family in given if grant.condition is not None][:_MOST_COMPARED]
    for number, grant in enumerate(entry.grants):
        needs = _held_by(subject, grant.to.text) & enough
        others = [pair for bits, pairs in always.items() if bits & needs for pair in pairs] if needs else []
        for other, family in (*others, *conditional):
            if other is grant or not _gives_as_much(subject, other, grant):
                continue
            later = any(other is following for following in entry.grants[number + 1 :])
            if later and _gives_as_much(subject, grant, other):
                # Of two that give the same, the first one stays.
                continue
            of = f" of {family}" if family != entry.name.text else ""
            text = grant.to.text + (f" if {words(grant.condition)}" if grant.condition is not None else "")
            yield NEEDLESS_GRANT.at(
                entry.place,
                f'The grant of "{entry.name.text}" to {text} is needless: that to {other.to.text}{of} gives as much.',
            )
            break


def _given(subject: Subject, entry: tree.Permission) -> Iterator[tuple[tree.Grant, str]]:
    """The grants of a permission and those of the families it belongs to."""
    yield from ((grant, entry.name.text) for grant in entry.grants)
    parts = entry.name.text.split(":")
    for count in range(1, len(parts)):
        family = ":".join((*parts[:count], "*"))
        if family != entry.name.text:
            yield from ((grant, family) for grant in subject.grants.get(family, ()))


def _gives_as_much(subject: Subject, one: tree.Grant, other: tree.Grant) -> bool:
    """Whether one grant gives a permission to every caller, and for every record, to which another one gives it."""
    if one.condition is not None and one.condition != other.condition:
        if other.condition is None:
            return False
        expression = subject.policy.resolver.expression
        if not subject.reach.implies(expression(other.condition), expression(one.condition)):
            return False
    holds, needs = _holding(subject, one.to.text), _held_by(subject, other.to.text)
    return bool(holds) and bool(needs & holds)


def _holding(subject: Subject, name: str) -> int:
    """The bits of which any one is enough for a grant."""
    audiences = {"anyone": ANYONE, "signed-in": SIGNED_IN, "signed-out": SIGNED_OUT, "nobody": 0}
    roles = subject.policy.roles
    return audiences[name] if name in audiences else roles.bit_of[roles.kind(name)]


def _held_by(subject: Subject, name: str) -> int:
    """The bits that everybody holds to whom a grant is made."""
    roles = subject.policy.roles
    audiences = {"anyone": 0, "signed-in": SIGNED_IN, "signed-out": SIGNED_OUT, "nobody": 0}
    # That a default role is held by every signed-in caller may change, and is no reason to leave others out.
    if name in audiences:
        return audiences[name]
    return SIGNED_IN | roles.closure_of[roles.kind(name)]
