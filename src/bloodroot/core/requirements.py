"""What a line asks of the caller, compiled over role bits."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import TYPE_CHECKING, ClassVar

from ..language import tree
from ..language.problems import ENOUGH, Place, Problem, suggestion
from .conditions import (
    CAN_BE_FALSE,
    CAN_BE_TRUE,
    FALSE,
    TRUE,
    Comparison,
    Condition,
    Conjunction,
    Disjunction,
    Facts,
    Formula,
    Holds,
    Moment,
    Negated,
    Operand,
    Reference,
    Several,
    either,
    opposite,
    walk,
)
from .order import circle, in_order
from .roles import SIGNED_IN, SIGNED_OUT, RoleTable
from .values import Value

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Iterator


@dataclass(frozen=True, slots=True)
class Holding:
    """The caller holds at least one of these bits: a role, or being signed in or out."""

    mask: int
    name: str
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:
        if facts.certain & self.mask:
            return TRUE
        return self if facts.possible & self.mask else FALSE

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE

    def words(self) -> str:
        return self.name


@dataclass(frozen=True, slots=True)
class PermissionAsked:
    """A permission by its name, and the grants that give it; `bits_that_open` of them is kept, as many lines ask."""

    name: str
    grants: Formula
    opens: int
    plain: bool

    @property
    def inner(self) -> tuple[Formula, ...]:
        """The grants."""
        return (self.grants,)

    def fold(self, facts: Facts) -> Formula:
        key = id(self), id(facts.scopes)
        kept = facts.folded.get(key)
        if kept is None:
            kept = facts.folded[key] = self, self._fold(facts)
        return kept[1]

    def _fold(self, facts: Facts) -> Formula:
        if facts.scopes is not None and not self.named_by(facts.scopes):
            return FALSE
        if facts.granted is ANY_GRANT:
            return either((self.grants.fold(facts), GrantedPerhaps(self.name)))
        if facts.granted and self.named_by(facts.granted):
            return TRUE
        return self.grants.fold(facts)

    def named_by(self, names: Collection[str]) -> str | None:
        """The one of these names that the permission goes by: its own, or its family's as in ``trial:*``."""
        if self.name in names:
            return self.name
        parts = self.name.split(":")
        families = (":".join((*parts[:count], "*")) for count in range(1, len(parts)))
        return next((family for family in families if family in names), None)

    def values(self) -> int:
        return self.grants.values()

    def words(self) -> str:
        return self.name


# What a directory grants to a caller of whom nothing is known.
ANY_GRANT: Mapping[str, str] = MappingProxyType({"*": "a directory"})


@dataclass(frozen=True, slots=True)
class GrantedPerhaps:
    """A directory may have granted the caller a permission."""

    name: str
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE

    def words(self) -> str:
        return f"a grant of {self.name}"


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """The request is for another path than these; not known before there is a request."""

    pattern: str
    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:  # noqa: ARG002
        return self

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE

    def words(self) -> str:
        return f"outside {self.pattern}"


@dataclass(frozen=True, slots=True)
class Guarded:
    """A guard in the handler has let the caller pass; not known before it has."""

    inner: ClassVar[tuple[Formula, ...]] = ()

    def fold(self, facts: Facts) -> Formula:
        return TRUE if facts.guarded else self

    def values(self) -> int:
        return CAN_BE_TRUE | CAN_BE_FALSE

    def words(self) -> str:
        return "guarded"


_LONGEST_CHAIN = 40  # of conditions that rest on each other; folding goes some calls deeper for each

_AUDIENCES: dict[str, Formula] = {
    "anyone": TRUE,
    "nobody": FALSE,
    "signed-in": Holding(SIGNED_IN, "signed-in"),
    "signed-out": Holding(SIGNED_OUT, "signed-out"),
    "guarded": Guarded(),
}


def bits_that_open(formula: Formula) -> tuple[int, bool]:
    """The bits of which any one alone makes a formula true, and whether nothing but those can."""
    if isinstance(formula, Holding):
        return formula.mask, True
    if isinstance(formula, PermissionAsked):
        return formula.opens, formula.plain
    if isinstance(formula, Disjunction):
        bits, plain = 0, True
        for part in formula.parts:
            more, also = bits_that_open(part)
            bits |= more
            plain = plain and also
        return bits, plain
    if formula is TRUE:
        return SIGNED_IN | SIGNED_OUT, True
    return 0, formula is FALSE


