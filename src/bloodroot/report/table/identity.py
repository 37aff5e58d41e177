"""Members, seeds and tokens, as a person reads them in a terminal."""

from __future__ import annotations

import datetime
import json
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ...identity.seed_result import SeedResult, Verdict
from ..words import GOOD, OPEN, WRONG, plural

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ...core.policy import Policy
    from ...identity.examination import Examined
    from ...identity.seed_result import SeedRow
    from ..results import MadeToken, TokenResult

_SIGNS = {Verdict.MADE: "+", Verdict.KEPT: "=", Verdict.DIFFERS: "≠", Verdict.UPDATED: "~"}
_PLAIN_SIGNS = {**_SIGNS, Verdict.DIFFERS: "!"}
_STYLES = {Verdict.MADE: GOOD, Verdict.KEPT: "dim", Verdict.DIFFERS: OPEN, Verdict.UPDATED: GOOD}


def _plain(console: Console) -> bool:
    return not console.encoding.lower().startswith("utf")


def _table(*heads: str) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_header=bool(heads))
    for head in heads:
        table.add_column(head, overflow="fold")
    return table


# Seed -----------------------------------------------------------------------------------------------------------


def seed(result: SeedResult, console: Console) -> RenderableType:
    """What became of each row of a seed; the counts first."""
    signs = _PLAIN_SIGNS if _plain(console) else _SIGNS
    differs = any(row.verdict is Verdict.DIFFERS for row in result.rows)
    message = "; ".join(filter(None, (_counts(result, kind) for kind in ("member", "role", "group"))))
    head = f"Tried, nothing written: {message}" if result.dry_run else message
    table = _table()
    for rows in _together(result.rows):
        row = rows[0]
        sign = Text(f"{signs[row.verdict]} {row.verdict.value}", _STYLES[row.verdict])
        names = Text(", ".join(each.name for each in rows))
        if row.differences:
            names.append(f": {'; '.join(row.differences)}", _STYLES[row.verdict])
        table.add_row(sign, row.kind, names)
    return Group(
        Text(head, style=f"bold {OPEN}" if differs else f"bold {GOOD}"), Text(), table, Text(), Text(_after(result))
    )


def _together(rows: Iterable[SeedRow]) -> Iterable[list[SeedRow]]:
    """Roles and groups of which the same is to be shown in one line; each member in its own."""
    found: dict[tuple[object, ...], list[SeedRow]] = {}
    for row in rows:
        key = (row.kind, row.verdict, row.differences, row.name if row.kind == "member" else "")
        found.setdefault(key, []).append(row)
    return found.values()


def _counts(result: SeedResult, kind: str) -> str:
    counts = ((verdict, result.count(kind, verdict)) for verdict in Verdict)
    message = [f"{count} {verdict.value}" for verdict, count in counts if count]
    return f"{kind}s: {', '.join(message)}" if message else ""


def _after(result: SeedResult) -> str:
    if any(row.verdict is Verdict.DIFFERS for row in result.rows):
        return "What differs was left as it is. Next: seed with --update brings it in line, or correct the file."
    if result.dry_run:
        return "Next: the same without --dry-run."
    return "Next: `bloodroot members` shows the members and what they hold."


# Token -----------------------------------------------------------------------------------------------------------


def made_token(result: MadeToken, _: Console) -> str:
    """A token made for development, alone, so that it can be put into a command."""
    return f"{result.token}\n"


def token(whole: TokenResult, console: Console) -> RenderableType:
    """A token: whether it holds, what it says, and how that becomes roles and permissions."""
    result, policy = whole.examined, whole.policy
    yes, no = ("ok", "no") if _plain(console) else ("✓", "✗")
    parts: list[RenderableType] = [_token_head(result, policy), Text()]
    said = _table()
    for name, table in (("header", result.header), ("claims", result.claims)):
        for number, (key, value) in enumerate(table.items()):
            said.add_row(Text(name if not number else "", "bold"), key, Text(_value(key, value)))
    parts += [said, Text()]
    steps = _table()
    if result.fault is not None:
        steps.add_row(Text(no, WRONG), "", Text(result.fault, WRONG))
    for step in result.steps:
        good = not step.notes
        given = ", ".join(step.gives) or "nothing"
        steps.add_row(Text(yes if good else no, GOOD if good else OPEN), step.what, f"{step.where} gives {given}")
        for note in step.notes:
            steps.add_row("", "", Text(note, OPEN))
    for hint in result.hints:
        steps.add_row(Text(no, OPEN), "", Text(hint, OPEN))
    if result.fresh is not None and result.counts is not None:
        steps.add_row(Text(yes, GOOD), "directory", result.fresh)
        for note in result.counts.notes:
            steps.add_row("", "", Text(note, OPEN))
    parts.append(steps)
    if result.counts is not None:
        parts += [Text(), _rights(result)]
    elif result.caller is not None and result.caller.roles:
        parts += [Text(), Text(f"It says {', '.join(sorted(result.caller.roles))}, and that has no effect.")]
    return Group(*parts)


def _token_head(result: Examined, policy: Policy) -> Text:
    if result.counts is None:
        return Text(
            f"Not valid: {result.fault}. A caller who sends it is treated as signed out.", style=f"bold {WRONG}"
        )
    held = policy.roles.held(result.counts)
    names = ", ".join(policy.roles.names(held.bits)) or "no role"
    message = f"Valid{_until(result.ends)}: caller {result.counts.id} with {names}"
    if held.apart:
        return Text(
            f"{message}; {' and '.join(held.apart)} are kept apart, so everything is refused", style=f"bold {WRONG}"
        )
    return Text(message, style=f"bold {GOOD}")


def _until(ends: datetime.datetime | None) -> str:
    if ends is None:
        return ""
    minutes = (ends - datetime.datetime.now(datetime.UTC)).total_seconds() / 60
    return f" for {plural(round(minutes), 'minute')} more" if 0.5 <= minutes < 120 else f" until {_clock(ends)}"


def _clock(time: datetime.datetime) -> str:
    return f"{time:%Y-%m-%d %H:%M:%S} UTC"


def _value(key: str, value: object) -> str:
    text = json.dumps(value, ensure_ascii=False, default=str)
    if key in ("exp", "nbf", "iat") and isinstance(value, int | float) and abs(value) < 1e11:
        return f"{text}  ({_clock(datetime.datetime.fromtimestamp(value, datetime.UTC))})"
    return text


def _rights(result: Examined) -> Table:
    table = _table()
    has = [name if on is None else f"{name} if {on}" for name, on in result.permissions]
    table.add_row(Text("may", "bold"), ", ".join(has) or "nothing")
    if result.lacking:
        table.add_row(Text("may not", "bold"), Text(", ".join(result.lacking), "dim"))
    return table
