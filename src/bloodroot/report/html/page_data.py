"""A matrix as the data of a page: everything that is said more than once is said once, and numbered."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any

from ...core.caller import Caller, imagined
from ...core.decision import Outcome
from ...core.evaluate import line_in_words
from ...core.matrix import Matrix, Row
from ...core.methods import ANY, COMMON
from ...core.paths import read_path
from ...core.policy import Policy
from ...core.question import Question
from ...core.requirements import in_words

if TYPE_CHECKING:
    from ...core.lines import ActionLine, Line
    from ...language.problems import Place

LETTERS = {Outcome.ALLOW: "a", Outcome.DEPENDS: "d", Outcome.SIGN_IN: "s", Outcome.DENY: "x"}
_HAS = "; the caller has "
_AROUND = 3  # lines of a file that are shown before and after a place


Said = tuple[str, str, int, int, int | None]


class Numbered:
    """Things by number: the same thing gets the same number."""

    def __init__(self) -> None:
        self._numbers: dict[Any, int] = {}

    def of(self, thing: Any) -> int:
        """The number of a thing."""
        return self._numbers.setdefault(thing, len(self._numbers))

    def all(self) -> list[Any]:
        """Everything, in the order of the numbers."""
        return list(self._numbers)


class PageData:
    """The rows of a page, and what they have in common.

    Args:
        policy: the policy that explains.
        columns: the names of the columns.
        callers: who they are.
    """

    def __init__(self, policy: Policy, columns: Iterable[str], callers: Iterable[Caller | None]) -> None:
        self.policy = policy
        self.columns = list(columns)
        self._callers = list(callers)
        self.words = Numbered()
        self._places = Numbered()
        self._steps = Numbered()
        self._whys = Numbered()
        self._explained: dict[object, list[Said]] = {}
        self._files: dict[str, dict[int, str]] = {}

    def place(self, place: Place | None) -> int:
        """The number of a place; -1 for none. The text around it goes with it."""
        if place is None:
            return -1
        lines, name = place.source.lines, place.source.name
        text = self._files.setdefault(name, {})
        for number in range(max(1, place.line - _AROUND), min(len(lines), place.line + _AROUND) + 1):
            text[number] = lines[number - 1]
        return self._places.of((name, place.line))

    def row(self, row: Row, matrix: Matrix) -> dict[str, Any]:
        """One endpoint: outcomes by letter, and the numbers of what they rest on."""
        standing, remainders, whys = {}, {}, []
        cells = list(matrix.cells(row))
        explain = self._explainer(row)
        for number, cell in enumerate(cells):
            if cell.remainder is not None:
                remainders[number] = [self.words.of(cell.remainder.words()), self.words.of(in_words(cell.remainder))]
            if cell.standing:
                standing[number] = [self.words.of(formula.words()) for formula in cell.standing]
            whys.append(explain(number))
        endpoint = self.endpoint(row.method, row.path, row.area, row.line)
        endpoint |= {"o": "".join(LETTERS[cell.outcome] for cell in cells), "r": remainders, "s": standing, "w": whys}
        if not row.line.exact:
            endpoint["about"] = 1
        return endpoint

    def endpoint(self, method: str, path: str, area: str, line: Line | ActionLine) -> dict[str, Any]:
        """What is said of an endpoint, whatever its cells are."""
        values: dict[str, Any] = {"m": method, "p": path, "a": area, "l": self.place(line.place)}
        guards = [self.place(guard.place) for guard in getattr(line, "guards", ())]
        if guards:
            values["g"] = guards
        if line.description:
            values["t"] = line.description
        return values

    def _explainer(self, row: Row) -> Callable[[int], int]:
        """What explains the decision on the caller of each column at an endpoint."""
        line, lookup = row.line, self.policy.lookup
        path = row.line.template.fill(dict.fromkeys(row.line.template.names, "x"))
        segments = read_path(path) or []
        method = row.methods[0]
        if method == ANY:
            # One that no other line has, where there is such a method.
            free = (method for method in COMMON if lookup.find(method, segments) is line)
            method = next(free, "GET")
        # Where the same is asked, the same is said: it is worked out once, and differs in the line that asks it.
        rules = tuple(lookup.rules_at(method, segments)) if self.policy.standing else ()
        own_path = path if any(rule.template.names for rule in rules) else ""
        key = line.requirement, line.guards, rules, line.template.names, own_path
        place = self.place(line.place)

        def explain(number: int) -> int:
            question = Question(self._callers[number], method, path)
            question.line, question.routed = line, True
            steps = self._explained.get((key, number))
            if steps is None:
                steps = self._explained[key, number] = self._said(question)
            how = self.words.of(line_in_words(line, question))
            numbers = (
                self._steps.of((name, verdict, how if name == "line" else text, held, place if at is None else at))
                for name, verdict, text, held, at in steps
            )
            return self._whys.of(tuple(numbers))

        return explain

    def _said(self, question: Question) -> list[Said]:
        """The steps of a decision: name, verdict, text, what the caller has, and the place; None for its line."""
        line = question.line
        said: list[Said] = []
        for step in self.policy.evaluator.steps(question):
            # What is asked is the same for most callers, and what they have for most endpoints.
            text, has, roles = step.text.partition(_HAS)
            at = None if line is not None and step.place is line.place else self.place(step.place)
            said.append((step.name, step.verdict, self.words.of(text), self.words.of(roles) if has else -1, at))
        return said

    def data(self) -> dict[str, Any]:
        """What the rows refer to by number."""
        return {
            "columns": self.columns,
            "words": self.words.all(),
            "places": self._places.all(),
            "files": self._files,
            "steps": self._steps.all(),
            "whys": self._whys.all(),
        }


def callers_of_roles(names: Iterable[str]) -> list[Caller | None]:
    """A caller for each column of a matrix of roles."""
    return [None if name == "signed-out" else imagined(*([] if name == "signed-in" else [name])) for name in names]


def ordered(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Rows by area, in the order in which the areas come; areas of one row are gathered under ``/``."""
    areas: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        areas.setdefault(row["a"], []).append(row)
    alone = [row for area, inside in areas.items() if len(inside) == 1 or area == "/" for row in inside]
    for row in alone:
        row["a"] = "/"
    return alone + [row for area, inside in areas.items() if len(inside) > 1 and area != "/" for row in inside]


def descriptions(policies: Iterable[Policy], names: Iterable[str], also: Mapping[str, str]) -> list[str]:
    """What each column is, in a few words."""
    known: dict[str, str] = dict(also)
    for policy in policies:
        for name, text in policy.roles.descriptions.items():
            known.setdefault(name, text)
    return [known.get(name, "") for name in names]
