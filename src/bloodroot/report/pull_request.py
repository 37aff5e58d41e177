"""A comparison of policies as a comment on a pull request, in Markdown."""

from __future__ import annotations

from collections.abc import Iterator

from ..comparison.changes import PolicyComparison
from .compared import (
    SIGNS,
    Alike,
    cells_by_endpoint,
    declared_in_words,
    endpoint_in_words,
    headline,
    named_alike,
    next_step,
)
from .markdown import MOST_ROWS, code, plain


def compare(result: PolicyComparison) -> str:
    """What changes, in one line and in tables: fit for a comment on a pull request."""
    parts = [f"### {plain(headline(result))}", "", f"{code(result.old.name)} → {code(result.new.name)}", ""]
    for title, answers in (("Who gets in", False), ("What refused callers get", True)):
        changes = [(at, alike) for at in cells_by_endpoint(result, answers=answers) for alike in at.changes]
        # Where there are more than are shown, nothing that opens is among those left out before all others are.
        changes.sort(key=lambda change: not change[1].change.opens)
        rows = [[code(f"{at.method} {at.path}"), *_cells(alike, ", ".join(alike.roles))] for at, alike in changes]
        parts += _table(title, ["endpoint", "", "callers", "before", "after"], rows, folded=answers)
    rows = [
        [
            "new" if endpoint.new else "gone",
            code(f"{endpoint.method} {endpoint.path}"),
            plain(endpoint.line.place.at),
            plain(endpoint_in_words(endpoint)),
        ]
        for endpoint in result.endpoints
    ]
    parts += _table("Lines", ["", "endpoint", "line", ""], rows)
    for title, named in (
        ("Fields", result.fields),
        ("Permissions that code asks for", result.permissions),
        ("Conditions that code asks for", result.conditions),
    ):
        rows = [[code(name), *_cells(alike, ", ".join(alike.roles))] for name, alike in named_alike(named)]
        parts += _table(title, ["name", "", "callers", "before", "after"], rows)
    if result.declared:
        parts += ["**Declared otherwise**", ""]
        parts += [
            f"- {'**+** ' if declared.opens else ''}{plain(declared_in_words(declared))}"
            for declared in result.declared
        ]
        parts.append("")
    parts += [f"**Not compared:** {plain(endpoint)}.\n" for endpoint in result.left_open]
    parts += _examples(result)
    return "\n".join([*parts, plain(next_step(result))]) + "\n"


def _cells(alike: Alike, callers: str) -> list[str]:
    doubt = "" if alike.proved else " (not proved)"
    change = f"{SIGNS[alike.change]} {alike.change.value}{doubt}"
    change = f"**{change}**" if alike.change.opens else change
    return [change, plain(callers), code(alike.old), code(alike.new)]


def _table(title: str, heads: list[str], rows: list[list[str]], *, folded: bool = False) -> list[str]:
    if not rows:
        return []
    table = [f"| {' | '.join(heads)} |", f"|{' --- |' * len(heads)}"]
    table += [f"| {' | '.join(row)} |" for row in rows[:MOST_ROWS]]
    if len(rows) > MOST_ROWS:
        table.append(f"\n{len(rows) - MOST_ROWS} more; the table and the JSON have all of them.")
    if folded:
        return [f"<details><summary>{title} ({len(rows)})</summary>", "", *table, "", "</details>", ""]
    return [f"**{title}**", "", *table, ""]


def _examples(result: PolicyComparison) -> Iterator[str]:
    """Requests that show what opens, for reviewers to try."""
    examples = []
    for endpoint in cells_by_endpoint(result, answers=False):
        for alike in endpoint.changes:
            if alike.example is not None:
                examples.append(f"{alike.example.command}   # {alike.example.old} -> {alike.example.new}")
    if examples:
        yield from ("<details><summary>Requests that show it</summary>", "", "```sh")
        # No line of a command can end the block: none begins with a backquote.
        yield from examples[:MOST_ROWS]
        yield from ("```", "", "</details>", "")
