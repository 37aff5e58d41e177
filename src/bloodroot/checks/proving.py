"""Whether one formula implies another, decided by an SMT solver: what trying values leaves open.

A reference becomes a value of one of the kinds that comparisons tell apart, or a missing one. Every formula becomes
two propositions: that it is true, and that it is false; it is faulty where it is neither. What the solver knows of
values allows all that there can be and perhaps more, so that what it refutes cannot be. What it finds counts only where
the evaluator finds the same with the values in place.
"""

from __future__ import annotations

import datetime
import uuid
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fractions import Fraction
from typing import Any

import z3

from ..core.conditions import Comparison, Holds, Listed, Now, Operand, Reference, is_textual
from ..core.formulas import FALSE, FAULTY, TRUE, Constant, Formula, Interpretation, walk
from ..core.reasoning import (
    Assignment,
    Proof,
    Variable,
    facts_of,
    may_be_faulty,
    nested,
    parts_left_open,
    replaced,
    variables,
)
from ..core.records import MISSING
from ..core.values import Value, plain_number, plain_uuid
from ..language.errors import BloodrootError
from ..language.operators import OPERATORS

_LARGEST = 400  # values compared in one question
# What one question may take: steps of the solver, which are the same on every machine, and milliseconds beside them for
# a machine on which these are very slow. A step is about 0.2 microseconds.
_MOST_STEPS = 4_000_000
_STEPS_A_VALUE = 20_000  # what it takes beside to put a question, for each value that is compared
_LONGEST = 20_000
_START = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
_AWARE, _NAIVE, _DATE, _UUID, _BYTES, _REST = range(6)


def _kinds() -> Any:
    kind = z3.Datatype("Value")
    kind.declare("missing")
    kind.declare("none")
    kind.declare("odd")  # compares with nothing, not even with itself: NaN, a set
    kind.declare("truth", ("holds", z3.BoolSort()))
    kind.declare("number", ("amount", z3.RealSort()))
    kind.declare("string", ("text", z3.StringSort()))
    kind.declare("other", ("sort", z3.IntSort()), ("position", z3.RealSort()))
    kind.declare("several", ("which", z3.IntSort()))  # a list
    return kind.create()


_V = _kinds()
_TEXT, _REAL, _INT, _BOOL = z3.StringSort(), z3.RealSort(), z3.IntSort(), z3.BoolSort()
_plain = z3.Function("plain", _TEXT, _BOOL)  # the plain decimal form of a number
_amount = z3.Function("amount_of", _TEXT, _REAL)
_loose = z3.Function("loose", _TEXT, _BOOL)  # may mean a number, in some way
_is_uuid = z3.Function("is_uuid", _TEXT, _BOOL)
_uuid_of = z3.Function("uuid_of", _TEXT, _REAL)
_astray = z3.Function("astray", _TEXT, _REAL, _BOOL)
_same_lists = z3.Function("same_lists", _INT, _INT, _INT)
_order_of_rest = z3.Function("order_of_rest", _REAL, _REAL, _TEXT, _INT)
_member = z3.Function("member", _V, _BOOL, _INT, _INT)


@dataclass(frozen=True, slots=True)
class _Both:
    """What is true of a formula, and what is false."""

    true: Any
    false: Any


@dataclass(slots=True)
class _Term:
    """An operand: its value, whether its text may mean a number, and whether it is written in the policy."""

    value: Any
    textual: bool = False
    literal_none: bool = False


