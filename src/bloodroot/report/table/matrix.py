"""The matrix as a person reads it in a terminal."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from ...core.decision import Outcome
from ...core.requirements import conditions_in
from ..words import STYLES, WARN, plural

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from ...core.lines import Line
    from ...core.matrix import Cell, Matrix, Row
    from ...core.policy import Policy
    from ..results import MatrixResult

_SIGNS = {Outcome.ALLOW: "●", Outcome.DEPENDS: "◐", Outcome.SIGN_IN: "▷", Outcome.DENY: "·"}
_PLAIN_SIGNS = {Outcome.ALLOW: "+", Outcome.DEPENDS: "?", Outcome.SIGN_IN: ">", Outcome.DENY: "."}
_MEANINGS = {
    Outcome.ALLOW: "allow",
    Outcome.DEPENDS: "depends on the condition named",
    Outcome.SIGN_IN: "sign in first",
    Outcome.DENY: "deny",
}
_ROOM_FOR_CONDITIONS = 36
_MARKS = "†‡§¶"
_PLAIN_MARKS = "abcd"


def matrix(whole: MatrixResult, console: Console) -> RenderableType:
    """Endpoints down the side by area of the path, kinds of caller across the top from least to most.

    Columns that do not fit beside each other, even as letters, follow in tables of their own.
    """
    return Group(Text(_headline(whole.matrix, whole.policy), style="bold"), *sheets(whole.matrix, console))


def sheets(result: Matrix, console: Console, lacking: frozenset[tuple[int, int]] = frozenset()) -> list[RenderableType]:
    """A matrix in as many tables as the width at hand needs, each with its legend.

    Args:
        result: the matrix.
        console: what it is for.
        lacking: cells to mark, as the id of a row and the number of a column.
    """
    parts: list[RenderableType] = []
    widest = max((len(row.method) + len(row.path) for row in result.rows), default=0)
    at_once = max(8, (console.width - widest - _ROOM_FOR_CONDITIONS) // 4)
    count = len(result.columns)
    for first in range(0, count, at_once):
        numbers = range(first, min(first + at_once, count))
        sheet = _Sheet(result, console, numbers, lacking)
        if at_once < count:
            parts += [Text(), Text(f"columns {numbers[0] + 1} to {numbers[-1] + 1} of {count}", style="bold")]
        parts += [Text(), sheet.table(), Text(), *sheet.legend()]
    return parts


def _headline(result: Matrix, policy: Policy) -> str:
    cells = Counter(cell.outcome for row in result.rows for cell in result.cells(row))
    message = ", ".join(f"{cells[outcome]} {outcome.value}" for outcome in Outcome)
    return f"{policy.title or 'Policy'}: {len(result.rows)} endpoints, {len(result.columns)} kinds of caller; {message}"


class _Sheet:
    """A matrix laid out for the width at hand: conditions in the cells where they fit, else at the end of the row."""

    def __init__(self, result: Matrix, console: Console, numbers: range, lacking: frozenset[tuple[int, int]]) -> None:
        self.result = result
        self.lacking = lacking
        self.numbers = numbers
        self.columns = [result.columns[number] for number in numbers]
        self.letters = [_letters(place) for place in range(len(numbers))]
        self.plain = not console.encoding.lower().startswith("utf")
        self.signs = _PLAIN_SIGNS if self.plain else _SIGNS
        self.marks = self._marks()
        rows = [(row, [row.cell(number) for number in numbers]) for row in result.rows]
        self.rows = _joined(rows, lambda row: [(id(row), number) in lacking for number in numbers])
        self.left = max((len(methods) + len(row.path) for _, methods, row, _ in self.rows), default=0) + 3
        widths = [
            max([len(column.name), *(len(self._full(cell)) + 2 for cell in cells)], default=1)
            for column, cells in zip(self.columns, zip(*(cells for *_, cells in self.rows), strict=True), strict=True)
        ]
        self.left += 2 * any(not row.line.exact for row in result.rows)
        guards = max((len(_guards(row)) for _, _, row, _ in self.rows), default=0)
        self.guarded = bool(guards)
        right = 9 + guards + 2 * self.guarded
        self.narrow = self.left + sum(widths) + 2 * len(widths) + right > console.width

    def _marks(self) -> dict[str, str]:
        """A sign for each thing that standing rules ask of the caller alone."""
        asked = dict.fromkeys(rule.requirement.words() for row in self.result.rows for rule, _, _ in row.marks)
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
        if self.guarded:
            table.add_column("guard in", style="dim", footer="")
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
        shown: list[RenderableType] = [Text.assemble("  ", f"{methods} {row.path}", "" if row.line.exact else " ~")]
        for number, cell in zip(self.numbers, cells, strict=True):
            sign = self.signs[cell.outcome] + self._mark(row, number)
            text = Text(sign if self.narrow or cell.remainder is None else f"{sign} {cell.remainder.words()}")
            text.stylize(f"bold {WARN}" if (id(row), number) in self.lacking else STYLES[cell.outcome])
            shown.append(text)
        if self.narrow:
            shown.append(Text(self._remainders(cells), style=STYLES[Outcome.DEPENDS]))
        shown.append(f"{row.allow.bit_count()}")
        if self.guarded:
            shown.append(_guards(row))
        table.add_row(*shown)

    def _mark(self, row: Row, column: int) -> str:
        rules = [rule.requirement.words() for rule, _, columns in row.marks if columns >> column & 1]
        marks = "".join(dict.fromkeys(self.marks[words] for words in rules))
        return marks + ("!" if (id(row), column) in self.lacking else "")

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
            text.append(self.signs[outcome], STYLES[outcome])
            text.append(f" {meaning}   ")
        yield text
        if any(not row.line.exact for row in self.result.rows):
            yield Text("~ about: the application's path cannot be written in a policy, and what it serves decides")
        if self.narrow:
            named = (f"{letters} {each.name}" for letters, each in zip(self.letters, self.columns, strict=True))
            yield Text("   ".join(named))
        rules: dict[str, dict[Line, None]] = {}
        for row in self.result.rows:
            for rule, _, _ in row.marks:
                rules.setdefault(rule.requirement.words(), {})[rule] = None
        for words, mark in self.marks.items():
            first, *others = sorted(rules[words], key=lambda rule: rule.order)
            tests = "; ".join(f"{c.name} is {c.test.words()}" for c in conditions_in(first.requirement.formula))
            at = first.place.at + (f" and {plural(len(others), 'line')} more" if others else "")
            yield Text(f"{mark} and always: {words} ({tests + ', ' if tests else ''}{at})")


def _letters(number: int) -> str:
    """A, B, ... Z, AA, AB and so on."""
    letters = ""
    number += 1
    while number:
        number, digit = divmod(number - 1, 26)
        letters = chr(ord("A") + digit) + letters
    return letters


def _guards(row: Row) -> str:
    """Where the guards are that a row contains."""
    return ", ".join(dict.fromkeys(guard.place.at for guard in row.line.guards))


def _joined(
    rows: list[tuple[Row, list[Cell]]], marked: Callable[[Row], list[bool]]
) -> list[tuple[str, str, Row, list[Cell]]]:
    """Rows by area, with the methods of one line and the same cells in one row.

    Areas of one row are gathered under ``/``: a heading for each of them would be longer than what it heads.
    """
    areas: dict[str, list[tuple[str, Row, list[Cell]]]] = {}
    for row, cells in rows:
        found = areas.setdefault(row.area, [])
        last = found[-1] if found else None
        if last and last[1].line is row.line and last[2] == cells and marked(last[1]) == marked(row):
            found[-1] = (f"{found[-1][0]} {row.method}", row, cells)
        else:
            found.append((row.method, row, cells))
    alone = [each for area, found in areas.items() if len(found) == 1 or area == "/" for each in found]
    return [("/", *each) for each in alone] + [
        (area, *each) for area, found in areas.items() if len(found) > 1 and area != "/" for each in found
    ]