def conditions_in(formula: Formula) -> Iterator[Condition]:
    """The named conditions that a formula mentions, in the order of the text."""
    return (part for part in walk(formula) if isinstance(part, Condition))


def asks_for_guard(formula: Formula) -> bool:
    """Whether a formula leaves something to a guard in the handler."""
    return any(isinstance(part, Guarded) for part in walk(formula))


def in_words(formula: Formula) -> str:
    """A remainder in words: conditions by name, with what each of them still asks."""
    named: dict[str, Condition] = {condition.name: condition for condition in conditions_in(formula)}
    sentence = ", ".join(f"{name} is {condition.test.words()}" for name, condition in named.items())
    return f"{formula.words()} ({sentence})" if sentence else formula.words()


def asks_in_words(formula: Formula) -> str:
    """What a line asks, with who has the permissions it names."""
    given = ", ".join(f"{each.name} is given to {each.grants.words()}" for each in permissions_in(formula))
    return f"{formula.words()} ({given})" if given else formula.words()


def permissions_in(formula: Formula) -> Iterator[PermissionAsked]:
    """The permissions that a formula asks for, in the order of the text."""
    return (part for part in walk(formula) if isinstance(part, PermissionAsked))


def roles_in(formula: Formula) -> Iterator[str]:
    """The roles that a formula asks for, through permissions."""
    return (part.name for part in walk(formula) if isinstance(part, Holding) and part.mask & ~(SIGNED_IN | SIGNED_OUT))


def references_in(formula: Formula) -> Iterator[Reference]:
    """The references that a formula asks for, through conditions and permissions."""
    for operand in _operands(formula):
        yield from _references(operand)


def _operands(formula: Formula) -> Iterator[Operand]:
    for part in walk(formula):
        if isinstance(part, Comparison):
            yield part.left
            yield part.right
        elif isinstance(part, Holds):
            yield part.reference


PATH, NOW = 1, 2


def asks_of(formula: Formula) -> int:
    """Whether a formula rests on the parameters of the path, and on the time, as bits."""
    found = 0
    for operand in _operands(formula):
        found |= _asks_of(operand)
    return found


def _asks_of(operand: Operand) -> int:
    if isinstance(operand, Reference):
        return PATH if operand.root in ("path", "records") else 0
    if isinstance(operand, Several):
        found = 0
        for item in operand.items:
            found |= _asks_of(item)
        return found
    return NOW if isinstance(operand, Moment) else 0


def _references(operand: Operand) -> Iterator[Reference]:
    if isinstance(operand, Reference):
        yield operand
    elif isinstance(operand, Several):
        for item in operand.items:
            yield from _references(item)