@dataclass
class _Translation(Interpretation[_Both]):
    """Formulas as propositions over variables, and what is known of these."""

    variables: dict[Variable, Any] = field(default_factory=dict)
    texts: dict[str, Any] = field(default_factory=dict)
    open: dict[Formula, _Both] = field(default_factory=dict)

    def __post_init__(self) -> None:
        super().__init__()

    def constant(self, constant: Constant) -> _Both:
        return _Both(z3.BoolVal(constant is TRUE), z3.BoolVal(constant is FALSE))

    def all_of(self, parts: Sequence[_Both]) -> _Both:
        return _Both(z3.And([part.true for part in parts]), z3.Or([part.false for part in parts]))

    def any_of(self, parts: Sequence[_Both]) -> _Both:
        return _Both(z3.Or([part.true for part in parts]), z3.And([part.false for part in parts]))

    def opposite(self, part: _Both) -> _Both:
        return _Both(part.false, part.true)

    def node(self, formula: Formula) -> _Both:
        return self.open.get(formula) or super().node(formula)

    def leaf(self, formula: Formula) -> _Both:
        if isinstance(formula, Holds):
            value = self.term(formula.reference).value
            truth = _V.is_truth(value)
            return _Both(z3.And(truth, _V.holds(value)), z3.And(truth, z3.Not(_V.holds(value))))
        assert isinstance(formula, Comparison)
        return self._comparison(formula)

    # Comparisons ----------------------------------------------------------------------------

    def _comparison(self, part: Comparison) -> _Both:
        if part.operator == "in":
            return self._among(part.left, part.right)
        if isinstance(part.left, Listed) or isinstance(part.right, Listed):
            raise _NotTranslated
        left, right = self.term(part.left), self.term(part.right)
        present = z3.And(z3.Not(_V.is_missing(left.value)), z3.Not(_V.is_missing(right.value)))
        compared = OPERATORS[part.operator]
        if not (compared.is_equality or compared.is_order):
            raise _NotTranslated
        both = _same(left, right) if compared.is_equality else _ordered(left, right, part.operator)
        if compared.is_negated:
            both = _Both(both.false, both.true)
        return _Both(z3.And(present, both.true), z3.And(present, both.false))

    def _among(self, member: Operand, collection: Operand) -> _Both:
        if isinstance(member, Listed):
            raise _NotTranslated
        left = self.term(member)
        items = _items(collection)
        if items is None:
            right = self.term(collection)
            said = _member(left.value, z3.BoolVal(left.textual), _V.which(right.value))
            fit = z3.And(z3.Not(_V.is_missing(left.value)), _V.is_several(right.value))
            return _Both(z3.And(fit, said == 1), z3.And(fit, said == 0))
        terms = [self.term(item) for item in items]
        present = [z3.Not(_V.is_missing(term.value)) for term in (left, *terms)]
        pairs = [_same(left, term) for term in terms]
        return _Both(
            z3.And(*present, z3.Or([both.true for both in pairs])), z3.And(*present, *(one.false for one in pairs))
        )

    # Operands -------------------------------------------------------------------------------

    def term(self, operand: Operand) -> _Term:
        """An operand that is no list."""
        if isinstance(operand, Reference) and operand.optional:
            value = self.term(operand.plain).value
            return _Term(z3.If(_V.is_missing(value), _V.none, value), is_textual(operand))
        if isinstance(operand, Reference | Now):
            value = self.variables.get(operand)
            if value is None:
                value = self.variables[operand] = z3.Const(operand.words(), _V)
            return _Term(value, isinstance(operand, Reference) and is_textual(operand))
        if not isinstance(operand, Value):
            raise _NotTranslated
        constant = operand.value
        if constant is None:
            return _Term(_V.none, literal_none=operand.literal)
        if isinstance(constant, bool):
            return _Term(_V.truth(z3.BoolVal(constant)))
        if isinstance(constant, int | float | Decimal):
            return _Term(_V.number(z3.RealVal(str(Fraction(str(constant))))))
        if isinstance(constant, str):
            self.texts[constant] = z3.StringVal(constant)
            return _Term(_V.string(self.texts[constant]), operand.textual)
        raise _NotTranslated

    def axioms(self) -> Iterator[Any]:
        """What is known of the variables and texts that have turned up."""
        for variable, value in self.variables.items():
            if isinstance(variable, Now):
                yield z3.And(_V.is_other(value), _V.sort(value) == _AWARE)
                continue
            if variable.root == "path":
                yield _V.is_string(value)
            elif variable.root == "query" and len(variable.names) == 1:
                yield z3.Or(_V.is_string(value), _V.is_none(value), _V.is_several(value))
            elif variable.root == "caller" and variable.names == ("id",):
                yield z3.Not(_V.is_none(value))
            yield z3.Implies(_V.is_other(value), z3.And(_V.sort(value) >= _AWARE, _V.sort(value) <= _REST))
        terms = [*self.texts.values(), *(_V.text(value) for value in self.variables.values())]
        for number, one in enumerate(terms):
            yield z3.Implies(_plain(one), _loose(one))
            yield z3.Not(z3.And(_loose(one), _is_uuid(one)))
            for other in terms[:number]:
                yield z3.Implies(z3.And(_plain(one), _plain(other), _amount(one) == _amount(other)), one == other)
        for text, term in self.texts.items():
            yield from _of_constant(text, term)


def _of_constant(text: str, term: Any) -> Iterator[Any]:
    """What a string that is written in the policy may mean."""
    number = plain_number(text)
    yield _plain(term) == (number is not None)
    if number is not None:
        yield _amount(term) == z3.RealVal(str(Fraction(str(number))))
    else:
        try:
            yield _amount(term) == z3.RealVal(str(Fraction(text)))
        except (ValueError, ZeroDivisionError):
            yield z3.Not(_loose(term))
    unique = plain_uuid(text)
    yield _is_uuid(term) == (unique is not None)
    if unique is not None:
        yield _uuid_of(term) == z3.RealVal(unique.int)


class _NotTranslated(BloodrootError):
    """A question has a part that is not translated."""


