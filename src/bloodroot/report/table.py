"""Results as a person reads them in a terminal."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ..core.decision import Outcome
from ..core.requirements import conditions_in
from ..probe.reading import Verdict

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..core.decision import Decision
    from ..core.explanation import Explanation
    from ..core.lines import Line
    from ..core.matrix import Cell, Matrix, Row
    from ..core.policy import Policy
    from ..probe.reading import Observation
    from ..probe.runner import Result

_SIGNS = {Outcome.ALLOW: "●", Outcome.DEPENDS: "◐", Outcome.SIGN_IN: "▷", Outcome.DENY: "·"}
_PLAIN_SIGNS = {Outcome.ALLOW: "+", Outcome.DEPENDS: "?", Outcome.SIGN_IN: ">", Outcome.DENY: "."}
_STYLES = {Outcome.ALLOW: "green", Outcome.DEPENDS: "magenta", Outcome.SIGN_IN: "blue", Outcome.DENY: "dim"}
_MEANINGS = {
    Outcome.ALLOW: "allow",
    Outcome.DEPENDS: "depends on the condition named",
    Outcome.SIGN_IN: "sign in first",
    Outcome.DENY: "deny",
}
_ROOM_FOR_CONDITIONS = 36
_MARKS = "†‡§¶"
_PLAIN_MARKS = "abcd"


# Matrix ----------------------------------------------------------------------------------------------------------


def matrix(result: Matrix, policy: Policy, console: Console) -> RenderableType:
    """Endpoints down the side by area of the path, kinds of caller across the top from least to most.

    Columns that do not fit beside each other, even as letters, follow in tables of their own.
    """
    parts: list[RenderableType] = [Text(_headline(result, policy), style="bold")]
    widest = max((len(row.method) + len(row.path) for row in result.rows), default=0)
    at_once = max(8, (console.width - widest - _ROOM_FOR_CONDITIONS) // 4)
    count = len(result.columns)
    for first in range(0, count, at_once):
        numbers = range(first, min(first + at_once, count))
        sheet = _Sheet(result, console, numbers)
        if at_once < count:
            parts += [Text(), Text(f"columns {numbers[0] + 1} to {numbers[-1] + 1} of {count}", style="bold")]
        parts += [Text(), sheet.table(), Text(), *sheet.legend()]
    return Group(*parts)


def _headline(result: Matrix, policy: Policy) -> str:
    cells = Counter(cell.outcome for row in result.rows for cell in result.cells(row))
    told = ", ".join(f"{cells[outcome]} {outcome.value}" for outcome in Outcome)
    return f"{policy.title or 'Policy'}: {len(result.rows)} endpoints, {len(result.columns)} kinds of caller; {told}"


class _Sheet:
    """A matrix laid out for the width at hand: conditions in the cells where they fit, else at the end of the row."""

    def __init__(self, result: Matrix, console: Console, numbers: range) -> None:
        self.result = result
        self.numbers = numbers
        self.columns = [result.columns[number] for number in numbers]
        self.letters = [_letters(place) for place in range(len(numbers))]
        self.plain = not console.encoding.lower().startswith("utf")
        self.signs = _PLAIN_SIGNS if self.plain else _SIGNS
        self.marks = self._marks()
        rows = [(row, [row.cell(number) for number in numbers]) for row in result.rows]
        self.rows = _joined(rows)
        self.left = max((len(methods) + len(row.path) for _, methods, row, _ in self.rows), default=0) + 3
        widths = [
            max([len(column.name), *(len(self._full(cell)) + 2 for cell in cells)], default=1)
            for column, cells in zip(self.columns, zip(*(cells for *_, cells in self.rows), strict=True), strict=True)
        ]
        self.narrow = self.left + sum(widths) + 2 * len(widths) + 9 > console.width

    def _marks(self) -> dict[str, str]:
        """A sign for each thing that standing rules ask of the caller alone."""
        asked = dict.fromkeys(rule.requirement.words() for row in self.result.rows for rule, _ in row.marks)
        signs = _PLAIN_MARKS if self.plain else _MARKS
        return {
            words: signs[number] if number < len(signs) else f"({number + 1})" for number, words in enumerate(asked)
        }

    def table(self) -> Table:
        """The table itself."""
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_footer=True, header_style="bold")
        table.add_column("", no_wrap=True)
        for place, column in enumerate(self.columns):
            footer = Text(str(self._total(place)), style="dim")
            table.add_column(self.letters[place] if self.narrow else column.name, footer=footer, no_wrap=self.narrow)
        if self.narrow:
            table.add_column("depends on")
        table.add_column("allow", justify="right", style="dim", footer="")
        table.columns[0].footer = Text("allow, or depends", style="dim")
        area = None
        for each, methods, row, cells in self.rows:
            if each != area:
                if area is not None:
                    table.add_row()
                table.add_row(Text(each, style="bold"))
                area = each
            self._add(table, methods, row, cells)
        table.add_row()
        return table

    def _add(self, table: Table, methods: str, row: Row, cells: list[Cell]) -> None:
        told: list[RenderableType] = [Text.assemble("  ", f"{methods} {row.path}")]
        for number, cell in zip(self.numbers, cells, strict=True):
            sign = self.signs[cell.outcome] + self._mark(row, number)
            text = Text(sign if self.narrow or cell.remainder is None else f"{sign} {cell.remainder.words()}")
            text.stylize(_STYLES[cell.outcome])
            told.append(text)
        if self.narrow:
            told.append(Text(self._remainders(cells), style=_STYLES[Outcome.DEPENDS]))
        told.append(f"{row.allow.bit_count()}")
        table.add_row(*told)

    def _mark(self, row: Row, column: int) -> str:
        return "".join(
            dict.fromkeys(self.marks[rule.requirement.words()] for rule, columns in row.marks if columns >> column & 1)
        )

    def _remainders(self, cells: list[Cell]) -> str:
        """What the cells of a row depend on, with the letters of their columns."""
        by_words: dict[str, list[str]] = {}
        for letters, cell in zip(self.letters, cells, strict=True):
            if cell.remainder is not None:
                by_words.setdefault(cell.remainder.words(), []).append(letters)
        if len(by_words) == 1:
            return next(iter(by_words))
        return ", ".join(f"{' '.join(letters)} {words}" for words, letters in by_words.items())

    def _full(self, cell: Cell) -> str:
        return f"{self.signs[cell.outcome]} {cell.remainder.words()}" if cell.remainder else self.signs[cell.outcome]

    def _total(self, column: int) -> int:
        return sum(cells[column].outcome in (Outcome.ALLOW, Outcome.DEPENDS) for *_, cells in self.rows)

    def legend(self) -> Iterable[Text]:
        """What the signs, the letters and the marks mean."""
        text = Text()
        for outcome, meaning in _MEANINGS.items():
            text.append(self.signs[outcome], _STYLES[outcome])
            text.append(f" {meaning}   ")
        yield text
        if self.narrow:
            named = (f"{letters} {each.name}" for letters, each in zip(self.letters, self.columns, strict=True))
            yield Text("   ".join(named))
        rules: dict[str, dict[Line, None]] = {}
        for row in self.result.rows:
            for rule, _ in row.marks:
                rules.setdefault(rule.requirement.words(), {})[rule] = None
        for words, mark in self.marks.items():
            first, *others = sorted(rules[words], key=lambda rule: rule.order)
            tests = "; ".join(f"{c.name} is {c.test.words()}" for c in conditions_in(first.requirement))
            at = first.place.at + (f" and {_plural(len(others), 'line')} more" if others else "")
            yield Text(f"{mark} and always: {words} ({tests + ', ' if tests else ''}{at})")


def _letters(number: int) -> str:
    """A, B, ... Z, AA, AB and so on."""
    letters = ""
    number += 1
    while number:
        number, digit = divmod(number - 1, 26)
        letters = chr(ord("A") + digit) + letters
    return letters


def _joined(rows: list[tuple[Row, list[Cell]]]) -> list[tuple[str, str, Row, list[Cell]]]:
    """Rows by area, with the methods of one line and the same cells in one row.

    Areas of one row are gathered under ``/``: a heading for each of them would be longer than what it heads.
    """
    areas: dict[str, list[tuple[str, Row, list[Cell]]]] = {}
    for row, cells in rows:
        found = areas.setdefault(row.area, [])
        if found and found[-1][1].line is row.line and found[-1][2] == cells:
            found[-1] = (f"{found[-1][0]} {row.method}", row, cells)
        else:
            found.append((row.method, row, cells))
    alone = [each for area, found in areas.items() if len(found) == 1 or area == "/" for each in found]
    return [("/", *each) for each in alone] + [
        (area, *each) for area, found in areas.items() if len(found) > 1 and area != "/" for each in found
    ]


# Why -------------------------------------------------------------------------------------------------------------

_VERDICTS = {"passed": ("✓", "green"), "refused": ("✗", "red"), "open": ("◐", "magenta")}
_PLAIN_VERDICTS = {"passed": "ok", "refused": "no", "open": "??"}


def decision(result: Explanation, console: Console) -> RenderableType:
    """One decision: the outcome, the steps with their lines, the answer, and who would have been let in."""
    made = result.decision
    style = _STYLES[made.outcome] if made.outcome is not Outcome.DENY else "red"
    told = made.outcome.value + (f" ({made.reason})" if made.reason else "")
    head = Text.assemble((f"{result.method} {result.path} as {result.who}: ", "bold"), (told, f"bold {style}"))
    parts: list[RenderableType] = [head]
    if made.reason != "signed-out" and result.who != "signed-out":
        parts.append(Text(f"{result.who} holds {', '.join(result.roles) or 'no role'}", style="dim"))
    parts += [Text(), _steps(made, console), Text()]
    answer = made.answer
    if answer is not None:
        where = f" to {answer.location}" if answer.location is not None else ""
        by = f" ({answer.place.at})" if answer.place is not None else ""
        parts.append(Text(f"The caller gets {answer.status}{where}: {answer.message}{by}"))
    if result.enough:
        parts.append(Text(f"Roles that would be enough: {', '.join(result.enough)}"))
    parts += [Text(f"{hint[0].upper()}{hint[1:]}.") for hint in result.hints]
    if result.remains is not None:
        parts.append(Text(f"Still to be known: {result.remains}"))
    if result.record is not None:
        parts.append(Text(f"To settle it, add the record: --record '{result.record}'"))
    return Group(*parts)


def _steps(made: Decision, console: Console) -> Table:
    plain = not console.encoding.lower().startswith("utf")
    steps = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for step in made.steps:
        sign, colour = _VERDICTS[step.verdict]
        steps.add_row(
            Text(_PLAIN_VERDICTS[step.verdict] if plain else sign, style=colour),
            Text(step.name, style="bold"),
            Text(step.text),
        )
        if step.where:
            steps.add_row("", "", Text(f"{step.where}  {step.line}", style="dim"))
    return steps


def lines(method: str, path: str, found: list[Line], rules: list[Line]) -> RenderableType:
    """The lines that cover a path, the one that decides first, and the standing rules beside them."""
    if not found:
        return Text(f"no line covers {method} {path}, so nobody may see it", style="bold")
    parts: list[RenderableType] = [Text(f"{method} {path} is decided by {found[0].place.at}", style="bold"), Text()]
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for number, line in enumerate(found):
        table.add_row("less specific" if number else "decides", line.place.at, line.text)
    for rule in rules:
        table.add_row("and always", rule.place.at, rule.text)
    return Group(*parts, table)


# Probe -----------------------------------------------------------------------------------------------------------


def probe(result: Result) -> RenderableType:
    """What a probe found: the count first, then each hole and each blocked endpoint with who and what."""
    holes = result.count(Verdict.HOLE)
    blocked = result.count(Verdict.BLOCKED)
    unclear = result.count(Verdict.UNCLEAR)
    endpoints = len({(each.case.line.order, each.case.method) for each in result.observations})
    people = len({each.case.persona.name for each in result.observations})
    open_at = len(
        {(each.case.line.order, each.case.method) for each in result.observations if each.verdict is Verdict.HOLE}
    )
    told = _plural(holes, "hole") + (f" at {_plural(open_at, 'endpoint')}" if holes else "")
    told += f", {blocked} blocked, {result.count(Verdict.AGREE)} agree"
    told += f", {unclear} unclear" if unclear else ""
    told += f", {len(result.untried)} not tried" if result.untried else ""
    told += f"; {_plural(endpoints, 'endpoint')} as {_plural(people, 'persona')}"
    style = "bold red" if holes else "bold green" if result.sound else "bold yellow"
    parts: list[RenderableType] = [Text(told, style=style)]
    for verdict, title, colour in (
        (Verdict.HOLE, "HOLE", "red"),
        (Verdict.BLOCKED, "BLOCKED", "yellow"),
        (Verdict.UNCLEAR, "UNCLEAR", "magenta"),
    ):
        found = [each for each in result.observations if each.verdict is verdict]
        for group in _by_endpoint(found):
            parts += [Text(), *_finding(group, title, colour)]
    if result.untried:
        parts += [Text(), Text("NOT TRIED", style="bold magenta")]
        reasons = Counter(
            f"{each.method} {each.line.template.text} as {each.persona.name}: {each.why}" for each in result.untried
        )
        shown = list(reasons)[:8]
        parts += [Text(f"        {reason}") for reason in shown]
        if len(reasons) > len(shown):
            parts.append(Text(f"        and {len(reasons) - len(shown)} more"))
    parts += [Text(), Text(_next_step(result))]
    return Group(*parts)


def _by_endpoint(found: list[Observation]) -> list[list[Observation]]:
    """Observations of one endpoint, with one thing observed, together."""
    groups: dict[tuple[int, str, str, str], list[Observation]] = {}
    for each in found:
        key = (each.case.line.order, each.case.method, each.said, each.case.sample)
        groups.setdefault(key, []).append(each)
    return list(groups.values())


def _finding(group: list[Observation], title: str, colour: str) -> Iterable[Text]:
    first = group[0]
    case = first.case
    line: Line = case.line
    sample = f"  [{case.sample}]" if case.sample else ""
    yield Text.assemble((f"{title:8}", f"bold {colour}"), (f"{case.method} {line.template.text}", "bold"), sample)
    by_declared: dict[str, list[str]] = {}
    for each in group:
        by_declared.setdefault(each.case.declared.value, []).append(each.case.persona.name)
    for declared, names in by_declared.items():
        yield Text(f"        declared {declared} for {', '.join(dict.fromkeys(names))}")
    statuses = ", ".join(dict.fromkeys(_status(each) for each in group))
    yield Text.assemble("        observed ", (first.said, colour))
    yield Text(f"        {case.method} {case.path} answered {statuses}")
    yield Text(f"        {line.place.at}  {line.text}", style="dim")


def _status(each: Observation) -> str:
    return f"{each.status} to {each.location}" if each.location else str(each.status)


def _plural(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def _next_step(result: Result) -> str:
    if result.count(Verdict.HOLE):
        return "Next: close the holes in the application, or put bloodroot.enforce.asgi.AccessMiddleware around it."
    if result.count(Verdict.BLOCKED):
        return "Next: ask `bloodroot why PERSONA METHOD PATH` whether the policy or the application is right."
    if not result.sound:
        return "Next: complete the samples in the settings, see that they exist in the data, and probe again."
    return "The application does what the policy declares."
