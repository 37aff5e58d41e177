"""What a comparison came to, in the words and the order in which every format for people shows it."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from ..comparison.changes import CellChange, Change, Declared, EndpointChange, NameChange, PolicyComparison, Shown
from ..core.methods import COMMON
from .sheet import plural

# What opens access comes first.
ORDER = (Change.GAINED, Change.WIDENED, Change.DIFFERENT, Change.LOST, Change.NARROWED, Change.ANSWER)
SIGNS = {
    Change.GAINED: "+",
    Change.WIDENED: "+",
    Change.DIFFERENT: "±",
    Change.LOST: "-",
    Change.NARROWED: "-",
    Change.ANSWER: "=",
}
_COUNTED = {Change.ANSWER: "answered otherwise"}
_OPENS, _CLOSES = "may let callers in who were refused", "may refuse callers who were let in"


@dataclass(frozen=True, slots=True)
class Alike:
    """Kinds of callers for whom the same changes at one endpoint.

    Attributes:
        change: what becomes of access.
        roles: the kinds of callers.
        old: what they got.
        new: what they get.
        proved: whether that is certain.
        shown: a request of one of them that shows it, or None.
    """

    change: Change
    roles: tuple[str, ...]
    old: str
    new: str
    proved: bool
    shown: Shown | None

    @property
    def example(self) -> Shown | None:
        """The request, where more than a role and a path makes the difference."""
        shown = self.shown
        if shown is None or shown.command is None or self.change is Change.ANSWER:
            return None
        witness = shown.witness
        return shown if witness.caller or witness.record or witness.others else None


@dataclass(frozen=True, slots=True)
class AtEndpoint:
    """What changes at one endpoint.

    Attributes:
        method: its methods, as a policy writes them.
        path: its path.
        changes: the changes, those that open access first.
        old_line: where it was decided, or an empty string.
        new_line: where it is decided, or an empty string.
    """

    method: str
    path: str
    changes: tuple[Alike, ...]
    old_line: str
    new_line: str


def headline(result: PolicyComparison) -> str:
    """The answer in one sentence."""
    if result.same_access:
        return "No one's access changes."
    counts = result.counts()
    cells = [f"{counts[change]} {_COUNTED.get(change, change.value)}" for change in ORDER if counts[change]]
    if cells:
        endpoints = len({(cell.method, cell.path) for cell in result.cells})
        return f"Cells: {', '.join(cells)}, at {plural(endpoints, 'endpoint')}."
    beside = [
        f"{plural(len(changes), 'change')} {word}"
        for changes, word in (
            (result.fields, "of fields"),
            (result.permissions, "of permissions"),
            (result.conditions, "of conditions"),
            (result.declared, "of what is declared"),
        )
        if changes
    ]
    if result.left_open:
        return f"Not everything could be compared; found: {', '.join(beside) or 'nothing'}."
    return f"No endpoint changes; beside them {', '.join(beside)}."


def cells_by_endpoint(result: PolicyComparison, *, answers: bool) -> list[AtEndpoint]:
    """Changes of access by endpoint, or changes of answers alone."""
    wanted = [cell for cell in result.cells if (cell.change is Change.ANSWER) == answers]
    by_place: dict[tuple[str, str], list[CellChange]] = {}
    for change in wanted:
        by_place.setdefault((change.method, change.path), []).append(change)
    # The methods of one path where just the same changes are one entry.
    alike: dict[tuple[object, ...], list[str]] = {}
    by_endpoint: dict[tuple[object, ...], tuple[str, list[CellChange]]] = {}
    for (method, path), cells in by_place.items():
        key = (path, *((cell.role, cell.holding, cell.change, cell.old, cell.new) for cell in cells))
        alike.setdefault(key, []).append(method)
        by_endpoint.setdefault(key, (path, cells))
    return [
        AtEndpoint(
            " ".join(sorted(alike[key], key=_method_order)),
            path,
            tuple(_alike(cells)),
            cells[0].old_line.place.at if cells[0].old_line is not None else "",
            cells[0].new_line.place.at if cells[0].new_line is not None else "",
        )
        for key, (path, cells) in by_endpoint.items()
    ]


def _method_order(method: str) -> tuple[int, str]:
    return (COMMON.index(method) if method in COMMON else len(COMMON), method)


def _alike(cells: Iterable[CellChange]) -> Iterator[Alike]:
    groups: dict[tuple[object, ...], list[CellChange]] = {}
    for change in sorted(cells, key=lambda change: ORDER.index(change.change)):
        groups.setdefault((change.change, change.old, change.new, change.proved), []).append(change)
    for group in groups.values():
        first = group[0]
        roles = tuple(f"{change.role} ({change.holding})" if change.holding else change.role for change in group)
        shown = next((change.shown for change in group if change.shown is not None), None)
        yield Alike(first.change, roles, first.old, first.new, first.proved, shown)


def named_alike(changes: Iterable[NameChange]) -> Iterator[tuple[str, Alike]]:
    """Changes of fields, permissions or conditions, with the kinds of callers for whom they are the same together."""
    groups: dict[tuple[object, ...], list[NameChange]] = {}
    for change in changes:
        groups.setdefault((change.name, change.verb, change.change, change.old, change.new, change.proved), []).append(
            change
        )
    for group in groups.values():
        first = group[0]
        name = f"{first.verb} {first.name}" if first.verb else first.name
        roles = tuple(change.role for change in group if change.role)
        yield name, Alike(first.change, roles, first.old, first.new, first.proved, None)


def declared_in_words(declared: Declared) -> str:
    """What is declared otherwise, in words."""
    names = "group" if declared.kind == "group" else declared.kind
    if declared.kind == "apart":
        return f"{declared.name} are {'no longer kept apart' if declared.new is None else 'kept apart now'}"
    if declared.kind == "permission":
        return f"permission {declared.name} is {'gone' if declared.new is None else 'new'}"
    if declared.old is None or declared.new is None:
        what = ", ".join(declared.new or declared.old or ())
        verb = {"role": "includes", "group": "gives"}.get(declared.kind, "holds")
        given = f"; it {verb} {what}" if what and declared.new is not None else ""
        return f"{names} {declared.name} is {'gone' if declared.new is None else 'new'}{given}"
    more = [name for name in declared.new if name not in declared.old]
    less = [name for name in declared.old if name not in declared.new]
    subject, now, before = {
        "role": (f"role {declared.name}", "includes", "no longer includes"),
        "group": (f"group {declared.name}", "gives", "no longer gives"),
    }.get(declared.kind, ("every signed-in caller", "holds", "no longer holds"))
    parts = [f"{now} {', '.join(more)} now"] if more else []
    parts += [f"{before} {', '.join(less)}"] if less else []
    return f"{subject} {' and '.join(parts)}"


def endpoint_in_words(change: EndpointChange) -> str:
    """What was, or is, said of an endpoint that only one of the policies has a line for."""
    if change.covered is None:
        return "closed before" if change.new else "closed now"
    return f"{'decided before' if change.new else 'decided now'} by {change.covered.place.at}"


def next_step(result: PolicyComparison) -> str:
    """What to do next."""
    if result.same_access:
        return "Nothing to review but the text."
    if result.opens:
        return f"Review what is marked + and ±: it {_OPENS}. In CI, --fail gained makes that an error."
    if any(cell.change is not Change.ANSWER for cell in result.cells):
        return f"Review what is marked -: it {_CLOSES}."
    if result.fields or result.permissions or result.conditions or result.declared:
        return "Review what is listed: code that asks for it may refuse what it allowed before."
    return "Review what is listed; no caller is let in, or refused, who was not before."


def how_to_see(result: PolicyComparison) -> str | None:
    """How the requests that are shown can be explained; None where none are."""
    if not any(alike.example for endpoint in cells_by_endpoint(result, answers=False) for alike in endpoint.changes):
        return None
    old, new = shlex.quote(result.old.name), shlex.quote(result.new.name)
    return f"Each request is explained with --policy {old}, and with --policy {new}."
