"""What one policy asks in one region, in terms that two policies share."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from ..core.conditions import Comparison, Condition, Holds, Listed, Operand, Reference, Shifted
from ..core.formulas import Conjunction, Disjunction, Formula, Negated, mapped
from ..core.lines import Line
from ..core.locating import Together
from ..core.methods import covers
from ..core.paths import Parameter
from ..core.policy import Policy
from ..core.requirements import Holding, HoldingAt, HoldingIn, HoldingSomewhere, PermissionAsked, references_in
from ..core.roles import SIGNED_IN, SIGNED_OUT
from .regions import Region

# A part of the path: its place, and the text around it.
Spot = tuple[int, str, str]


@dataclass(frozen=True, slots=True)
class Situation:
    """What decides in a region for one method.

    Attributes:
        line: the endpoint line; None where everything is closed.
        rules: the standing rules that must hold as well.
        denials: which entries of ``denials`` may answer there, by their place in the file.
    """

    line: Line | None
    rules: tuple[Line, ...]
    denials: tuple[int, ...]

    @property
    def lines(self) -> tuple[Line, ...]:
        """The standing rules, then the endpoint line."""
        return (*self.rules, self.line) if self.line is not None else ()


def situation(policy: Policy, region: Region, method: str) -> Situation:
    """What decides in a region."""
    line = policy.lookup.find(method, list(region.segments))
    rules = tuple(policy.lookup.rules_for(method, region.path)) if line is not None else ()
    segments = list(region.segments)
    denials = (
        number
        for number, denial in enumerate(policy.answers.denials)
        if covers(denial.methods, method) and (denial.template is None or denial.template.covers(segments))
    )
    return Situation(line, rules, tuple(denials))


def naming(lines: Iterable[Line]) -> dict[Spot, str]:
    """One name for each part of the path that these lines have a name for: the first one that it has.

    The parts that two policies name are the same parts, whatever they are called.
    """
    names: dict[Spot, str] = {}
    for line in lines:
        for spot, name in _spots(line):
            if spot not in names:
                taken = names.values()
                names[spot] = name if name not in taken else f"{name}-{spot[0] + 1}{spot[1]}{spot[2]}"
    return names


def _spots(line: Line) -> Iterable[tuple[Spot, str]]:
    for place, part in enumerate(line.template.segments):
        if isinstance(part, Parameter):
            yield (place, part.before, part.after), part.name


class Terms:
    """Formulas of one policy: with shared names for the parts of the path, and keys that say what they mean.

    Args:
        policy: the policy.
        ids: numbers for what is the same, shared by both policies.
    """

    def __init__(self, policy: Policy, ids: dict[object, int]) -> None:
        self.policy = policy
        self._ids = ids
        self._names = {bit: name for name, bit in policy.roles.bit_of.items()} | {SIGNED_IN: "", SIGNED_OUT: "-"}
        self._keys: dict[int, tuple[Formula, int]] = {}
        self._renamed: dict[tuple[int, tuple[tuple[str, str], ...]], tuple[Formula, Formula]] = {}
        self._named: dict[Line, frozenset[str]] = {}

    def asked(self, lines: tuple[Line, ...], names: Mapping[Spot, str]) -> tuple[Formula, ...]:
        """What lines ask, with these names for the parts of the path."""
        return (*(self._in_terms(line, names) for line in lines), *self._together(lines))

    def _together(self, lines: tuple[Line, ...]) -> Iterator[Formula]:
        """That the records which a path names belong together, where it names several of one chain."""
        things = self.policy.roles.things
        named = things.named(dict.fromkeys(name for line in lines for name in line.template.names)) if things else ()
        if named and things.are_tied(named):
            chains = (things.chain(thing.name) for _, thing in named)
            how = tuple((each.name, *each.by) for chain in chains for each in chain)
            yield Together(tuple(dict.fromkeys(thing.name for _, thing in reversed(named))), how)

    def _in_terms(self, line: Line, names: Mapping[Spot, str]) -> Formula:
        formula = line.requirement.formula
        if line not in self._named:
            self._named[line] = frozenset(
                reference.names[0]
                for reference in references_in(formula)
                if reference.root == "path" and line.template.names
            )
        used = self._named[line]
        changed = tuple(
            (name, names[spot]) for spot, name in _spots(line) if name in used and names.get(spot, name) != name
        )
        if not changed:
            return formula
        found = self._renamed.get((id(formula), changed))
        if found is None:
            found = self._renamed[id(formula), changed] = formula, renamed(formula, dict(changed))
        return found[1]

    def key(self, formula: Formula) -> int:
        """A number that two formulas have in common where they mean the same, whatever their conditions are called.

        Formulas with different numbers may still mean the same.
        """
        found = self._keys.get(id(formula))
        if found is None:
            number = self._ids.setdefault(self._meaning(formula), len(self._ids))
            # With the formula, so that no other one has its id.
            found = self._keys[id(formula)] = formula, number
        return found[1]

    def _meaning(self, formula: Formula) -> object:
        if isinstance(formula, Holding):
            return "holding", frozenset(name for bit, name in self._names.items() if bit & formula.mask)
        if isinstance(formula, HoldingIn):
            return "in", formula.kind, formula.of
        if isinstance(formula, HoldingSomewhere):
            return "somewhere", formula.name, formula.thing
        if isinstance(formula, PermissionAsked):
            return "permission", formula.name, self.key(formula.grants)
        if isinstance(formula, Condition):
            return "test", self.key(formula.test)
        if isinstance(formula, Conjunction):
            return "and", frozenset(map(self.key, formula.parts))
        if isinstance(formula, Disjunction):
            return "or", frozenset(map(self.key, formula.parts))
        if isinstance(formula, Negated):
            return "not", self.key(formula.part)
        return type(formula), formula


def renamed(formula: Formula, names: Mapping[str, str]) -> Formula:
    """A formula with other names for the parts of the path."""

    def change(part: Formula) -> Formula | None:
        if isinstance(part, Comparison):
            return Comparison(_operand(part.left, names), part.operator, _operand(part.right, names))
        if isinstance(part, HoldingAt):
            return HoldingAt(part.mask, part.name, part.thing, _operand(part.where, names))
        return Holds(_operand(part.reference, names)) if isinstance(part, Holds) else None

    return mapped(formula, change)


def _operand(operand: Operand, names: Mapping[str, str]) -> Operand:
    if isinstance(operand, Reference) and operand.root == "path" and operand.names[0] in names:
        return Reference("path", (names[operand.names[0]], *operand.names[1:]), operand.optional)
    if isinstance(operand, Listed):
        return Listed(tuple(_operand(item, names) for item in operand.items))
    if isinstance(operand, Shifted) and isinstance(operand.moment, Reference):
        moment = _operand(operand.moment, names)
        assert isinstance(moment, Reference)
        return replace(operand, moment=moment)
    return operand
