"""Findings about names: those that nothing uses, and those that are nearly the same."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ..core.finding import Finding, FindingKind, Severity
from ..language import tree
from ..language.problems import Place
from .subject import Subject, all_entries, nodes_in, requirements_of

UNUSED_ROLE = FindingKind(
    "unused-role",
    Severity.WARNING,
    "A role opens nothing: no line, grant, field or guard names it, and it includes no other role.",
    "Grant it a permission, correct the name where it is meant, or remove the role.",
)
UNUSED_PERMISSION = FindingKind(
    "unused-permission",
    Severity.WARNING,
    "A permission is granted, and no line, standing rule, field or guard requires it.",
    "Require it where it is meant, or remove it. Where only the program asks for it, accept the finding.",
)
UNUSED_CONDITION = FindingKind(
    "unused-condition",
    Severity.WARNING,
    "A condition is declared, and nothing requires it.",
    "Require it where it is meant, or remove it.",
)
IDLE_GROUP = FindingKind(
    "idle-group",
    Severity.WARNING,
    "A group gives nothing that every signed-in caller does not have by default.",
    "Give it the roles that its members should have, or remove it.",
)
SIMILAR_NAMES = FindingKind(
    "similar-names",
    Severity.WARNING,
    "Two names differ by case, by one letter, or by two letters in another order.",
    "Write both alike where one thing is meant.",
)
KINDS = (UNUSED_ROLE, UNUSED_PERMISSION, UNUSED_CONDITION, IDLE_GROUP, SIMILAR_NAMES)
_SHORTEST = 4  # names of fewer letters may well differ by one
_LONGEST = 60


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    uses = subject.uses
    roles = subject.policy.roles
    for entry in all_entries(subject.document):
        match entry:
            case tree.Role() if not entry.includes and not entry.default and entry.name.text not in uses.names:
                yield UNUSED_ROLE.at(entry.place, f'No line, grant, field or guard names the role "{entry.name.text}".')
            case tree.Permission() if not _is_required(entry.name.text, uses.names):
                yield UNUSED_PERMISSION.at(entry.place, f'Nothing requires the permission "{entry.name.text}".')
            case tree.Condition() if entry.name.text not in uses.names:
                answered = "; a denial answers it, and it never is a reason" if entry.name.text in uses.denied else ""
                yield UNUSED_CONDITION.at(entry.place, f'Nothing requires the condition "{entry.name.text}"{answered}.')
            case tree.Group() if not roles.groups[entry.name] & ~roles.base:
                yield IDLE_GROUP.at(
                    entry.place, f'The group "{entry.name}" gives only what every signed-in caller has by default.'
                )
    yield from _similar(subject)


def _is_required(permission: str, names: set[str]) -> bool:
    """Whether something requires a permission, or one of the family that ends in ``*``."""
    if permission in names:
        return True
    return permission.endswith("*") and any(name.startswith(permission[:-1]) for name in names)


# Names that are nearly the same ------------------------------------------------------------------------------------


def _similar(subject: Subject) -> Iterator[Finding]:
    for what, names in _names(subject).items():
        for one, other in similar(names, plurals=what.startswith("attribute")):
            place, first = names[other], names[one]
            yield SIMILAR_NAMES.at(
                place,
                f'The {what} "{other}" is nearly the same as "{one}" in {first.at}.',
                related=(first,),
            )


def _names(subject: Subject) -> dict[str, dict[str, Place]]:
    """Names that mean different things if they differ, by what they are, each with the place where it is first."""
    names: dict[str, dict[str, Place]] = {}

    def add(what: str, name: str, place: Place) -> None:
        names.setdefault(what, {}).setdefault(name, place)

    seen: set[int] = set()
    for entry in all_entries(subject.document):
        match entry:
            case tree.Role():
                add("role", entry.name.text, entry.place)
            case tree.Condition():
                add("condition", entry.name.text, entry.place)
            case tree.Permission():
                add("permission", entry.name.text, entry.place)
            case tree.Group():
                add("group", entry.name, entry.place)
            case tree.Field():
                add("field", entry.name, entry.place)
        for node in requirements_of(entry):
            if id(node) in seen:
                continue
            seen.add(id(node))
            for child in nodes_in(node):
                if isinstance(child, tree.Word) and ":" in child.text:
                    add("permission", child.text, entry.place)
                elif isinstance(child, tree.Reference):
                    add(f"attribute of the {child.root}", ".".join(child.names), entry.place)
    return names


def similar(names: Iterable[str], *, plurals: bool = False) -> Iterator[tuple[str, str]]:
    """Pairs of names that are nearly the same, the one that comes first before the other.

    Names are compared by what is left of them without one letter, so that the work grows with their length alone.

    Args:
        names: names, each once.
        plurals: whether two names may differ by an ``s`` at the end.
    """
    without: dict[str, list[str]] = {}
    pairs: set[tuple[str, str]] = set()
    for name in names:
        low = name.lower()[:_LONGEST]
        for key in {low, *(low[:place] + low[place + 1 :] for place in range(len(low)))}:
            others = without.setdefault(key, [])
            for other in others[:20]:
                if (other, name) not in pairs and nearly_the_same(other, name, plurals):
                    pairs.add((other, name))
                    yield other, name
            others.append(name)


def nearly_the_same(one: str, other: str, plurals: bool = False) -> bool:
    """Whether two names differ by case, by one letter, or by two in another order."""
    if one == other:
        return False
    if one.lower() == other.lower():
        return True
    left, right = one.lower().split(":"), other.lower().split(":")
    if len(left) != len(right):
        return False
    parts = [(a, b) for a, b in zip(left, right, strict=True) if a != b]
    if len(parts) != 1:
        return False
    a, b = parts[0]
    if a == f"{b}s" or b == f"{a}s":
        return not plurals and min(len(a), len(b)) > 1
    return min(len(a), len(b)) >= _SHORTEST and _one_slip(a, b)


def _one_slip(one: str, other: str) -> bool:
    """Whether one letter is another one, one too many, or has changed places with its neighbour."""
    start = 0
    while start < min(len(one), len(other)) and one[start] == other[start]:
        start += 1
    left, right = one[start:], other[start:]
    if len(left) == len(right):
        swapped = left[:2] == right[1::-1] and left[2:] == right[2:]
        changed = left[1:] == right[1:] and (left[0].isalpha() and right[0].isalpha())
        return swapped or changed
    longer, shorter = (left, right) if len(left) > len(right) else (right, left)
    return longer[1:] == shorter and not longer[0].isdigit()
