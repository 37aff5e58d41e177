"""What a policy says beside its endpoints, as rows of a reviewed table: everything that decides."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..language import tree
from ..language.normal import normal_words
from ..language.problems import Place

KINDS = ("zone", "thing", "role", "apart", "group", "permission", "condition", "always", "denial", "field")


@dataclass(frozen=True, slots=True)
class Definition:
    """One entry of a policy.

    Attributes:
        kind: one of `KINDS`; a role of a thing has the kind ``role in studio``.
        name: what it is about.
        text: what it says, in one spelling whatever the order of its terms.
        place: where it is.
    """

    kind: str
    name: str
    text: str
    place: Place

    @property
    def key(self) -> tuple[str, str]:
        """What no two definitions share."""
        return self.kind, self.name


def is_kind(word: str) -> bool:
    """Whether the first cell of a row says that the row is a definition."""
    return word.partition(" in ")[0] in KINDS


def definitions(document: tree.Document) -> list[Definition]:
    """The definitions of a policy, in the order of `KINDS` and then of the file.

    What is defined in several entries, such as two standing rules for one path, is one definition with all texts.
    """
    found: dict[tuple[str, str], list[Definition]] = {}
    for section in document.sections:
        if section.zone is not None:
            found.setdefault(("zone", ""), []).append(Definition("zone", "", section.zone, section.place))
        for entry in section.entries:
            for each in _of(section, entry):
                found.setdefault(each.key, []).append(each)
    together = [
        Definition(kind, name, "; ".join(sorted({each.text for each in entries})), entries[0].place)
        for (kind, name), entries in found.items()
    ]
    return sorted(together, key=lambda each: KINDS.index(each.kind.partition(" in ")[0]))


def _of(section: tree.Section, entry: tree.Entry) -> Iterator[Definition]:
    inside = f" in {section.argument}" if section.keyword == "roles in" else ""
    match entry:
        case tree.Role():
            includes = [f"includes {_listed(role.text for role in entry.includes)}"] if entry.includes else []
            yield Definition(
                f"role{inside}", entry.name.text, " ".join(includes + ["default"] * entry.default), entry.place
            )
        case tree.Apart():
            yield Definition(f"apart{inside}", _listed(role.text for role in entry.roles), "", entry.place)
        case tree.Thing():
            parameters = [parameter.text for parameter in entry.parameters]
            belongs = [f"in {entry.parent.text} by {'.'.join(entry.by)}"] if entry.parent is not None else []
            yield Definition("thing", entry.name.text, " ".join(parameters + belongs), entry.place)
        case tree.Group():
            yield Definition("group", entry.name, _listed(role.text for role in entry.roles), entry.place)
        case tree.Permission():
            yield Definition("permission", entry.name.text, _listed(map(_grant, entry.grants)), entry.place)
        case tree.Condition():
            yield Definition("condition", entry.name.text, normal_words(entry.expression), entry.place)
        case tree.Standing():
            excepts = [f"except {text}" for text in sorted(path.text for path in entry.excepts)]
            about = " ".join([*sorted(entry.methods), entry.path.text])
            yield Definition("always", about, " ".join([normal_words(entry.requirement), *excepts]), entry.place)
        case tree.Denial():
            path = [entry.path.text] if entry.path is not None else []
            about = " ".join([*sorted(entry.methods), *path, entry.reason.text])
            yield Definition("denial", about, _answer(entry), entry.place)
        case tree.Field():
            read = [f"read {normal_words(entry.read)}"] if entry.read is not None else []
            change = [f"change {normal_words(entry.change)}"] if entry.change is not None else []
            yield Definition("field", f"{section.argument}.{entry.name}", ", ".join(read + change), entry.place)


def _listed(names: Iterator[str] | map[str]) -> str:
    return ", ".join(sorted(set(names)))


def _grant(grant: tree.Grant) -> str:
    return grant.to.text if grant.condition is None else f"{grant.to.text} if {normal_words(grant.condition)}"


def _answer(entry: tree.Denial) -> str:
    if entry.kind == "status":
        return f"status {entry.status}"
    return f"go {entry.to.text}" if entry.kind == "go" and entry.to is not None else "hide"
