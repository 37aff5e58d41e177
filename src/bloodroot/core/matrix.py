"""The access matrix: every column against every endpoint, all columns at once as bits of one integer."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from .conditions import Condition
from .decision import Outcome
from .endpoint_outcomes import asked_at, outcome_at
from .formulas import (
    FALSE,
    TRUE,
    Constant,
    Facts,
    Formula,
    Interpretation,
    both,
    can_be_true,
    either,
    opposite,
)
from .methods import ANY, treatments
from .reasons import opens_after_sign_in
from .records import UNKNOWN
from .requirements import Holding, HoldingAt, HoldingIn, HoldingSomewhere, Requirement, permissions_in, references_in
from .roles import SIGNED_OUT

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping

    from .caller import Caller
    from .lines import Line
    from .policy import Policy

# Formulas by the columns that have them: each column is in exactly one.
Spread = dict[Formula, int]


@dataclass(frozen=True, slots=True)
class Column:
    """One kind of caller: ``signed-out``, ``signed-in``, a role or a persona."""

    name: str
    description: str = ""


@dataclass(frozen=True, slots=True)
class Cell:
    """What one kind of caller gets at one endpoint.

    Attributes:
        outcome: the outcome, while what standing rules ask of the caller alone is met.
        remainder: what remains to be known where it depends.
        standing: what remains of standing rules that ask something of the caller alone.
    """

    outcome: Outcome
    remainder: Formula | None = None
    standing: tuple[Formula, ...] = ()

    def words(self) -> str:
        """``allow``, ``deny``, ``sign-in`` or ``if own-trial``, and what standing rules ask as well."""
        remains = [*([self.remainder] if self.remainder is not None else []), *self.standing]
        return f"if {both(remains).words()}" if remains else self.outcome.value


_ALLOW, _SIGN_IN, _DENY = Cell(Outcome.ALLOW), Cell(Outcome.SIGN_IN), Cell(Outcome.DENY)


@dataclass(slots=True, eq=False)
class Row:
    """One endpoint. Never changed once made; freezing would double what it costs.

    Each attribute but the first three holds a bit for each column.

    Attributes:
        methods: its methods; ``any`` means all that no other row of the line has.
        line: the line that decides.
        marks: standing rules that ask something of the caller alone, with what remains of them. Outcomes are those
            while they are met.
        allow: the columns that are let in.
        sign_in: the columns that may try again after signing in.
        depends: the columns for which it depends, by what remains to be known.
    """

    methods: tuple[str, ...]
    line: Line
    marks: tuple[tuple[Line, Formula, int], ...]
    allow: int
    sign_in: int
    depends: tuple[tuple[Formula, int], ...]

    @property
    def method(self) -> str:
        """Its methods as a policy writes them."""
        return " ".join(self.methods)

    @property
    def path(self) -> str:
        """The path template as written."""
        return self.line.template.text

    @property
    def area(self) -> str:
        """The part of the application that the path belongs to."""
        return self.line.template.area

    def cell(self, column: int) -> Cell:
        """The cell in a column, counted from 0."""
        bit = 1 << column
        if not (self.allow & bit):
            if self.sign_in & bit:
                return _SIGN_IN
            remainder = next((remainder for remainder, columns in self.depends if columns & bit), None)
            if remainder is None:
                return _DENY
            return Cell(Outcome.DEPENDS, remainder, self._standing(bit))
        return Cell(Outcome.ALLOW, None, self._standing(bit)) if self.marks else _ALLOW

    def _standing(self, bit: int) -> tuple[Formula, ...]:
        return tuple(remainder for _, remainder, columns in self.marks if columns & bit)


@dataclass(frozen=True, slots=True)
class Matrix:
    """Columns from least to most, and a row for each method of each endpoint line, in the order of the file."""

    columns: tuple[Column, ...]
    rows: tuple[Row, ...]

    def cells(self, row: Row) -> Iterator[Cell]:
        """The cells of a row, from left to right."""
        return (row.cell(number) for number in range(len(self.columns)))


def matrix_of_roles(policy: Policy, names: Iterable[str] | None = None) -> Matrix:
    """The matrix of a policy: signed out, signed in with no role beyond the defaults, then a column for each role.

    Args:
        policy: the policy.
        names: the roles, in the order of their columns; None for those of the policy, from least to most. One that the
            policy does not know adds nothing.
    """
    roles = policy.roles
    names = roles.kinds if names is None else tuple(names)
    columns = (
        Column("signed-out", "nobody is signed in"),
        Column("signed-in", "signed in, with no role beyond the defaults"),
        *(Column(name, roles.descriptions.get(name.partition(" in ")[0], "")) for name in names),
    )
    spreading = spreading_of_names(policy, names)
    rows = [row_of(policy, spreading, line, methods) for line, methods in _rows_of(policy)]
    return Matrix(columns, tuple(rows))


def spreading_of_roles(policy: Policy, more: Iterable[int] = ()) -> Spreading:
    """What formulas become in the columns of `matrix_of_roles`, and in more columns.

    Args:
        policy: the policy.
        more: for each column more, the bits of the roles that its caller holds.
    """
    return spreading_of_names(policy, policy.roles.kinds, more)


def spreading_of_names(policy: Policy, names: Iterable[str], more: Iterable[int] = ()) -> Spreading:
    """The same with columns for these roles; one that the policy does not know adds nothing."""
    roles, names = policy.roles, tuple(names)
    held = [SIGNED_OUT, roles.base, *(roles.base | roles.closure_of.get(name, 0) for name in names)]
    inner = sum(1 << number for number, name in enumerate(names, 2) if " in " in name)
    return Spreading([*held, *(roles.base | bits for bits in more)], roles.base, inner)


def matrix_of_callers(policy: Policy, callers: Mapping[str, Caller | None]) -> Matrix:
    """The matrix of a policy with a column for each of these callers, in this order."""
    columns = tuple(Column(name) for name in callers)
    rows = []
    for line, methods in _rows_of(policy):
        allow = sign_in = 0
        depends: Spread = {}
        for number, caller in enumerate(callers.values()):
            outcome, _, remainder = outcome_at(policy, line, methods[0], caller)
            if outcome is Outcome.ALLOW:
                allow |= 1 << number
            elif outcome is Outcome.SIGN_IN:
                sign_in |= 1 << number
            elif remainder is not None:
                depends[remainder] = depends.get(remainder, 0) | 1 << number
        rows.append(Row(methods, line, (), allow, sign_in, tuple(depends.items())))
    return Matrix(columns, tuple(rows))


def _rows_of(policy: Policy) -> Iterator[tuple[Line, tuple[str, ...]]]:
    if not policy.standing:
        return ((line, (method,)) for line in policy.endpoints for method in line.methods or (ANY,))
    return ((line, methods) for line in policy.endpoints for methods in groups(policy, line))


def groups(policy: Policy, line: Line) -> list[tuple[str, ...]]:
    """The methods of an endpoint line, in groups that the standing rules which may concern it treat alike."""
    near = policy.lookup.rules_near(line.template) if policy.standing else []
    if not near:
        return [(method,) for method in line.methods or (ANY,)]
    return treatments(line.methods, [rule.methods for rule in near if rule.methods])


class Spreading(Interpretation[Spread]):
    """Formulas over all columns at once. Parts that many lines share are worked out once.

    Args:
        columns: the bits of roles that the caller of each column holds.
        base: the bits of a signed-in caller without a role.
        inner: the columns of callers who hold their roles in records of things, and only there.
    """

    def __init__(self, columns: list[int], base: int, inner: int = 0) -> None:
        super().__init__()
        self.every = (1 << len(columns)) - 1
        self.signed_out = self.holding_columns(columns, SIGNED_OUT)
        self._columns = columns
        self._everywhere = self.every & ~inner
        self._by_mask: dict[int, int] = {}
        self._plain: dict[Requirement, tuple[int, int]] = {}
        self.facts_out = Facts(SIGNED_OUT, SIGNED_OUT)
        self.facts_in = Facts(base, ~SIGNED_OUT, caller=UNKNOWN)

    @staticmethod
    def holding_columns(columns: list[int], mask: int) -> int:
        found = 0
        for number, bits in enumerate(columns):
            if bits & mask:
                found |= 1 << number
        return found

    def holding(self, mask: int) -> int:
        """The columns that hold any of these bits."""
        columns = self._by_mask.get(mask)
        if columns is None:
            columns = self._by_mask[mask] = self.holding_columns(self._columns, mask)
        return columns

    def plain(self, requirement: Requirement) -> tuple[int, int]:
        """The columns that a requirement of roles and permissions alone lets in, and those that may sign in first."""
        columns = self._plain.get(requirement)
        if columns is None:
            allow = self.holding(requirement.opens)
            # A signed-in caller might hold any of the roles, or be granted any of the permissions.
            invites = requirement.opens & ~SIGNED_OUT or any(True for _ in permissions_in(requirement.formula))
            columns = self._plain[requirement] = allow, self.signed_out & ~allow if invites else 0
        return columns

    def constant(self, constant: Constant) -> Spread:
        """The same in every column."""
        return {constant: self.every}

    def all_of(self, parts: Sequence[Spread]) -> Spread:
        """Column by column."""
        return self._joined(parts, both, TRUE)

    def any_of(self, parts: Sequence[Spread]) -> Spread:
        """Column by column."""
        return self._joined(parts, either, FALSE)

    def opposite(self, part: Spread) -> Spread:
        """Column by column."""
        return _merged((opposite(formula), columns) for formula, columns in part.items())

    def leaf(self, formula: Formula) -> Spread:
        """By the bits that each column holds, or by whether it is signed in."""
        if isinstance(formula, Holding | HoldingIn | HoldingSomewhere):
            # In the record of a thing that the endpoint is about, where it is a role of a thing.
            held = self.holding(formula.mask)
            return {outcome: columns for outcome, columns in ((TRUE, held), (FALSE, self.every & ~held)) if columns}
        if isinstance(formula, HoldingAt):
            held = self.holding(formula.mask)
            everywhere = held & self._everywhere
            spread = ((TRUE, everywhere), (formula, held & ~everywhere), (FALSE, self.every & ~held))
            return {outcome: columns for outcome, columns in spread if columns}
        # Conditions do not ask for roles, so there are only two kinds of column: signed in and signed out.
        signed_in = self.every & ~self.signed_out
        return _merged(((formula.fold(self.facts_in), signed_in), (formula.fold(self.facts_out), self.signed_out)))

    def node(self, formula: Formula) -> Spread:
        """A condition keeps its name."""
        return self.leaf(formula) if isinstance(formula, Condition) else super().node(formula)

    def _joined(self, parts: Sequence[Spread], join: Callable[[Iterable[Formula]], Formula], start: Formula) -> Spread:
        spread: Spread = {start: self.every}
        for others in parts:
            spread = _merged(
                (join((one, other)), columns & more)
                for one, columns in spread.items()
                for other, more in others.items()
                if columns & more
            )
        return spread


def _merged(pairs: Iterator[tuple[Formula, int]] | tuple[tuple[Formula, int], ...]) -> Spread:
    merged: Spread = {}
    for formula, columns in pairs:
        if columns:
            merged[formula] = merged.get(formula, 0) | columns
    return merged


def row_of(policy: Policy, spreading: Spreading, line: Line, methods: tuple[str, ...]) -> Row:
    """One endpoint over all columns.

    Args:
        policy: the policy.
        spreading: what formulas become in the columns.
        line: the line of the endpoint.
        methods: methods of it that standing rules treat alike.
    """
    formulas = asked_at(policy, line, methods[0]) if policy.standing else [(line, line.requirement.formula)]
    if line.requirement.plain and len(formulas) == 1:
        return Row(methods, line, (), *spreading.plain(line.requirement), ())
    groups: list[tuple[list[Formula], int]] = [([], spreading.every)]
    marks = []
    for rule, formula in formulas:
        spread = spreading.of(formula)
        if rule is not line:
            spread, touched = _while_met(spread)
            marks += [(rule, remainder, columns) for remainder, columns in touched]
        groups = _divided(groups, spread)
    whole = _merged((both(parts), columns) for parts, columns in groups)
    allow = whole.get(TRUE, 0)
    depends = tuple((rest, columns) for rest, columns in whole.items() if rest is not TRUE and can_be_true(rest))
    settled = allow
    for _, columns in depends:
        settled |= columns
    refused_out = spreading.signed_out & ~settled
    out = [(formula, spreading.facts_out) for _, formula in formulas]
    waits = refused_out if refused_out and opens_after_sign_in(policy.roles, out) else 0
    seen = [(rule, remainder, columns & settled) for rule, remainder, columns in marks if columns & settled]
    return Row(methods, line, tuple(seen), allow, waits, depends)


def _divided(groups: list[tuple[list[Formula], int]], spread: Spread) -> list[tuple[list[Formula], int]]:
    """Groups of columns with one more part each; where the columns of a group differ in it, the group is divided."""
    if len(spread) == 1:
        (part,) = spread
        if part is not TRUE:
            for parts, _ in groups:
                parts.append(part)
        return groups
    found = []
    for parts, columns in groups:
        for part, others in spread.items():
            if columns & others:
                more = [] if part is TRUE else [part]
                found.append((parts + more, columns & others))
    return found


class _WhileMet(NamedTuple):
    """A standing rule with what it asks of the caller alone taken as met.

    Attributes:
        spread: what is left.
        asked: what it asks of whom.
    """

    spread: Spread
    asked: list[tuple[Formula, int]]


def _while_met(spread: Spread) -> _WhileMet:
    """A standing rule with what it asks of the caller alone taken as met."""
    met: Spread = {}
    touched = []
    for formula, columns in spread.items():
        roots = {reference.root for reference in references_in(formula)}
        if roots == {"caller"} and can_be_true(formula):
            touched.append((formula, columns))
            met[TRUE] = met.get(TRUE, 0) | columns
        else:
            met[formula] = met.get(formula, 0) | columns
    return _WhileMet(met, touched)
