"""The policy without what was never used, as a diff: it lets no one in whom the policy did not."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ..comparison.changes import Change, Side
from ..comparison.comparing import compare
from ..language import tree
from ..language.parser import parse
from ..language.printer import tidy_tree

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..language.problems import Place
    from .unused_access import Unused, UnusedGrant, UnusedLine

_NOBODY = "nobody"


@dataclass(frozen=True, slots=True)
class Tighter:
    """A policy that gives what was used, and no more.

    Attributes:
        diff: the changes of its files, as ``patch`` and ``git apply`` take them.
        lines: how many lines are closed, or closed for some methods.
        grants: how many grants are left out.
        narrowed: how many cells of the comparison are lost or narrowed.
        left_out: whether grants were kept after all, since leaving them out would let someone in.
    """

    diff: str
    lines: int
    grants: int
    narrowed: int
    left_out: bool = False


def tightened(
    policy: Policy, unused: Unused, folder: Path, texts: dict[str, str], load: Callable[[dict[str, str]], Policy]
) -> Tighter | None:
    """The tighter policy; None where there is nothing to tighten.

    A line that was not used is closed (``nobody``) and not taken away: what is wider would decide in its place.

    Args:
        policy: the policy.
        unused: what was not used.
        folder: where the names of its files begin.
        texts: the files of the policy, by absolute names.
        load: gives a policy by its files.
    """
    for grants in (unused.grants, ()) if unused.grants else ((),):
        lines, changed = _changed(_closed(policy, unused.lines, folder), grants, folder, texts)
        if not changed:
            continue
        comparison = compare(Side(policy, "now"), Side(load({**texts, **changed}), "tighter"))
        if comparison.opens:
            # As in "not kiln:edit": what one permission gives less, another line gives more.
            continue
        less = sum(cell.change in (Change.LOST, Change.NARROWED) for cell in comparison.cells)
        return Tighter(_diff(folder, texts, changed), lines, len(grants), less, len(grants) < len(unused.grants))
    return None


_Place = tuple[str, int]  # a file by its absolute name, and a line


def _changed(
    closed: dict[_Place, tuple[str, ...]], grants: Iterable[UnusedGrant], folder: Path, texts: dict[str, str]
) -> tuple[int, dict[str, str]]:
    """How many lines are closed, and the files that change."""
    without: dict[_Place, set[str]] = {}
    for grant in grants:
        without.setdefault(_place(folder, grant.entry.place), set()).add(grant.to)
    changed, count = {}, 0
    for name, text in texts.items():
        document = parse(text, name)
        added: dict[int, list[tree.Entry]] = {}
        for entry in document.entries(tree.Endpoint):
            methods = closed.get((name, entry.place.line))
            if methods is None:
                continue
            count += 1
            if not methods or set(methods) >= set(entry.methods):
                entry.requirement = tree.Word(_NOBODY, 0, 0)
            else:
                entry.methods = tuple(method for method in entry.methods if method not in methods)
                nobody = tree.Word(_NOBODY, 0, 0)
                more = tree.Endpoint(methods, entry.path, [], nobody, None, entry.place, entry.asks_at)
                added.setdefault(entry.place.line, []).append(more)
        for permission in document.entries(tree.Permission):
            left_out = without.get((name, permission.place.line), set())
            permission.grants = [grant for grant in permission.grants if grant.to.text not in left_out]
        found = tidy_tree(document, added)
        if found != tidy_tree(parse(text, name)):
            changed[name] = found
    return count, changed


def _closed(policy: Policy, lines: Iterable[UnusedLine], folder: Path) -> dict[_Place, tuple[str, ...]]:
    """The methods that are to be closed, by the place of their line; none for all of them.

    A line of actions is closed only where it was used for none of its routes.
    """
    idle = {(each.line.place.at, each.line.template.text): each for each in lines}
    used = {
        line.place.at
        for line in policy.endpoints
        if (line.place.at, line.template.text) not in idle
        or (line.action is not None and not idle[line.place.at, line.template.text].whole)
    }
    return {
        _place(folder, each.line.place): () if each.whole else each.methods
        for each in idle.values()
        if each.line.place.at not in used
    }


def _place(folder: Path, place: Place) -> _Place:
    return str(folder / place.source.name), place.line


def _diff(folder: Path, texts: dict[str, str], changed: dict[str, str]) -> str:
    found: list[str] = []
    for name, text in changed.items():
        shown = Path(name)
        if shown.is_relative_to(folder):
            shown = shown.relative_to(folder)
        words = f"{'' if shown.is_absolute() else '{}/'}{shown.as_posix()}"
        found += difflib.unified_diff(
            texts[name].splitlines(True), text.splitlines(True), words.format("a"), words.format("b")
        )
    return "".join(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n" for line in found)
