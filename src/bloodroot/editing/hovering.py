"""What an editor shows beside the text: who gets in at a line and why, and what a name is."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ..core.decision import Outcome
from ..core.matrix import groups, row_of, spreading_of_roles
from ..core.requirements import requirement_in_words
from .occurrences import Kind, Occurrence
from .projects import Projects

if TYPE_CHECKING:
    from ..core.lines import Line
    from ..core.policy import Policy

_WORDS = {
    Outcome.ALLOW: "gets in",
    Outcome.SIGN_IN: "is asked to sign in",
    Outcome.DENY: "is refused",
}


def name_at(projects: Projects, file: Path, line: int, column: int) -> Occurrence | None:
    """The name at a place, with the kind of what is declared; None for none."""
    for entry in projects.entries(file):
        if entry.first <= line <= entry.last:
            for name in entry.names:
                if name.line == line and name.start <= column <= name.end:
                    return name._replace(kind=projects.kind_of(file, name))
    return None


def hover_text(projects: Projects, file: Path, line: int, column: int) -> str | None:
    """What is shown for a place, as Markdown; None for nothing."""
    name = name_at(projects, file, line, column)
    if name is not None:
        return _of_name(projects, file, name)
    text = projects.text(file).split("\n")[line : line + 1]
    last = projects.last(file)
    if not text or last is None or last.policy is None:
        return None
    found = _line_of(last.policy, str(file.resolve()), line, text[0])
    if found is None:
        return None
    since = "\n\nThis is how it was before the mistakes that the policy has now." if projects.is_outdated(last) else ""
    return f"{_of_line(last.policy, found)}{since}"


def _line_of(policy: Policy, name: str, line: int, text: str) -> Line | None:
    """The endpoint line at a place; one that was moved since the policy was compiled is found by its text."""
    lines = [
        endpoint for endpoint in policy.endpoints if endpoint.place.source.name == name and endpoint.place.text == text
    ]
    return min(lines, key=lambda each: abs(each.place.line - 1 - line), default=None)


def _of_line(policy: Policy, line: Line) -> str:
    """Who gets in at an endpoint, and through what."""
    spreading = spreading_of_roles(policy)
    names = ("signed-out", "signed-in", *policy.roles.kinds)
    shown = []
    for methods in groups(policy, line):
        row = row_of(policy, spreading, line, methods)
        by_words: dict[str, list[str]] = {}
        for number, name in enumerate(names):
            cell = row.cell(number)
            words = _WORDS.get(cell.outcome) or ""
            if cell.remainder is not None:
                words = f"gets in {cell.words()}"
            elif cell.standing:
                words = f"{words} {cell.words()}"
            by_words.setdefault(words, []).append(name)
        order = sorted(by_words, key=lambda words: (not words.startswith("gets in"), len(words)))
        shown.append(f"**{' '.join(methods)} {line.template.text}**")
        shown += [f"- {words}: {', '.join(by_words[words])}" for words in order]
    return "\n".join((*shown, "", f"It requires {requirement_in_words(line.requirement.formula)}."))


def _of_name(projects: Projects, file: Path, name: Occurrence) -> str | None:
    where = next(
        ((other, each) for other, each in projects.declared(file) if (each.kind, each.name) == (name.kind, name.name)),
        None,
    )
    if where is None:
        return f"{name.name} is declared nowhere" if name.kind is not Kind.USE else None
    other, declared = where
    text = projects.text(other).split("\n")[declared.line].strip()
    shown = [f"{name.kind.value} in {other.name}:{declared.line + 1}", "```bloodroot", text, "```"]
    last = projects.last(file)
    if last is not None and last.policy is not None:
        shown += _more(last.policy, name)
    return "\n".join(shown)


def _more(policy: Policy, name: Occurrence) -> list[str]:
    if name.kind is Kind.PERMISSION:
        permission = policy.resolver.permission(name.name)
        grants = permission.children if permission is not None else ()
        return [f"It is given to {grant.words()}." for grant in grants]
    if name.kind is Kind.ROLE:
        bits = policy.roles.closure_of
        kinds = [kind for kind in bits if kind.partition(" in ")[0] == name.name]
        own = policy.roles.bit_of.get(kinds[0], 0) if kinds else 0
        above = [kind for kind, held in bits.items() if own and held & own and kind not in kinds]
        return [f"It is held by {', '.join(above)} as well."] if above else []
    return []
