"""Seeds and tokens."""

from __future__ import annotations

import datetime
import json
from typing import TYPE_CHECKING

from ...core.caller import roles_in_records
from ...identity.seed_result import SeedResult, SeedVerdict
from ..sheet import Cell, Meaning, Section, Sheet, line, plural, quiet, strong

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ...core.policy import Policy
    from ...identity.examination import Examined
    from ...identity.seed_result import SeedRow
    from ..results import TokenResult

_VERDICTS = {
    SeedVerdict.MADE: ("+", "+", Meaning.GOOD),
    SeedVerdict.KEPT: ("=", "=", Meaning.QUIET),
    SeedVerdict.DIFFERS: ("≠", "!", Meaning.OPEN),
    SeedVerdict.UPDATED: ("~", "~", Meaning.GOOD),
}
_GOOD = Cell("✓", Meaning.GOOD, "ok")
_DOUBTFUL = Cell("✗", Meaning.OPEN, "no")
_WRONG = Cell("✗", Meaning.WRONG, "no")


def seed(result: SeedResult) -> Sheet:
    """What became of each row of a seed; the counts first."""
    differs = any(row.verdict is SeedVerdict.DIFFERS for row in result.rows)
    counts = "; ".join(filter(None, (_counts(result, kind) for kind in ("member", "role", "group"))))
    return Sheet(
        Cell(
            f"Tried, nothing written: {counts}" if result.dry_run else counts, Meaning.OPEN if differs else Meaning.GOOD
        ),
        (Section(rows=tuple(map(_seeded, _together(result.rows)))),),
        (_after(result),),
        ("kind", "name", "verdict", "differences"),
        ((row.kind, row.name, row.verdict, "; ".join(row.differences)) for row in result.rows),
    )


def _seeded(rows: list[SeedRow]) -> tuple[Cell | str | tuple[Cell | str, ...], ...]:
    row = rows[0]
    sign, ascii_sign, meaning = _VERDICTS[row.verdict]
    names = ", ".join(seed_row.name for seed_row in rows)
    differences = Cell(f": {'; '.join(row.differences)}" if row.differences else "", meaning)
    return (
        Cell(f"{sign} {row.verdict.value}", meaning, f"{ascii_sign} {row.verdict.value}"),
        row.kind,
        (names, differences),
    )


def _together(rows: Iterable[SeedRow]) -> Iterable[list[SeedRow]]:
    """Roles and groups of which the same is to be shown in one line; each member in its own."""
    groups: dict[tuple[object, ...], list[SeedRow]] = {}
    for row in rows:
        key = (row.kind, row.verdict, row.differences, row.name if row.kind == "member" else "")
        groups.setdefault(key, []).append(row)
    return groups.values()


def _counts(result: SeedResult, kind: str) -> str:
    counts = ((verdict, result.count(kind, verdict)) for verdict in SeedVerdict)
    message = [f"{count} {verdict.value}" for verdict, count in counts if count]
    return f"{kind}s: {', '.join(message)}" if message else ""


def _after(result: SeedResult) -> str:
    if any(row.verdict is SeedVerdict.DIFFERS for row in result.rows):
        return "What differs was left as it is. Next: seed with --update brings it in line, or correct the file."
    if result.dry_run:
        return "Next: the same without --dry-run."
    return "Next: `bloodroot members` shows the members and what they hold."


def token(whole: TokenResult) -> Sheet:
    """A token: whether it is valid, what it says, and how that becomes roles and permissions."""
    result = whole.examined
    contents = []
    for name, table in (("header", result.header), ("claims", result.claims)):
        for number, (key, value) in enumerate(table.items()):
            contents.append((strong(name if not number else ""), key, _value(key, value)))
    sections = [Section(rows=tuple(contents)), Section(rows=tuple(_steps(result)))]
    if result.counts is not None:
        sections.append(Section(rows=tuple(_rights(result))))
    elif result.caller is not None and result.caller.roles:
        roles = ", ".join(sorted(result.caller.roles))
        sections.append(Section(lines=(line(f"It says {roles}, and that has no effect."),)))
    return Sheet(
        _token_head(result, whole.policy), tuple(section for section in sections if section.rows or section.lines)
    )


def _steps(result: Examined) -> Iterator[tuple[Cell | str, ...]]:
    """How the claims are read, one row a step, with a row for each doubt."""
    if result.fault is not None:
        yield _WRONG, "", Cell(result.fault, Meaning.WRONG)
    for step in result.steps:
        given = ", ".join(step.gives) or "nothing"
        yield _DOUBTFUL if step.notes else _GOOD, step.what, f"{step.where} gives {given}"
        for note in step.notes:
            yield "", "", Cell(note, Meaning.OPEN)
    for hint in result.hints:
        yield _DOUBTFUL, "", Cell(hint, Meaning.OPEN)
    if result.fresh is not None and result.counts is not None:
        yield _GOOD, "directory", result.fresh
        for note in result.counts.notes:
            yield "", "", Cell(note, Meaning.OPEN)


def _token_head(result: Examined, policy: Policy) -> Cell:
    if result.counts is None:
        return Cell(f"Not valid: {result.fault}. A caller who sends it is treated as signed out.", Meaning.WRONG)
    held = policy.roles.held(result.counts)
    names = ", ".join([*policy.roles.names(held.bits), *roles_in_records(result.counts)]) or "no role"
    message = f"Valid{_until(result.ends)}: caller {result.counts.id} with {names}"
    if held.apart:
        return Cell(f"{message}; {' and '.join(held.apart)} are kept apart, so everything is refused", Meaning.WRONG)
    return Cell(message, Meaning.GOOD)


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


def _rights(result: Examined) -> Iterator[tuple[Cell | str, ...]]:
    has = [name if on is None else f"{name} if {on}" for name, on in result.permissions]
    yield strong("may"), ", ".join(has) or "nothing"
    if result.lacking:
        yield strong("may not"), quiet(", ".join(result.lacking))
