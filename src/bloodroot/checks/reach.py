"""Who is let in where: the rows of the matrix, for endpoints as well as lines, and how two of them compare."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import product

from ..core.formulas import TRUE, Conjunction, Formula, both, can_be_true, walk
from ..core.lines import Line
from ..core.matrix import Row, groups, row_of, spreading_of_roles
from ..core.methods import ANY
from ..core.paths import Template, specificity
from ..core.policy import Policy
from ..core.reasoning import Reasoner, parts_left_open, replaced
from ..core.requirements import OtherPath, Requirement, roles_in
from ..language.problems import Place
from ..survey.coverage import Surveyed

WRITES = ("POST", "PUT", "PATCH", "DELETE")
Shape = tuple[object, ...]
_MOST_OPTIONS = 4  # of roles that are enough for one part of a requirement
_MOST_TOGETHER = 64


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
    def place(self) -> Place:
        """Where it is declared: the line, or the guard of the handler that the line leaves it to."""
        return self.line.guards[0].place if self.line.guards else self.line.place

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
        columns: signed-out and signed-in callers, the roles from least to most, and roles that something requires
            together; a bit each.
        together: the roles of each of the latter, by the name of the column.
    """

    def __init__(self, policy: Policy, surveyed: Iterable[Surveyed], reasoner: Reasoner) -> None:
        self.policy = policy
        self._surveyed = tuple(surveyed)
        self._reasoner = reasoner
        together = roles_together(policy)
        self.together = {" with ".join(names): names for names in together}
        self.columns = ("signed-out", "signed-in", *policy.roles.kinds, *self.together)
        self.bit = {name: 1 << number for number, name in enumerate(self.columns)}
        self.signed_out, self.signed_in = 1, 2
        self.every = (1 << len(self.columns)) - 1
        self._spreading = spreading_of_roles(policy, together.values())
        self._groups: dict[Row, tuple[tuple[Formula, int], ...]] = {}

    # Endpoints ----------------------------------------------------------------------------

    @cached_property
    def units(self) -> tuple[Unit, ...]:
        """Every method of every line, then what a survey found that is decided by a wider line."""
        return tuple(self.by_shape.values())

    @cached_property
    def by_shape(self) -> dict[tuple[str, Shape], Unit]:
        """Units by method and by the shape of their template."""
        units: dict[tuple[str, Shape], Unit] = {}
        for line in self.policy.endpoints:
            shape = specificity(line.template, exact=True)
            for methods in groups(self.policy, line):
                row = row_of(self.policy, self._spreading, line, methods)
                for method in methods:
                    units.setdefault((method, shape), Unit(method, line.template, shape, row))
        for surveyed in self._surveyed:
            if surveyed.line is None:
                continue
            unit = units.get((surveyed.method, surveyed.shape))
            if unit is None:
                row = self._row(surveyed.line, surveyed.template, surveyed.method)
                units[surveyed.method, surveyed.shape] = Unit(
                    surveyed.method, surveyed.template, surveyed.shape, row, surveyed
                )
            elif unit.line.place == surveyed.line.place and unit.surveyed is None:
                unit.surveyed = surveyed
        return units

    def row_at(self, line: Line, method: str) -> Row:
        """Who is let in by a line, whatever the path."""
        shape = specificity(line.template, exact=True)
        unit = self.by_shape.get((method, shape)) or self.by_shape.get((ANY, shape))
        return unit.row if unit is not None and unit.line is line else self._row(line, line.template, method)

    def _row(self, line: Line, template: Template, method: str) -> Row:
        row = row_of(self.policy, self._spreading, replace(line, template=template), (method,))
        return replace(row, line=line)

    def unit(self, method: str, shape: Shape) -> Unit | None:
        """The endpoint for a method at a path of a shape: the one for any method where there is none of its own."""
        return self.by_shape.get((method, shape)) or self.by_shape.get((ANY, shape))

    # Callers ----------------------------------------------------------------------------

    def let_in(self, row: Row) -> int:
        """The columns that are let in, at least where some condition holds."""
        mask = row.allow
        for _, columns in row.depends:
            mask |= columns
        return mask

    def let_in_somewhere(self, row: Row) -> int:
        """The columns that are let in whatever else is known, at least at paths that some standing rules leave out."""
        mask = row.allow
        for formula, columns in row.depends:
            open_parts = parts_left_open(formula)
            elsewhere: dict[Formula, Formula] = {part: TRUE for part in open_parts if isinstance(part, OtherPath)}
            if elsewhere and replaced(formula, elsewhere) is TRUE:
                mask |= columns
        return mask

    def missing(
        self, allowed: Formula, columns: int, other: Row
    ) -> list[tuple[int, Formula, dict[str, object] | None]]:
        """What an endpoint requires of some callers, and a formula does not imply.

        Returns:
            The columns, what is required of them, and values that show it.
        """
        found = []
        for required, bits in self.groups(other):
            if columns & bits and required is not TRUE and allowed != required:
                proof = self._reasoner.implies(allowed, required)
                if proof.holds is False:
                    found.append((columns & bits, required, proof.assignment))
        return found

    def let_in_by(self, formula: Formula) -> int:
        """The columns for which a formula may be true."""
        return sum(columns for each, columns in self._spreading.of(formula).items() if can_be_true(each))

    def spread(self, formula: Formula) -> tuple[tuple[Formula, int], ...]:
        """What a formula comes to for the columns for which it may be true."""
        return tuple((each, columns) for each, columns in self._spreading.of(formula).items() if can_be_true(each))

    def groups(self, row: Row) -> tuple[tuple[Formula, int], ...]:
        """The columns that are let in, by all that it depends on; what standing rules ask is part of that."""
        known = self._groups.get(row)
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
            known = self._groups[row] = parts
        return known

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
            for missing, required, assignment in self.missing(allowed, columns, other):
                return Wider(missing, allowed, required, assignment)
        return None

    def implies(self, one: Formula, other: Formula) -> bool:
        """Whether it is certain that one formula is true only where another one is."""
        return self._reasoner.implies(one, other).holds is True

    def contradicts(self, one: Formula, other: Formula) -> bool:
        """Whether it is certain that one formula is true somewhere where another one is not."""
        return self._reasoner.implies(one, other).holds is False

    def names(self, bits: int) -> list[str]:
        """The columns whose bits are set; roles that include another one of them are left out."""
        closure, bit = self.policy.roles.closure_of, self.policy.roles.bit_of
        chosen = [name for name in self.columns if self.bit[name] & bits]
        if "signed-in" in chosen:
            return [name for name in chosen if name in ("signed-out", "signed-in")]
        roles = [name for name in chosen if name in closure]
        held = {name: closure[name] for name in roles}
        for name in chosen:
            if name in self.together:
                held[name] = sum_of(closure[role] for role in self.together[name])
        least = [name for name in held if not any(held[name] & bit[other] for other in roles if other != name)]
        return [name for name in chosen if name not in held or name in least]

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
        return None if first == "signed-out" else () if first == "signed-in" else self.together.get(first, (first,))