def _items(operand: Operand) -> tuple[Operand, ...] | None:
    if isinstance(operand, Listed):
        if any(isinstance(item, Listed) for item in operand.items):
            raise _NotTranslated
        return operand.items
    if isinstance(operand, Value) and isinstance(operand.value, tuple):
        return tuple(item if isinstance(item, Value) else Value(item) for item in operand.value)
    return None


@dataclass(frozen=True, slots=True)
class _Case:
    """One way in which two values can be compared.

    Attributes:
        fits: that they are of these kinds.
        one: what is compared of the one.
        other: what is compared of the other.
        doubt: that they may be meant to be the same although they differ, so that they cannot be compared.
        ordered: whether one can be less than the other.
    """

    fits: Any
    one: Any
    other: Any
    doubt: Any = None
    ordered: bool = True

    @property
    def certain(self) -> Any:
        """That they can be compared."""
        return self.fits if self.doubt is None else z3.And(self.fits, z3.Or(self.one == self.other, z3.Not(self.doubt)))


def _same(left: _Term, right: _Term) -> _Both:
    """Whether two values that are there are the same, different, or cannot be compared."""
    if left.literal_none or right.literal_none:
        is_none = _V.is_none(right.value if left.literal_none else left.value)
        return _Both(is_none, z3.Not(is_none))
    cases = list(_cases(left, right))
    lists = z3.And(_V.is_several(left.value), _V.is_several(right.value))
    said = _same_lists(_V.which(left.value), _V.which(right.value))
    return _Both(
        z3.Or(*(z3.And(case.certain, case.one == case.other) for case in cases), z3.And(lists, said == 1)),
        z3.Or(*(z3.And(case.certain, case.one != case.other) for case in cases), z3.And(lists, said == 0)),
    )


def _ordered(left: _Term, right: _Term, operator: str) -> _Both:
    """Whether two values are in an order, are not, or cannot be compared."""
    if left.literal_none or right.literal_none:
        return _Both(z3.BoolVal(False), z3.BoolVal(False))
    true, false = [], []
    for case in _cases(left, right):
        if case.ordered:
            holds = OPERATORS[operator].test(case.one, case.other)
            true.append(z3.And(case.certain, holds))
            false.append(z3.And(case.certain, z3.Not(holds)))
    # Values of the application's own types may have an order, or none.
    rest = z3.And(*(z3.And(_V.is_other(term.value), _V.sort(term.value) == _REST) for term in (left, right)))
    said = _order_of_rest(_V.position(left.value), _V.position(right.value), z3.StringVal(operator))
    return _Both(z3.Or(*true, z3.And(rest, said == 1)), z3.Or(*false, z3.And(rest, said == 0)))


def _cases(left: _Term, right: _Term) -> Iterator[_Case]:
    """The kinds of values that compare."""
    one, other = left.value, right.value
    yield _Case(z3.And(_V.is_truth(one), _V.is_truth(other)), _V.holds(one), _V.holds(other), ordered=False)
    yield _Case(z3.And(_V.is_number(one), _V.is_number(other)), _V.amount(one), _V.amount(other))
    a, b = _V.text(one), _V.text(other)
    doubt = None
    if left.textual and right.textual:
        doubt = z3.Or(
            z3.And(_loose(a), _loose(b), _amount(a) == _amount(b)),
            z3.And(_is_uuid(a), _is_uuid(b), _uuid_of(a) == _uuid_of(b)),
        )
    yield _Case(z3.And(_V.is_string(one), _V.is_string(other)), a, b, doubt)
    kinds = z3.And(_V.is_other(one), _V.is_other(other), _V.sort(one) == _V.sort(other))
    yield _Case(z3.And(kinds, _V.sort(one) != _REST), _V.position(one), _V.position(other))
    yield _Case(z3.And(kinds, _V.sort(one) == _REST), _V.position(one), _V.position(other), ordered=False)
    if left.textual:
        yield from _of_text(one, other)
    if right.textual:
        yield from (_Case(case.fits, case.other, case.one, case.doubt) for case in _of_text(other, one))


def _of_text(text: Any, value: Any) -> Iterator[_Case]:
    """Text that may mean a number or a UUID, beside one."""
    words = _V.text(text)
    number = z3.And(_V.is_string(text), _V.is_number(value), _plain(words))
    yield _Case(number, _amount(words), _V.amount(value), _astray(words, _V.amount(value)))
    unique = z3.And(_V.is_string(text), _V.is_other(value), _V.sort(value) == _UUID, _is_uuid(words))
    yield _Case(unique, _uuid_of(words), _V.position(value))


# The question ------------------------------------------------------------------------------------------------------


def _size(formula: Formula) -> int:
    """How many values are compared in a formula, what is shared counted once."""
    size = 0
    for part in walk(formula):
        if isinstance(part, Comparison):
            size += sum(max(1, len(_items(each) or ())) for each in (part.left, part.right))
    return size


