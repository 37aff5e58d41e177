"""Recorded requests decided once more."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ...replay.counted import MOST_CALLERS, Redecided
from ..sheet import Cell, Line, Meaning, Section, Sheet, endpoint, line, place, plural, quiet, strong, text_section

if TYPE_CHECKING:
    from ...replay.counted import Counted, Difference, Times
    from ...replay.replaying import ReplayResult
    from ...replay.unused_access import Unused, UnusedLine

_MOST = 20
_TITLES = {
    Redecided.REFUSED: ("Would be refused: they were let in", Meaning.WRONG),
    Redecided.LET_IN: ("Would be let in: they were refused", Meaning.WRONG),
}


def replay(result: ReplayResult) -> Sheet:
    """What would be otherwise, what depends, and what was never used."""
    counted = result.counted
    refused, let_in, depends = (result.times(now) for now in (Redecided.REFUSED, Redecided.LET_IN, Redecided.DEPENDS))
    headline = (
        f"{refused:,} of {plural_of(counted.requests, 'request')} would be refused, {let_in:,} let in, "
        f"{depends:,} depend on what no log has"
    )
    sections = [Section(lines=tuple(line(quiet(text)) for text in _about(counted)), tight=True)]
    for now, (title, meaning) in _TITLES.items():
        found = [(difference, times) for difference, times in result.differences if difference.now is now]
        if found:
            lines = [each for pair in found[:_MOST] for each in _difference(*pair)]
            more = [line(f"and {len(found) - _MOST} more; --format csv has all", indent=2)] if found[_MOST:] else []
            sections.append(Section((Cell(title, meaning),), (*lines, *more)))
    if depends:
        sections.append(text_section(_depending(result), title="Depends on what no log has", most=_MOST))
    if result.unused is not None:
        sections += _unused(result.unused, counted)
    warnings = tuple(line(Cell(text, Meaning.WARN)) for text in _warnings(result))
    if warnings:
        sections.append(Section(lines=warnings))
    return Sheet(
        Cell(headline, Meaning.WARN if refused or let_in else Meaning.GOOD),
        tuple(sections),
        tuple(_closing(result)),
        ("kind", "method", "path", "who", "why", "count", "callers", "first", "last", "example", "line"),
        _rows(result),
    )


def plural_of(count: int, word: str) -> str:
    """A count with its word, and commas in long numbers."""
    return f"{count:,} {word}{'' if count == 1 else 's'}"


def _about(counted: Counted) -> Iterator[str]:
    yield f"from {_time(counted.first)} to {_time(counted.last)}"
    if counted.unknown:
        yield (
            f"of {plural_of(counted.unknown, 'request')} the roles of the caller are not known: judged is only what is "
            "the same for all callers"
        )
    if counted.untold:
        verb = "does" if counted.untold == 1 else "do"
        yield f"{plural_of(counted.untold, 'answer')} {verb} not say whether the request was let in, such as 404"


def _time(written: str) -> str:
    return written[:16].replace("T", " ") if written else "an unknown time"


def _difference(difference: Difference, times: Times) -> Iterator[Line]:
    asked = difference.asked
    why = f" ({difference.why})" if difference.why else ""
    who = f"as {difference.who.words()}" if difference.who.word != "unknown" else "by callers who are not known"
    many = "or more " if len(times.callers) >= MOST_CALLERS else ""
    callers = f", {len(times.callers)} {many}callers" if len(times.callers) > 1 else ""
    yield line(endpoint(f"{asked.method} {asked.path}"), f"  {who}{why}: {times.count:,} ×{callers}", indent=2)
    seen = f"{_time(times.first)} to {_time(times.last)}" if times.first != times.last else _time(times.first)
    at = place(asked.at) if asked.at else quiet("no line")
    yield line(at, quiet(f"  {seen}, such as {times.example}"), indent=4)


def _depending(result: ReplayResult) -> Iterator[str]:
    """What requests depend on, each with how many there are and where."""
    found: dict[str, tuple[int, dict[str, None]]] = {}
    for difference, times in result.differences:
        if difference.now is Redecided.DEPENDS:
            count, spots = found.setdefault(difference.why, (0, {}))
            spots[f"{difference.asked.method} {difference.asked.path}"] = None
            found[difference.why] = count + times.count, spots
    for why, (count, spots) in sorted(found.items(), key=lambda each: -each[1][0]):
        first, *others = spots
        more = f" and {len(others)} more" if others else ""
        yield f"{plural_of(count, 'request')}: {why}, at {first}{more}"


def _unused(unused: Unused, counted: Counted) -> Iterator[Section]:
    period = f"from {counted.first[:10]} to {counted.last[:10]}"
    if unused.lines:
        shown = tuple(_unused_line(each) for each in unused.lines[:_MOST])
        left = len(unused.lines) - _MOST
        more = (line(f"and {left} more; --format csv has all", indent=2),) if left > 0 else ()
        yield Section((strong(f"No one was let in by these lines {period}"),), (*shown, *more))
    named = {
        "These permissions": unused.permissions,
        "These roles": unused.roles,
    }
    for title, names in named.items():
        if names:
            yield text_section([", ".join(names)], title=f"{title} were not used {period}")
    if unused.grants:
        texts = (f"{grant.permission} of {grant.to}  {grant.entry.place.at}" for grant in unused.grants)
        yield text_section(texts, title="These permissions were used, but not by all who are given them", most=_MOST)


def _unused_line(each: UnusedLine) -> Line:
    words = "" if each.whole else ", of this line alone"
    return line(
        endpoint(f"{' '.join(each.methods)} {each.line.template.text}"),
        f"  {each.line.requirement.words()}{words}  ",
        place(each.line.place.at),
        indent=2,
    )


def _warnings(result: ReplayResult) -> Iterator[str]:
    if result.counted.unread:
        yield f"{plural_of(result.counted.unread, 'line')} of the logs could not be read, and may record more"
    if result.unused is None:
        yield f'{result.no_diff}; an audit log has what is allowed too with Audit("all")'
    elif result.no_diff and (result.unused.lines or result.unused.grants):
        yield f"There is no diff: {result.no_diff}"
    if result.tighter is not None and result.tighter.left_out:
        yield "what permissions are given to is not left out of the diff: that would let someone in elsewhere"


def _closing(result: ReplayResult) -> Iterator[str]:
    tighter = result.tighter
    if tighter is None:
        return
    parts = [f"closes {plural(tighter.lines, 'line')}"] if tighter.lines else []
    parts += [f"leaves out {plural(tighter.grants, 'grant')}"] if tighter.grants else []
    yield (
        f"The policy without what was never used {' and '.join(parts)}; it narrows "
        f"{plural(tighter.narrowed, 'cell')} and opens none."
    )
    yield "Next: bloodroot replay LOG --diff > tighter.diff; git apply tighter.diff; bloodroot compare HEAD"


def _rows(result: ReplayResult) -> Iterator[tuple[object, ...]]:
    for difference, times in result.differences:
        asked = difference.asked
        what = (difference.now.value, asked.method, asked.path, difference.who.words(), difference.why)
        yield *what, times.count, len(times.callers), times.first, times.last, times.example, asked.at
    if result.unused is None:
        return
    none = (0, 0, "", "", "")
    for each in result.unused.lines:
        methods, words = " ".join(each.methods), each.line.requirement.words()
        yield "unused line", methods, each.line.template.text, words, "", *none, each.line.place.at
    for permission in result.unused.permissions:
        yield "unused permission", "", permission, "", "", *none, ""
    for grant in result.unused.grants:
        yield "unused grant", "", grant.permission, grant.to, "", *none, grant.entry.place.at
    for role in result.unused.roles:
        yield "unused role", "", "", role, "", *none, ""
