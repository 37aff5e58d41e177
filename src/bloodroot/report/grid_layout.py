"""How a matrix is laid out: in the width of a terminal, or as tables by area."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from ..core.decision import Outcome
from ..core.requirements import conditions_in
from .colours import STYLES
from .joining import Joined, folded_rows, joined_rows
from .sheet import OF_OUTCOME, Cell, Grid, Meaning, Section, endpoint, line, plural, strong

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ..core.lines import Line
    from ..core.matrix import Cell as MatrixCell
    from ..core.matrix import Row

_SIGNS = {Outcome.ALLOW: "●", Outcome.DEPENDS: "◐", Outcome.SIGN_IN: "▷", Outcome.DENY: "·"}
_PLAIN_SIGNS = {Outcome.ALLOW: "+", Outcome.DEPENDS: "?", Outcome.SIGN_IN: ">", Outcome.DENY: "."}
_MEANINGS = {
    Outcome.ALLOW: "allow",
    Outcome.DEPENDS: "depends on the condition named",
    Outcome.SIGN_IN: "sign in first",
    Outcome.DENY: "deny",
}
_MARKS = "†‡§¶"
_PLAIN_MARKS = "abcd"
_TOTAL = "let in"
_LONG = 30  # rows, from which on the columns are named again at each area
_FEWEST = 3  # columns that are worth a table of their own


def grid_lines(grid: Grid, console: Console) -> Iterator[Text]:
    """A matrix in as many tables as the width at hand needs, each with its legend.

    Columns that do not fit beside each other, even as letters, follow in tables of their own.
    """
    columns = len(grid.matrix.columns)
    whole = _Layout(grid, console, range(columns))
    groups = whole.groups()
    for place, numbers in enumerate(groups):
        layout = whole if len(groups) == 1 else _Layout(grid, console, numbers)
        if place:
            yield Text()
        if len(groups) > 1:
            yield Text(f"columns {numbers[0] + 1} to {numbers[-1] + 1} of {columns}", style="bold")
            yield Text()
        yield from layout.lines()
        yield Text()
        yield from layout.legend()


def grid_sections(grid: Grid) -> Iterator[Section]:
    """A matrix as a table for each area of the path, for formats that lay out tables themselves."""
    columns = grid.matrix.columns
    rows = [(row, list(grid.matrix.cells(row))) for row in grid.matrix.rows]
    areas: dict[str, list[Joined]] = {}
    for joined_row in joined_rows(rows, lambda row: [(row, number) in grid.lacking for number in range(len(columns))]):
        areas.setdefault(joined_row.area, []).append(joined_row)
    for area, in_area in areas.items():
        heads = ("endpoint", *(column.name for column in columns))
        yield Section((strong(area),), heads=heads, rows=tuple(_words(joined, grid) for joined in in_area))
    yield Section(lines=(line("· deny"),))


def _words(joined: Joined, grid: Grid) -> tuple[Cell | str, ...]:
    marked = [(joined.row, number) in grid.lacking for number in range(len(joined.cells))]
    return endpoint(", ".join(joined.names)), *map(_word, joined.cells, marked)


def _word(cell: MatrixCell, lacking: bool) -> Cell:
    words = "·" if cell.outcome is Outcome.DENY else cell.words()
    if lacking:
        return Cell(f"{words} !", Meaning.WARN)
    # What a standing rule asks is a condition too.
    return Cell(words, Meaning.OPEN if words.startswith("if ") else OF_OUTCOME[cell.outcome])


def _headed(columns: list[str]) -> tuple[list[str], list[str]]:
    """The names of columns, and what is above them: the thing that roles are held in, once for those side by side."""
    parts = [name.partition(" in ") for name in columns]
    things = [f"in {thing}" if thing else "" for _, _, thing in parts]
    above = [thing if thing != before else "" for thing, before in zip(things, ["", *things], strict=False)]
    return [name for name, _, _ in parts], above


class _Layout:
    """A matrix laid out for the width at hand.

    Names of columns and conditions are in the table where they fit. Where they do not, columns are letters, and what a
    row depends on follows at its end, or below it. Nothing is cut off.
    """

    def __init__(self, grid: Grid, console: Console, numbers: range) -> None:
        self.result = result = grid.matrix
        self.lacking = grid.lacking
        self.numbers = numbers
        self.width = console.width
        self.coloured = console.color_system is not None
        self.show_guards = grid.guards
        self.columns = [result.columns[number] for number in numbers]
        self.letters = [_letters(place) for place in range(len(numbers))]
        self.names, self.above = _headed([column.name for column in self.columns])
        self.plain = not console.encoding.lower().startswith("utf")
        self.signs = _PLAIN_SIGNS if self.plain else _SIGNS
        self.marks = self._marks()
        rows = [(row, [row.cell(number) for number in numbers]) for row in result.rows]
        joined = folded_rows if grid.folded else joined_rows
        self.rows = joined(rows, lambda row: [(row, number) in grid.lacking for number in numbers])
        self.left = max((self._named(joined) for joined in self.rows), default=0) + 4
        self._choose_widths()

    def _named(self, joined: Joined) -> int:
        return max(cell_len(name) for name in joined.names) + 2 * (not joined.row.line.exact)

    def _choose_widths(self) -> None:
        """How wide each column is, and whether columns are names or letters."""
        signs = [[self._sign(joined.row, number, cell) for number, cell in self._cells(joined)] for joined in self.rows]
        signs_wide = [list(map(cell_len, row)) for row in signs]
        letters = [max(column) for column in zip(map(len, self.letters), *signs_wide, strict=True)]
        words = [
            [
                cell_len(f"{sign} {cell.remainder.words()}" if cell.remainder is not None else sign)
                for sign, (_, cell) in zip(row, self._cells(joined), strict=True)
            ]
            for row, joined in zip(signs, self.rows, strict=True)
        ]
        names = [max(map(cell_len, heads)) for heads in zip(self.names, self.above, strict=True)]
        right = len(_TOTAL) + 2

        def fits(widths: list[int]) -> bool:
            return self.left + sum(widths) + 2 * len(widths) + right <= self.width

        wide = [max(column) for column in zip(names, *words, strict=True)]
        named = [max(column) for column in zip(names, *signs_wide, strict=True)]
        self.narrow = not fits(wide)
        self.lettered = self.narrow and not fits(named)
        self.widths = letters if self.lettered else named if self.narrow else wide
        room = self.width - sum(self.widths) - 2 * len(self.widths) - right
        # Endpoints that are longer than that have a line of their own.
        self.left = min(self.left, max(room, 8))

    def groups(self) -> list[range]:
        """The columns, in as many groups as the window needs: as even as they can be."""
        count = len(self.columns)
        if not self.lettered:
            return [self.numbers]
        each = max(self.widths, default=1) + 2
        # Endpoints may take half of the window; longer ones have lines of their own.
        room = self.width - min(self.left_wanted, self.width // 2) - len(_TOTAL) - 2
        at_once = max(_FEWEST, room // each)
        number = -(-count // at_once)
        size = -(-count // number)
        return [range(first, min(first + size, count)) for first in range(0, count, size)]

    @property
    def left_wanted(self) -> int:
        """What the longest endpoint takes."""
        return max((self._named(row) for row in self.rows), default=0) + 4

    def _cells(self, joined: Joined) -> list[tuple[int, MatrixCell]]:
        return list(zip(self.numbers, joined.cells, strict=True))

    def _marks(self) -> dict[str, str]:
        """A sign for each thing that standing rules ask of the caller alone."""
        marks = dict.fromkeys(rule.requirement.words() for row in self.result.rows for rule, _, _ in row.marks)
        signs = _PLAIN_MARKS if self.plain else _MARKS
        return {
            words: signs[number] if number < len(signs) else f"({number + 1})" for number, words in enumerate(marks)
        }

    # Lines --------------------------------------------------------------------------------

    def lines(self) -> Iterator[Text]:
        """The table, line by line."""
        repeated = len(self.rows) > _LONG
        head = self._head()
        above = self._line_of(self.above) if any(self.above) and not self.lettered else None
        if not repeated:
            yield from filter(None, (above, head))
        area = None
        for number, joined in enumerate(self.rows):
            if number and not joined.area:
                yield Text()
            if joined.area != area:
                if area is not None:
                    yield Text()
                title = Text(joined.area, style="bold")
                if repeated:
                    yield from filter(None, (above,))
                    # In a long table the top is soon out of sight.
                    if cell_len(joined.area) < self.left:
                        title.append_text(head[len(joined.area) :])
                    else:
                        yield title
                        title = head
                if title.plain.strip():
                    yield title
                area = joined.area
            yield from self._row(joined)
        yield Text()
        yield self._foot()

    def _head(self) -> Text:
        return self._line_of(self.letters if self.lettered else self.names).append(_TOTAL)

    def _line_of(self, heads: list[str]) -> Text:
        text = Text(" " * self.left, style="bold")
        for name, width in zip(heads, self.widths, strict=True):
            text.append(name + " " * (width - cell_len(name) + 2))
        return text

    def _row(self, joined: Joined) -> Iterator[Text]:
        first, *others = joined.names
        text = Text(f"  {first}{'' if joined.row.line.exact else ' ~'}")
        if cell_len(text.plain) + 2 > self.left:
            yield text
            text = Text()
        shown: list[tuple[str, str]] = [(" " * (self.left - cell_len(text.plain)), "")]
        for (number, cell), width in zip(self._cells(joined), self.widths, strict=True):
            sign = self._sign(joined.row, number, cell)
            if not self.narrow and cell.remainder is not None:
                sign = f"{sign} {cell.remainder.words()}"
            style = f"bold {STYLES[Meaning.WARN]}" if (joined.row, number) in self.lacking else _style(cell.outcome)
            shown += ((sign, style), (" " * (width - cell_len(sign) + 2), ""))
        shown.append((f"{self._let_in(joined.row):>{len(_TOTAL)}}", "dim"))
        # Without colours the styles of hundreds of thousands of cells are not worth keeping.
        text = text + Text.assemble(*shown) if self.coloured else Text(text.plain + "".join(part for part, _ in shown))
        yield from self._with_notes(text, joined)
        for name in others:
            yield Text(f"  {name}")

    def _with_notes(self, text: Text, joined: Joined) -> Iterator[Text]:
        """A row, and what it depends on: at its end where that fits, else below it."""
        notes = [self._remainders(joined.cells)] if self.narrow else []
        notes += [self._guards(joined.row)] if joined.row.line.guards else []
        notes = [note for note in notes if note]
        styles = [_style(Outcome.DEPENDS) if place == 0 and self.narrow else "dim" for place in range(len(notes))]
        below = []
        for note, style in zip(notes, styles, strict=True):
            if cell_len(text.plain) + 2 + cell_len(note) <= self.width:
                text.append("  ").append(note, style)
            else:
                below.append(Text(f"      {note}", style=style))
        yield text
        yield from below

    def _foot(self) -> Text:
        text = Text("let in, if only sometimes", style="dim")
        if cell_len(text.plain) + 2 > self.left:
            text = Text("let in"[: max(0, self.left - 2)], style="dim")
        text.append(" " * (self.left - cell_len(text.plain)))
        for place, width in enumerate(self.widths):
            count = str(self._total(place))
            text.append(count + " " * (width - len(count) + 2))
        return text

    def _sign(self, row: Row, number: int, cell: MatrixCell) -> str:
        return self.signs[cell.outcome] + self._mark(row, number)

    def _mark(self, row: Row, column: int) -> str:
        if not row.marks and not self.lacking:
            return ""
        rules = [rule.requirement.words() for rule, _, columns in row.marks if columns >> column & 1]
        marks = "".join(dict.fromkeys(self.marks[words] for words in rules))
        return marks + ("!" if (row, column) in self.lacking else "")

    def _let_in(self, row: Row) -> int:
        """How many kinds of caller a row lets in, of all columns, if only sometimes."""
        return (row.allow | sum(columns for _, columns in row.depends)).bit_count()

    def _remainders(self, cells: list[MatrixCell]) -> str:
        """What the cells of a row depend on, with the heads of their columns."""
        by_words: dict[str, list[str]] = {}
        heads = self.letters if self.lettered else self.names
        for head, cell in zip(heads, cells, strict=True):
            if cell.remainder is not None:
                by_words.setdefault(cell.remainder.words(), []).append(head)
        if len(by_words) == 1:
            return f"if {next(iter(by_words))}"
        return ", ".join(f"{' '.join(heads)} if {words}" for words, heads in by_words.items())

    def _guards(self, row: Row) -> str:
        """Where the guards are that a row contains, and what they require where that is wanted."""
        guards = dict.fromkeys((guard.place.at, guard.requirement.words()) for guard in row.line.guards)
        if self.show_guards:
            return ", ".join(f"guard in {at} requires {words}" for at, words in guards)
        return f"guard in {', '.join(dict.fromkeys(at for at, _ in guards))}"

    def _total(self, column: int) -> int:
        rows = {row for joined in self.rows for row in joined.rows}
        bit = 1 << self.numbers[column]
        return sum(1 for row in rows if (row.allow | sum(bits for _, bits in row.depends)) & bit)

    def legend(self) -> Iterator[Text]:
        """What the signs, the letters and the marks mean."""
        yield from self._wrapped(
            Text.assemble((self.signs[outcome], _style(outcome)), f" {meaning}")
            for outcome, meaning in _MEANINGS.items()
        )
        if any(not row.line.exact for row in self.result.rows):
            yield Text("~ about: the application's path cannot be written in a policy, and what it serves decides")
        if self.lettered:
            pairs = zip(self.letters, self.columns, strict=True)
            yield from self._wrapped(Text(f"{letters} {column.name}") for letters, column in pairs)
        rules: dict[str, dict[Line, None]] = {}
        for row in self.result.rows:
            for rule, _, _ in row.marks:
                rules.setdefault(rule.requirement.words(), {})[rule] = None
        for words, mark in self.marks.items():
            first, *others = sorted(rules[words], key=lambda rule: rule.order)
            tests = "; ".join(f"{c.name} is {c.test.words()}" for c in conditions_in(first.requirement.formula))
            at = first.place.at + (f" and {plural(len(others), 'line')} more" if others else "")
            yield Text(f"{mark} and always: {words} ({tests + ', ' if tests else ''}{at})")

    def _wrapped(self, pieces: Iterable[Text]) -> Iterator[Text]:
        """Pieces beside each other, in as many lines as are needed; none is divided."""
        line = Text()
        for piece in pieces:
            if line.plain and line.cell_len + 3 + piece.cell_len > self.width:
                yield line
                line = Text()
            line = line.append("   ").append_text(piece) if line.plain else piece
        yield line


def _style(outcome: Outcome) -> str:
    return STYLES[OF_OUTCOME[outcome]]


def _letters(number: int) -> str:
    """A, B, ... Z, AA, AB and so on."""
    letters = ""
    number += 1
    while number:
        number, digit = divmod(number - 1, 26)
        letters = chr(ord("A") + digit) + letters
    return letters