class Resolver:
    """Names of one policy to formulas. Every name is resolved once; a mistake is reported and stands for `FALSE`."""

    def __init__(self, document: tree.Document, roles: RoleTable, problems: list[Problem]) -> None:
        self._roles = roles
        self._problems = problems
        self._broken = set(document.broken)
        self._origin = Place(document.source, 1, 1, 1)
        self._holding: dict[str, Formula] = dict(_AUDIENCES)
        for name, bit in roles.bit.items():
            self._holding[name] = Holding(bit, name)
        self._conditions(document)
        self.permissions = self._permissions(document)
        self._wildcards = {name[:-1]: grants for name, grants in self.permissions.items() if name.endswith("*")}
        self._asked: dict[str, Formula] = {}
        self._read: dict[int, tuple[Formula, int, bool]] = {}

    def asked(self, node: tree.Node, origin: Place) -> tuple[Formula, int, bool]:
        """What a line asks, with `bits_that_open` it. Lines that share a requirement share the formula."""
        found = self._read.get(id(node))
        if found is None:
            before = len(self._problems)
            self._origin = origin
            formula = self.requirement(node)
            found = (formula, *bits_that_open(formula))
            if len(self._problems) == before:
                # One with a mistake in it is read again, so that the mistake is reported for every line.
                self._read[id(node)] = found
        return found

    def apart_from_lines(self, node: tree.Node, place: Place) -> tuple[Formula, list[Problem]]:
        """What a guard asks, and the mistakes in it; the policy's own are not touched."""
        resolver = copy.copy(self)
        resolver._problems = []
        resolver._origin = place
        return resolver.requirement(node), resolver._problems

    def requirement(self, node: tree.Node) -> Formula:
        """What a line asks, as a formula."""
        if isinstance(node, tree.Word):
            return self._word(node)
        if isinstance(node, tree.Comparison | tree.Reference | tree.Literal):
            return self.expression(node)
        if isinstance(node, tree.AnyOf):
            return Disjunction(tuple([self.requirement(part) for part in node.parts]))
        if isinstance(node, tree.AllOf):
            return Conjunction(tuple([self.requirement(part) for part in node.parts]))
        if isinstance(node, tree.Given):
            return Conjunction((self.requirement(node.requirement), self.expression(node.condition)))
        assert isinstance(node, tree.Negation)
        part = self.requirement(node.part)
        if _asks_what_is_held(part):
            # A signed-out visitor holds nothing, so a plain negation would let everybody in from the street.
            return Conjunction((_AUDIENCES["signed-in"], opposite(part)))
        return opposite(part)

    def expression(self, node: tree.Node) -> Formula:
        """A condition's test, as a formula."""
        if isinstance(node, tree.Word):
            return self._named_condition(node)
        if isinstance(node, tree.AnyOf):
            return Disjunction(tuple([self.expression(part) for part in node.parts]))
        if isinstance(node, tree.AllOf):
            return Conjunction(tuple([self.expression(part) for part in node.parts]))
        if isinstance(node, tree.Negation):
            return opposite(self.expression(node.part))
        if isinstance(node, tree.Reference):
            return Holds(Reference(node.root, node.names))
        if isinstance(node, tree.Literal):
            return TRUE if node.value else FALSE
        assert isinstance(node, tree.Comparison)
        left, right = _operand(node.left), _operand(node.right)
        if node.operator == "not in":
            return Negated(Comparison(left, "in", right))
        return Comparison(left, node.operator, right)

    def permission(self, name: str) -> Formula | None:
        """What a permission asks, its wildcards included, or None where the policy does not know it."""
        asked = self._asked.get(name)
        if asked is None:
            grants = [self.permissions[name]] if name in self.permissions else []
            place = name.rfind(":")
            while place > 0:
                wide = self._wildcards.get(name[: place + 1])
                if wide is not None:
                    grants.append(wide)
                place = name.rfind(":", 0, place)
            if not grants:
                return None
            formula = _flat(grants)
            asked = self._asked[name] = PermissionAsked(name, formula, *bits_that_open(formula))
        return asked

    def _word(self, word: tree.Word) -> Formula:
        """A role, an audience, a permission or a condition by its name."""
        held = self._holding.get(word.text)
        if held is not None:
            return held
        if ":" in word.text:
            asked = self.permission(word.text)
            return asked if asked is not None else self._unknown("permission", word, self.permissions)
        condition = self.conditions.get(word.text)
        if condition is not None:
            return condition
        names = [*self._roles.bit, *self.conditions, *_AUDIENCES, *self._broken]
        what = "role or condition" if self.conditions else "role"
        guess = suggestion(word.text, names) if len(self._problems) < ENOUGH else ""
        if guess:
            what = "condition" if guess.split('"')[1] in self.conditions else "role"
        return self._unknown(what, word, names)

    def _named_condition(self, word: tree.Word) -> Formula:
        condition = self.conditions.get(word.text)
        if condition is not None:
            return condition
        if word.text in self._holding:
            self._problems.append(
                Problem(
                    f'"{word.text}" is a role; what follows "if" is a condition or a comparison',
                    word.place(self._origin),
                )
            )
            return FALSE
        return self._unknown("condition", word, self.conditions)

    def _unknown(self, what: str, word: tree.Word, known: Iterable[str]) -> Formula:
        if word.text not in self._broken:
            guess = suggestion(word.text, known) if len(self._problems) < ENOUGH else ""
            self._problems.append(Problem(f'unknown {what} "{word.text}"{guess}', word.place(self._origin)))
        return FALSE

    def _conditions(self, document: tree.Document) -> None:
        """Every condition, those it rests on first; a circle of them is a mistake."""
        declared: dict[str, tree.Condition] = {}
        for entry in document.entries(tree.Condition):
            name, place = entry.name.text, entry.place
            if name in self._roles.bit:
                self._problems.append(
                    Problem(f'"{name}" is the name of a role already; give the condition another', place)
                )
            elif name in declared:
                at = declared[name].place.at
                self._problems.append(Problem(f'condition "{name}" is declared already, in {at}', place))
            else:
                declared[name] = entry
        self.conditions: dict[str, Condition] = {}
        rests_on = {name: [w for w in _words(entry.expression) if w in declared] for name, entry in declared.items()}
        ordered, stuck = in_order(rests_on)
        if stuck:
            loop = circle(stuck, rests_on)
            sentence = " → ".join(loop)
            self._problems.append(
                Problem(f"these conditions rest on each other in a circle: {sentence}", declared[loop[0]].place)
            )
            # Known to be wrong and reported: they are not unknown names as well.
            self._broken.update(stuck)
        depth: dict[str, int] = {}
        for name in ordered:
            entry = declared[name]
            depth[name] = 1 + max((depth.get(other, 0) for other in rests_on[name]), default=0)
            if depth[name] > _LONGEST_CHAIN:
                message = f"this condition rests on a chain of more than {_LONGEST_CHAIN} others; join some of them"
                self._problems.append(Problem(message, entry.place))
                self._broken.add(name)
                continue
            self._origin = entry.place
            test = self.expression(entry.expression)
            self.conditions[name] = Condition(name, test, entry.message, entry.place.at)

    def _permissions(self, document: tree.Document) -> dict[str, Formula]:
        """What each declared permission asks, by its name as written."""
        permissions: dict[str, Formula] = {}
        declared: dict[str, Place] = {}
        for entry in document.entries(tree.Permission):
            name = entry.name.text
            if name in declared:
                self._problems.append(
                    Problem(f'permission "{name}" is declared already, in {declared[name].at}', entry.place)
                )
                continue
            declared[name] = self._origin = entry.place
            permissions[name] = _flat([self._grant(grant) for grant in entry.grants])
        return permissions

    def _grant(self, grant: tree.Grant) -> Formula:
        held = self._holding.get(grant.to.text)
        if held is None:
            held = self._unknown("role", grant.to, [*self._roles.bit, *self._broken])
        if grant.condition is None:
            return held
        return Conjunction((held, self.expression(grant.condition)))