def _called(name: str) -> str:
    return {"signed-out": "signed-out callers", "signed-in": "every signed-in caller"}.get(name, name)


def sum_of(bits: Iterable[int]) -> int:
    """All of some bits."""
    total = 0
    for bit in bits:
        total |= bit
    return total


def roles_together(policy: Policy) -> dict[tuple[str, ...], int]:
    """Roles that a requirement asks for together, each with the bits of all of them; none that are kept apart."""
    roles = policy.roles
    found: dict[tuple[str, ...], int] = {}
    seen: set[Requirement] = set()
    for line in (*policy.endpoints, *policy.standing):
        if line.requirement in seen or line.requirement.plain:
            continue
        seen.add(line.requirement)
        for part in walk(line.requirement.formula):
            if not isinstance(part, Conjunction):
                continue
            options = [tuple(dict.fromkeys(roles_in(child)))[:_MOST_OPTIONS] for child in part.parts]
            for names in product(*(option for option in options if option)):
                chosen = tuple(sorted(set(names), key=list(roles.bit_of).index))
                bits = sum_of(roles.closure_of[name] for name in chosen)
                is_new = len(chosen) > 1 and bits not in roles.closure_of.values()
                if is_new and not roles.are_apart(bits) and len(found) < _MOST_TOGETHER:
                    found[chosen] = bits
    return found
