"""Whether a condition can hold, and whether one implies another.

Values are tried for the references of a formula, and the formula is folded over them by the evaluator itself, so that
what is found true is true. References are given values one after the other, and a branch is left as soon as what
remains cannot lead to the result any more. Where values are only compared for being equal, with each other and with
constants, finitely many of them make all the difference there is, and nothing found means that there is nothing.
Elsewhere, and where there would be too many to try, the question stays open, unless `proving` can answer it.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations, pairwise, product
from typing import Any

from ..language.operators import OPERATORS
from .caller import Caller, CallerView
from .conditions import Clock, Comparison, Holds, Listed, Now, Operand, Reference, Shifted, is_textual
from .formulas import (
    CAN_BE_FAULTY,
    FALSE,
    FAULTY,
    TRUE,
    Constant,
    Facts,
    Formula,
    Negated,
    mapped,
    walk,
)
from .locating import Together
from .records import MISSING, UNKNOWN
from .requirements import HELD, GrantedPerhaps, Guarded, OtherPath, PermissionAsked
from .values import Value, plain_number, plain_uuid

MOST_TRIED = 1_500
_MOST_REFERENCES = 8
_MOST_OPEN = 4
_START = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
# A value that can be compared with none that a policy without moments names.
_OF_NO_KIND = datetime.date(2026, 1, 1)


@dataclass(frozen=True, slots=True)
class Proof:
    """An answer.

    Attributes:
        holds: True where it is certain, False where an assignment shows the contrary, None where it is not known.
        assignment: values for the references, by their words, that show the contrary.
    """

    holds: bool | None
    assignment: dict[str, Any] | None = None


@dataclass(slots=True)
class Reasoner:
    """Answers questions about formulas, and remembers the answers.

    Attributes:
        solver: what answers the questions that trying values leaves open, or None.
        undecided: how many questions were left open.
    """

    solver: Callable[[Formula, Formula], Proof] | None = None
    undecided: int = 0
    _known: dict[tuple[Formula, Formula], Proof] = field(default_factory=dict)

    def implies(self, one: Formula, other: Formula) -> Proof:
        """Whether one formula is true only where another one is true as well."""
        if other is TRUE or one is FALSE or one == other:
            return Proof(True)
        proof = self._known.get((one, other))
        if proof is None:
            proof = self._known[one, other] = self._implies(one, other)
        return proof

    def never(self, formula: Formula) -> Proof:
        """Whether a formula is never true; the assignment makes it true."""
        return self.implies(formula, FALSE)

    def never_false(self, formula: Formula) -> Proof:
        """Whether a formula is never false, though it may be faulty; the assignment makes it false."""
        return self.implies(Negated(formula), FALSE)

    def _implies(self, one: Formula, other: Formula) -> Proof:
        proof = tried(one, other)
        if proof.holds is None and self.solver is not None:
            proof = self.solver(one, other)
        if proof.holds is None:
            self.undecided += 1
        return proof


def tried(one: Formula, other: Formula) -> Proof:
    """Look for values that make one formula true and another one not true."""
    open_parts = parts_left_open(one, other)
    if len(open_parts) > _MOST_OPEN:
        return Proof(None)
    certain = True
    for values in product(*map(_what_may_be, open_parts)):
        given = dict(zip(open_parts, values, strict=True))
        proof = _tried(replaced(one, given), replaced(other, given))
        if proof.holds is False:
            return proof
        certain = certain and proof.holds is True
    return Proof(True if certain else None)


def _tried(one: Formula, other: Formula) -> Proof:
    parts = [*walk(one), *walk(other)]
    references = list(dict.fromkeys(variable for part in parts for variable in variables(part)))
    if len(references) > _MOST_REFERENCES or nested(references):
        return Proof(None)
    candidates = _Candidates(parts, references)
    budget = [MOST_TRIED]
    nothing = facts_of({}, references)
    assignment = _search(one.fold(nothing), other.fold(nothing), references, candidates, {}, budget)
    if assignment is not None:
        return Proof(False, {reference.words(): value for reference, value in assignment.items()})
    return Proof(True if budget[0] > 0 and candidates.complete else None)


def parts_left_open(*formulas: Formula) -> list[Formula]:
    """What formulas depend on beside values: a guard, a grant, a role, or another path."""
    kinds = (Together, *HELD, PermissionAsked, GrantedPerhaps, OtherPath, Guarded)
    return list(dict.fromkeys(part for formula in formulas for part in walk(formula) if isinstance(part, kinds)))


def may_be_faulty(part: Formula) -> bool:
    """Whether it may be neither true nor false: a record does not say what it belongs to."""
    return bool(part.values() & CAN_BE_FAULTY)


def _what_may_be(part: Formula) -> tuple[Formula, ...]:
    return (TRUE, FALSE, FAULTY) if may_be_faulty(part) else (TRUE, FALSE)


def replaced(formula: Formula, given: Mapping[Formula, Formula]) -> Formula:
    """A formula with other parts in the place of some."""
    return mapped(formula, given.get) if given else formula


Variable = Reference | Now
Assignment = dict[Variable, Any]


def variables(part: Formula) -> Iterator[Variable]:
    """The references of a part, and ``now``."""
    operands: tuple[Operand, ...] = ()
    if isinstance(part, Comparison):
        operands = (part.left, part.right)
    elif isinstance(part, Holds):
        operands = (part.reference,)
    for operand in operands:
        yield from _variables_in(operand)


def _variables_in(operand: Operand) -> Iterator[Variable]:
    if isinstance(operand, Reference):
        yield operand.plain
    elif isinstance(operand, Now | Clock):
        yield Now()
    elif isinstance(operand, Shifted):
        yield from _variables_in(operand.moment)
    elif isinstance(operand, Listed):
        for item in operand.items:
            yield from _variables_in(item)


def nested(references: Iterable[Variable]) -> bool:
    """Whether one reference leads through another: they cannot be given values of their own."""
    paths = [(reference.root, *reference.names) for reference in references if isinstance(reference, Reference)]
    return any(path != other and other[: len(path)] == path for path in paths for other in paths)


def _search(
    one: Formula,
    other: Formula,
    waiting: list[Variable],
    candidates: _Candidates,
    given: Assignment,
    budget: list[int],
) -> Assignment | None:
    """Values for references that are waiting, so that what is left of one formula is true and of another is not."""
    if not one.values() & TRUE.bits or other is TRUE:
        return None
    if one is TRUE and isinstance(other, Constant):
        return given
    left = {variable for formula in (one, other) for part in walk(formula) for variable in variables(part)}
    waiting = [reference for reference in waiting if reference in left]
    chosen = waiting[0]
    for value in candidates.of(chosen):
        budget[0] -= 1
        if budget[0] <= 0:
            return None
        facts = facts_of({chosen: value}, waiting[1:])
        assignment = _search(
            one.fold(facts), other.fold(facts), waiting[1:], candidates, {**given, chosen: value}, budget
        )
        if assignment is not None:
            return assignment
    return None


# Facts from an assignment -----------------------------------------------------------------------------------------


class _Open(Mapping[str, Any]):
    """Names with values, some of which are not known yet; any other name is missing."""

    def __init__(self, values: dict[str, Any]) -> None:
        self._values = values

    def __getitem__(self, name: str) -> Any:
        return self._values[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)


def facts_of(given: Assignment, waiting: Sequence[Variable] = ()) -> Facts:
    """What is known under an assignment; what is still waiting for a value is unknown."""
    trees: dict[str, dict[str, Any]] = {}
    now = None
    for variable, value in (*given.items(), *((reference, UNKNOWN) for reference in waiting)):
        if isinstance(variable, Now):
            now = None if value is UNKNOWN else value
            continue
        inner = trees.setdefault(variable.root, {})
        for name in variable.names[:-1]:
            inner = inner.setdefault(name, {})
        if value is not MISSING:
            inner[variable.names[-1]] = value
    opened = {root: _opened(tree) for root, tree in trees.items()}
    caller = opened.get("caller", _Open({}))
    identity = caller.get("id", MISSING)
    view = CallerView(Caller(None if identity is MISSING else identity, attributes=caller))
    facts = Facts(0, 0, caller=view, now=now)
    for root in ("record", "records", "path", "query", "args"):
        setattr(facts, root, opened.get(root))
    return facts


def _opened(tree: dict[str, Any]) -> _Open:
    return _Open({name: _opened(nested) if isinstance(nested, dict) else nested for name, nested in tree.items()})


# Values that make a difference -------------------------------------------------------------------------------------


def _is_of_time(operand: Operand) -> bool:
    """Whether an operand is a moment that a policy names, or is worked out from one."""
    if isinstance(operand, Listed):
        return any(map(_is_of_time, operand.items))
    if isinstance(operand, Value):
        return isinstance(operand.value, datetime.date | datetime.time)
    return isinstance(operand, Clock | Shifted)


class _Candidates:
    """The values that are tried for each reference.

    Attributes:
        complete: whether no other value could lead to anything else.
    """

    def __init__(self, parts: list[Formula], references: list[Variable]) -> None:
        self._members: dict[Variable, dict[Operand, None]] = {}  # of lists: what may be in them
        self._scalar: set[Variable] = set()
        self._truths: set[Variable] = set()
        self._linked: dict[Variable, set[Variable]] = {reference: {reference} for reference in references}
        self._constants: dict[Variable, dict[Value, None]] = {reference: {} for reference in references}
        self._ordered: set[Variable] = set()
        self.complete = True
        for part in parts:
            if isinstance(part, Holds) and isinstance(part.reference, Reference):
                self._truths.add(part.reference.plain)
            elif isinstance(part, Comparison):
                self._note(part)
        if any(member in self._truths or member in self._scalar for member in self._members):
            # A list that is compared as a whole as well.
            self.complete = False
        self._values: dict[Variable, tuple[Any, ...]] = {}

    def of(self, variable: Variable) -> tuple[Any, ...]:
        """The values to try for a reference, likely ones first."""
        value = self._values.get(variable)
        if value is None:
            value = self._values[variable] = tuple(self._made(variable))
        return value

    def _note(self, part: Comparison) -> None:
        if any(_is_of_time(operand) for operand in (part.left, part.right)):
            # Between two moments there are others, and clocks go round.
            self.complete = False
        left, right = list(_variables_in(part.left)), list(_variables_in(part.right))
        constants = [*_constants_in(part.left), *_constants_in(part.right)]
        both_sides = [*left, *right]
        for side in both_sides:
            self._constants[side].update(dict.fromkeys(constants))
            for other in both_sides:
                if side is not other:
                    self._link(side, other)
        if part.operator == "in":
            if isinstance(part.left, Listed):
                self.complete = False
            if isinstance(part.right, Reference):
                members = self._members.setdefault(part.right.plain, {})
                members[part.left] = None
                if len(members) > 2:
                    # Lists of more than one of them, and of less than all, would make a difference.
                    self.complete = False
            self._scalar.update(left)
            if isinstance(part.right, Listed):
                self._scalar.update(right)
        elif not OPERATORS[part.operator].is_equality:
            self._ordered.update(both_sides)
            if not OPERATORS[part.operator].is_order:
                self.complete = False
            if any(isinstance(value.value, str) for value in constants):
                # Between two strings there may be no other one.
                self.complete = False
        if part.operator != "in":
            self._scalar.update(both_sides)
            if any(isinstance(operand, Listed) for operand in (part.left, part.right)):
                self.complete = False

    def _link(self, one: Variable, other: Variable) -> None:
        group = self._linked[one] | self._linked[other]
        for reference in group:
            self._linked[reference] = group

    def _made(self, variable: Variable) -> Iterator[Any]:
        group = self._linked[variable]
        constants = [value for reference in group for value in self._constants[reference]]
        values = _different(self._scalars(constants, group))
        if isinstance(variable, Now):
            yield from (value for value in values if isinstance(value, datetime.datetime))
            return
        if variable.root not in ("path", "query"):
            values.append(_OF_NO_KIND)
        if any(is_textual(reference) for reference in group if isinstance(reference, Reference)):
            # A number and its text are the same to a path, and different to each other.
            values = _different((*values, *(str(value) for value in values if type(value) in (int, float))))
            meant = [plain_number(value) or plain_uuid(value) for value in values if isinstance(value, str)]
            values = _different((*values, *(each for each in meant if each is not None)))
        if variable.root in ("path", "query"):
            values = _different(str(value) for value in values if not isinstance(value, bool))
        if variable in self._members:
            if any(value.value is None for value in constants):
                yield [None]
            yield from ([value] for value in values)
            yield []
            yield values
            # What is compared with one of these can be compared with the other only where it is the same.
            yield from ([*pair] for pair in combinations(values, 2) if type(pair[0]) is not type(pair[1]))
            yield MISSING
            return
        yield from values
        if variable.root != "path" and any(
            isinstance(reference, Reference) and reference.root == "query" for reference in group
        ):
            # A parameter that was sent more than once.
            yield []
        if variable.root != "path":
            yield None
            yield MISSING
        if variable.root not in ("path", "query") and len(group) > 1:
            # Two lists: one that is the same as itself, and one of which that is not known.
            yield from ([], [None])

    def _scalars(self, constants: list[Value], group: set[Variable]) -> Iterator[Any]:
        """The constants of a group, and values between and beside them: as many as there are references in it."""
        ordered = any(reference in self._ordered for reference in group)
        truths = bool(group & self._truths) or any(isinstance(constant.value, bool) for constant in constants)
        if truths:
            yield True
            yield False
        plain = [
            constant.value
            for constant in constants
            if constant.value is not None and not isinstance(constant.value, bool)
        ]
        yield from plain
        fresh = range(1, len(group) + 1)
        numbers = sorted({value for value in plain if isinstance(value, int | float)})
        if numbers and ordered:
            for low, high in pairwise(numbers):
                yield from (low + (high - low) * number / (len(group) + 1) for number in fresh)
            yield from (numbers[0] - number for number in fresh)
        top = int(max(numbers, default=0))
        yield from (top + number for number in fresh)
        taken = {value for value in plain if isinstance(value, str)}
        yield from [text for number in range(1, len(taken) + len(group) + 1) if (text := f"x{number}") not in taken][
            : len(group)
        ]
        if ordered and not truths:
            # Of true and false neither is less than the other.
            yield True
            yield False
        if any(isinstance(reference, Now) for reference in group):
            yield from (_START + datetime.timedelta(days=number) for number in range(len(group) + 1))


def _different(values: Iterable[Any]) -> list[Any]:
    """Values, each once; true and 1 are two values."""
    return list({(type(value), value): value for value in values}.values())


def _constants_in(operand: Operand) -> Iterator[Value]:
    if isinstance(operand, Value):
        if isinstance(operand.value, list | tuple):
            yield from (item if isinstance(item, Value) else Value(item) for item in operand.value)
        else:
            yield operand
    elif isinstance(operand, Listed):
        for item in operand.items:
            yield from _constants_in(item)