def _flat(parts: list[Formula]) -> Formula:
    """Parts joined by "or"; one alone stays itself, none is never true."""
    if not parts:
        return FALSE
    parts = list(dict.fromkeys(parts))
    return parts[0] if len(parts) == 1 else Disjunction(tuple(parts))


def _asks_what_is_held(formula: Formula) -> bool:
    """Whether a formula speaks of roles or permissions, and not of audiences and conditions alone."""
    if isinstance(formula, Holding):
        return formula.mask & ~(SIGNED_IN | SIGNED_OUT) != 0
    if isinstance(formula, Conjunction | Disjunction):
        return any(_asks_what_is_held(part) for part in formula.parts)
    if isinstance(formula, Negated):
        return _asks_what_is_held(formula.part)
    return isinstance(formula, PermissionAsked)


def _operand(node: tree.Node) -> Operand:
    if isinstance(node, tree.Reference):
        return Reference(node.root, node.names)
    if isinstance(node, tree.Literal):
        return Value(node.value, literal=True)
    if isinstance(node, tree.Listing):
        return Several(tuple(_operand(item) for item in node.items))
    assert isinstance(node, tree.Now)
    return Moment()


def _words(node: tree.Node) -> Iterator[str]:
    """The names of conditions in an expression."""
    if isinstance(node, tree.Word):
        yield node.text
    elif isinstance(node, tree.AllOf | tree.AnyOf):
        for part in node.parts:
            yield from _words(part)
    elif isinstance(node, tree.Negation):
        yield from _words(node.part)