def cost(one: Formula, other: Formula) -> int:
    """What it takes to put a question to the solver, as steps of it."""
    try:
        return _STEPS_A_VALUE * (_size(one) + _size(other))
    except _NotTranslated:
        return 0


def steps() -> int:
    """How many steps the solver has taken in this process."""
    return int(z3.Solver().statistics().get_key_value("rlimit count"))


def _in_model(model: Any, part: _Both) -> Formula:
    true, false = (z3.is_true(model.eval(each, model_completion=True)) for each in (part.true, part.false))
    return TRUE if true else FALSE if false else FAULTY


def prove(one: Formula, other: Formula) -> Proof:
    """Whether one formula is true only where another one is true as well.

    Args:
        one: a formula, with what is known of the caller folded in.
        other: another one.
    """
    opened = parts_left_open(one, other)
    translation = _Translation()
    try:
        if _size(one) + _size(other) > _LARGEST:
            raise _NotTranslated
        # A guard that passes or not, another path: each may be so or not, and a role in a record neither.
        for part in opened:
            so, not_so = (z3.Const(f"{word} {part.words()} {id(part)}", _BOOL) for word in ("open", "not"))
            opposite = z3.And(z3.Not(so), not_so) if may_be_faulty(part) else z3.Not(so)
            translation.open[part] = _Both(so, opposite)
        claim = z3.And(translation.of(one).true, z3.Not(translation.of(other).true))
        if nested(translation.variables):
            raise _NotTranslated
    except _NotTranslated:
        return Proof(None)
    solver = z3.Solver()
    solver.set("rlimit", _MOST_STEPS)
    solver.set("timeout", _LONGEST)
    solver.add(claim, *translation.axioms())
    answer = solver.check()
    if answer == z3.unsat:
        return Proof(True)
    if answer != z3.sat:
        return Proof(None)
    model = solver.model()
    given: dict[Formula, Formula] = {part: _in_model(model, translation.open[part]) for part in opened}
    one, other = replaced(one, given), replaced(other, given)
    assignment = _assignment(translation, model)
    facts = facts_of(assignment)
    shown = one.fold(facts) is TRUE and other.fold(facts) is not TRUE
    left = {variable for formula in (one, other) for part in walk(formula) for variable in variables(part)}
    if not shown or not left <= assignment.keys():
        return Proof(None)
    return Proof(False, {reference.words(): value for reference, value in assignment.items()})


def _assignment(translation: _Translation, model: Any) -> Assignment:
    """Values of Python for what the solver has found."""
    texts: dict[str, str] = {}
    given: Assignment = {}
    for variable, term in translation.variables.items():
        value = model.eval(term, model_completion=True)
        given[variable] = _value(value, model, texts, translation.texts)
    return given


def _value(value: Any, model: Any, texts: dict[str, str], constants: dict[str, Any]) -> Any:
    name = value.decl().name()
    if name == "missing":
        return MISSING
    if name == "none":
        return None
    if name == "odd":
        return float("nan")
    if name == "truth":
        return z3.is_true(value.arg(0))
    if name == "number":
        return _number(value.arg(0))
    if name == "string":
        return _text(value.arg(0), model, texts, constants)
    if name == "several":
        return []
    sort, position = value.arg(0).as_long(), _number(value.arg(1))
    return _of_sort(sort, position)


def _number(term: Any) -> int | float:
    fraction = term.as_fraction()
    return int(fraction) if fraction.denominator == 1 else float(fraction)


def _text(term: Any, model: Any, texts: dict[str, str], constants: dict[str, Any]) -> str:
    """A string that means what the solver takes it for."""
    text = term.as_string()
    if text in constants:
        return str(text)
    if text not in texts:
        number = _number(model.eval(_amount(term), model_completion=True))
        if z3.is_true(model.eval(_plain(term), model_completion=True)):
            texts[text] = str(number)
        elif z3.is_true(model.eval(_loose(term), model_completion=True)):
            texts[text] = f"0{number}"
        elif z3.is_true(model.eval(_is_uuid(term), model_completion=True)):
            unique = int(_number(model.eval(_uuid_of(term), model_completion=True)))
            texts[text] = str(uuid.UUID(int=unique % 2**128))
        else:
            texts[text] = text if text.isalpha() else f"x{len(texts)}"
    return texts[text]


def _of_sort(sort: int, position: float) -> Any:
    moment = _START + datetime.timedelta(days=position)
    values: dict[int, Callable[[], Any]] = {
        _AWARE: lambda: moment,
        _NAIVE: lambda: moment.replace(tzinfo=None),
        _DATE: lambda: moment.date(),
        _UUID: lambda: uuid.UUID(int=int(position) % 2**128),
        _BYTES: lambda: str(position).encode(),
    }
    return values.get(sort, lambda: Fraction(1))()
