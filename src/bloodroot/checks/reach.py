"""Who is let in where: the rows of the matrix, for endpoints as well as lines, and how two of them compare."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property

from ..core.formulas import TRUE, Formula, both, can_be_true
from ..core.lines import Line
from ..core.matrix import Row, groups, row_of, spreading_of_roles
from ..core.methods import ANY
from ..core.paths import Template, specificity
from ..core.policy import Policy
from ..core.roles import SIGNED_OUT
from ..survey.coverage import Surveyed
from .reasoning import Reasoner

WRITES = ("POST", "PUT", "PATCH", "DELETE")
Shape = tuple[object, ...]


@dataclass(slots=True, eq=False)
class Unit:
    """One method of one endpoint, and who is let in there.

    Attributes:
        method: the method, or ``any``.
        template: its path: that of the endpoint where it is known, else that of the line.
        shape: equal for templates that cover the same paths.
        row: who is let in.
        surveyed: the endpoint, where a survey has found it.
    """

    method: str
    template: Template
    shape: Shape
    row: Row
    surveyed: Surveyed | None = None

    @property
    def line(self) -> Line:
        """The line that decides."""
        return self.row.line

    @property
    def words(self) -> str:
        """``POST /trials/{trial_id}``."""
        return f"{self.method} {self.template.text}"


@dataclass(frozen=True, slots=True)
class Wider:
    """What one endpoint allows, and another does not.

    Attributes:
        columns: the kinds of callers, as bits.
        allowed: on what it depends at the one.
        required: on what it depends at the other; None where it refuses.
        assignment: values for which they differ, by the words of the references; None where both are certain.
    """

    columns: int
    allowed: Formula
    required: Formula | None
    assignment: dict[str, object] | None = None


class Reach:
    """Who is let in at each endpoint.

    Attributes:
        columns: signed-out and signed-in callers, then the roles, from least to most; a bit each.
    """

    def __init__(self, policy: Policy, surveyed: Iterable[Surveyed], reasoner: Reasoner) -> None:
        self.policy = policy
        self._surveyed = tuple(surveyed)
        self._reasoner = reasoner
        names = policy.roles.by_reach()
        self.columns = ("signed-out", "signed-in", *names)
        self.bit = {name: 1 << number for number, name in enumerate(self.columns)}
        self.signed_out, self.signed_in = 1, 2
        self.every = (1 << len(self.columns)) - 1
        self._spreading = spreading_of_roles(policy)
        self._groups: dict[int, tuple[Row, tuple[tuple[Formula, int], ...]]] = {}

    # Endpoints ----------------------------------------------------------------------------

    @cached_property
    def units(self) -> tuple[Unit, ...]:
        """Every method of every line, then what a survey found that is decided by a wider line."""
        return tuple(self.by_shape.values())

    @cached_property
    def by_shape(self) -> dict[tuple[str, Shape], Unit]:
        """Units by method and by the shape of their template."""
        found: dict[tuple[str, Shape], Unit] = {}
        for line in self.policy.endpoints:
            shape = specificity(line.template, exact=True)
            for methods in groups(self.policy, line):
                row = row_of(self.policy, self._spreading, line, methods)
                for method in methods:
                    found.setdefault((method, shape), Unit(method, line.template, shape, row))
        for each in self._surveyed:
            if each.line is None:
                continue
            known = found.get((each.method, each.shape))
            if known is None:
                row = self._row(each.line, each.template, each.method)
                found[each.method, each.shape] = Unit(each.method, each.template, each.shape, row, each)
            elif known.line is each.line and known.surveyed is None:
                known.surveyed = each
        return found

    def row_at(self, line: Line, method: str) -> Row:
        """Who is let in by a line, whatever the path."""
        shape = specificity(line.template, exact=True)
        known = self.by_shape.get((method, shape)) or self.by_shape.get((ANY, shape))
        return known.row if known is not None and known.line is line else self._row(line, line.template, method)

    def _row(self, line: Line, template: Template, method: str) -> Row:
        row = row_of(self.policy, self._spreading, replace(line, template=template), (method,))
        return replace(row, line=line)

    # Callers ----------------------------------------------------------------------------

    def let_in(self, row: Row) -> int:
        """The columns that are let in, at least where some condition holds."""
        found = row.allow
        for _, columns in row.depends:
            found |= columns
        return found

    def let_in_by(self, formula: Formula) -> int:
        """The columns for which a formula may be true."""
        return sum(columns for each, columns in self._spreading.spread(formula).items() if can_be_true(each))

    def groups(self, row: Row) -> tuple[tuple[Formula, int], ...]:
        """The columns that are let in, by all that it depends on; what standing rules ask is part of that."""
        known = self._groups.get(id(row))
        if known is None:
            parts = ((TRUE, row.allow), *row.depends) if row.allow else row.depends
            for _, formula, touched in row.marks:
                parts = tuple(
                    (each, columns)
                    for one, both_columns in parts
                    for each, columns in (
                        (both((one, formula)), both_columns & touched),
                        (one, both_columns & ~touched),
                    )
                    if columns
                )
            # With the row, so that no other one has its id.
            known = self._groups[id(row)] = row, parts
        return known[1]

    def wider(self, one: Row, other: Row, *, by_lines_alone: bool = False) -> Wider | None:
        """What the one allows and the other does not: callers, or records; None where there is no such thing.

        Args:
            one: who is let in at the one.
            other: who is let in at the other.
            by_lines_alone: whether what standing rules require of callers alone does not count.
        """
        if by_lines_alone:
            one, other = replace(one, marks=()), replace(other, marks=())
        if one.allow == other.allow and one.depends == other.depends and one.marks == other.marks:
            return None
        gained = self.let_in(one) & ~self.let_in(other)
        if gained:
            for allowed, columns in self.groups(one):
                if columns & gained:
                    return Wider(columns & gained, allowed, None)
        for allowed, columns in self.groups(one):
            for required, others in self.groups(other):
                if columns & others and required is not TRUE and allowed != required:
                    proof = self._reasoner.implies(allowed, required)
                    if proof.holds is False:
                        return Wider(columns & others, allowed, required, proof.assignment)
        return None

    def implies(self, one: Formula, other: Formula) -> bool:
        """Whether it is certain that one formula is true only where another one is."""
        return self._reasoner.implies(one, other).holds is True

    def names(self, bits: int) -> list[str]:
        """The columns whose bits are set; roles that include another one of them are left out."""
        closure = self.policy.roles.closure
        chosen = [name for name in self.columns if self.bit[name] & bits]
        if "signed-in" in chosen:
            return [name for name in chosen if name in ("signed-out", "signed-in")]
        roles = {name: self.policy.roles.bit[name] for name in chosen if name in closure}
        return [
            name
            for name in chosen
            if name not in roles or not any(closure[name] & bit and name != other for other, bit in roles.items())
        ]

    def who(self, bits: int) -> str:
        """Kinds of callers in words: ``volunteer and auditor``, ``signed-out callers``."""
        names = [_called(name) for name in self.names(bits)]
        if bits & self.signed_out and bits & self.signed_in:
            return "anyone"
        if len(names) > 4:
            names = [*names[:3], f"{len(names) - 3} more"]
        return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else "".join(names) or "nobody"

    def roles_of(self, bits: int) -> tuple[str, ...] | None:
        """The roles of a caller of the first of these columns; None for a signed-out one."""
        names = self.names(bits)
        first = names[0] if names else "signed-in"
        return None if first == "signed-out" else () if first == "signed-in" else (first,)


def _called(name: str) -> str:
    return {"signed-out": "signed-out callers", "signed-in": "every signed-in caller"}.get(name, name)


def may_be_signed_out(line: Line) -> bool:
    """Whether a line lets signed-out callers in by audience alone."""
    return bool(line.requirement.opens & SIGNED_OUT)
