"""Names of one policy turned into formulas; a name that it does not know is a mistake."""

from __future__ import annotations

import copy
import datetime
from typing import TYPE_CHECKING, NamedTuple

from ..language import tree
from ..language.problems import ENOUGH, Place, Problem, suggestion
from .conditions import Clock, Comparison, Condition, Holds, Listed, Now, Operand, Reference, Shifted
from .formulas import FALSE, TRUE, Conjunction, Disjunction, Formula, Negated, mapped, opposite, walk
from .moments import duration, moment, time_of_day, zone_of
from .order import in_order
from .requirements import (
    Guarded,
    Holding,
    HoldingAt,
    HoldingIn,
    HoldingSomewhere,
    PermissionAsked,
    Requirement,
    bits_that_open,
    roles_in,
)
from .roles import SIGNED_IN, SIGNED_OUT, RoleTable
from .values import Value

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

_LONGEST_CHAIN = 40  # of conditions that rest on each other; folding goes some calls deeper for each

_AUDIENCES: dict[str, Formula] = {
    "anyone": TRUE,
    "nobody": FALSE,
    "signed-in": Holding(SIGNED_IN, "signed-in"),
    "signed-out": Holding(SIGNED_OUT, "signed-out"),
    "guarded": Guarded(),
}
_IMPLIED = Holding(SIGNED_IN, "signed-in", implied=True)


_TESTS = (tree.Comparison, tree.Reference, tree.Literal)


class ResolvedGuard(NamedTuple):
    """What a guard asks.

    Attributes:
        requirement: what it asks.
        problems: the mistakes in it.
    """

    requirement: Requirement
    problems: list[Problem]


class Resolver:
    """Names of one policy to formulas. Every name is resolved once; a mistake is reported, and becomes `FALSE`."""

    def __init__(self, document: tree.Document, roles: RoleTable, problems: list[Problem]) -> None:
        self._roles = roles
        self._zone = _zone(document, problems)
        self._problems = problems
        self._broken = set(document.broken)
        self._origin = Place(document.source, 1, 1, 1)
        self._holding: dict[str, Formula] = dict(_AUDIENCES)
        for name, bit in roles.bit.items():
            self._holding[name] = Holding(bit, name)
        for name, bit in roles.bit_in.items():
            self._holding[name] = HoldingIn(bit, name, roles.in_thing[name])
        self._conditions(document)
        self.permissions = self._permissions(document)
        self._wildcards = {name[:-1]: grants for name, grants in self.permissions.items() if name.endswith("*")}
        self._asked: dict[str, Formula] = {}
        self._read: dict[int, Requirement] = {}

    def requirement(self, node: tree.Node, origin: Place) -> Requirement:
        """What a line asks. Lines that ask the same in the same words share the requirement."""
        found = self._read.get(id(node))
        if found is None:
            before = len(self._problems)
            self._origin = origin
            formula = self._formula(node)
            found = Requirement(formula, *bits_that_open(formula))
            if len(self._problems) == before:
                # One with a mistake in it is read again, so that the mistake is reported for every line.
                self._read[id(node)] = found
        return found

    def guard(self, node: tree.Node, place: Place) -> ResolvedGuard:
        """What a guard asks; the mistakes of the policy are not touched."""
        resolver = copy.copy(self)
        resolver._problems = []
        resolver._origin = place
        formula = resolver._formula(node)
        return ResolvedGuard(Requirement(formula, *bits_that_open(formula)), resolver._problems)

    def _formula(self, node: tree.Node) -> Formula:
        """What a line asks, as a formula."""
        # In the order of how common they are: this is run for every line that asks for something new.
        if isinstance(node, tree.AnyOf):
            return Disjunction(tuple([self._formula(part) for part in node.parts]))
        if isinstance(node, tree.Word):
            return self._holding.get(node.text) or self._word(node)
        if isinstance(node, _TESTS):
            return self.expression(node)
        if isinstance(node, tree.AllOf):
            return Conjunction(tuple([self._formula(part) for part in node.parts]))
        if isinstance(node, tree.Given):
            return Conjunction((self._formula(node.requirement), self.expression(node.condition)))
        if isinstance(node, tree.Held):
            return self._held(node)
        assert isinstance(node, tree.Negation)
        part = self._formula(node.part)
        if _asks_what_is_held(part):
            # A signed-out caller holds nothing, so a plain negation would allow every signed-out caller.
            return Conjunction((_IMPLIED, opposite(part)))
        return opposite(part)

    def _held(self, node: tree.Held) -> Formula:
        """A role in any record of its thing, or in the one that something names."""
        word = node.role
        thing = self._roles.in_thing.get(word.text)
        if thing is None:
            if word.text in self._roles.bit:
                return self._mistake(
                    f'"{word.text}" is a role that is held everywhere; leave out what follows it', word
                )
            if word.text not in self._broken:
                guess = suggestion(word.text, self._roles.in_thing) if len(self._problems) < ENOUGH else ""
                guess = guess or "; roles that are held in something are declared in a section such as roles in studio"
                return self._mistake(f'unknown role "{word.text}"{guess}', word)
            return FALSE
        bit = self._roles.bit_in[word.text]
        if node.reference is not None:
            return HoldingAt(bit, word.text, thing, _reference(node.reference))
        if node.thing is not None and node.thing.text != thing:
            return self._mistake(f'"{word.text}" is held in a {thing}; write: {word.text} in any {thing}', node.thing)
        return HoldingSomewhere(bit, word.text, thing)

    def _mistake(self, message: str, word: tree.Word) -> Formula:
        self._problems.append(Problem(message, word.place(self._origin)))
        return FALSE

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
            return Holds(_reference(node))
        if isinstance(node, tree.Literal):
            return TRUE if node.value else FALSE
        assert isinstance(node, tree.Comparison)
        left, right = self._operand(node.left), self._operand(node.right)
        if node.operator == "not in":
            return Negated(Comparison(left, "in", right))
        return Comparison(left, node.operator, right)

    def _operand(self, node: tree.Node) -> Operand:
        if isinstance(node, tree.Reference):
            return _reference(node)
        if isinstance(node, tree.Literal):
            return Value(node.value, literal=True)
        if isinstance(node, tree.Listing):
            return Listed(tuple(self._operand(item) for item in node.items))
        if isinstance(node, tree.Moment):
            return self._moment(node.text)
        if isinstance(node, tree.Clock):
            return Clock(node.part, self._zone)
        if isinstance(node, tree.Shifted):
            return self._shifted(node)
        assert isinstance(node, tree.Now)
        return Now(self._zone)

    def _moment(self, text: str) -> Value:
        """A date, with a time or without one, or a time."""
        found = time_of_day(text) if "-" not in text[:8] else moment(text, self._zone)
        if found is None:
            self._problems.append(Problem(f"there is no {text}: neither a date nor a time of the day", self._origin))
        if isinstance(found, datetime.datetime):
            # Whatever its offset: what is compared with it may have none, and is in the zone of the policy then.
            found = found.astimezone(self._zone)
        return Value(found, literal=True)

    def _shifted(self, node: tree.Shifted) -> Operand:
        """A moment, and how much later or earlier."""
        by = duration(node.duration)
        if by is None:
            self._problems.append(Problem(f"{node.duration} is longer than a hundred years", self._origin))
            by = datetime.timedelta()
        of = self._operand(node.moment)
        assert isinstance(of, Reference | Now | Value)
        return Shifted(of, -by if node.sign == "-" else by, self._zone, f"{node.sign} {node.duration}")

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
            formula = self.permission(word.text)
            return formula if formula is not None else self._unknown("permission", word, self.permissions)
        condition = self.conditions.get(word.text)
        if condition is not None:
            return condition
        names = [*self._roles.bit, *self._roles.in_thing, *self.conditions, *_AUDIENCES, *self._broken]
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

    def _unknown(self, what: str, word: tree.Word, names: Iterable[str]) -> Formula:
        if word.text not in self._broken:
            guess = suggestion(word.text, names) if len(self._problems) < ENOUGH else ""
            self._problems.append(Problem(f'unknown {what} "{word.text}"{guess}', word.place(self._origin)))
        return FALSE

    def _conditions(self, document: tree.Document) -> None:
        """Every condition, those it rests on first; a circle of them is a mistake."""
        declared: dict[str, tree.Condition] = {}
        for entry in document.entries(tree.Condition):
            name, place = entry.name.text, entry.place
            if name in self._roles.bit or name in self._roles.in_thing:
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
        ordered, circle = in_order(rests_on)
        if circle:
            message = f"these conditions rest on each other in a circle: {' → '.join(circle)}"
            self._problems.append(Problem(message, declared[circle[0]].place))
            # Known to be wrong and reported: they are not unknown names as well.
            self._broken |= declared.keys() - set(ordered)
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
            kind = name.split(":")[0]
            of = kind if kind in self._roles.things.by_name else None
            permissions[name] = of_record(_flat([self._grant(grant) for grant in entry.grants]), of)
        return permissions

    def _grant(self, grant: tree.Grant) -> Formula:
        held = self._holding.get(grant.to.text)
        if held is None:
            held = self._unknown("role", grant.to, [*self._roles.bit, *self._roles.in_thing, *self._broken])
        if grant.condition is None:
            return held
        return Conjunction((held, self.expression(grant.condition)))


def of_record(formula: Formula, thing: str | None) -> Formula:
    """A formula whose roles are held in what the record at hand belongs to, which is one of a thing."""
    if thing is None:
        return formula

    def change(part: Formula) -> Formula | None:
        is_open = isinstance(part, HoldingIn) and part.of is None
        return HoldingIn(part.mask, part.name, part.thing, thing) if is_open else None  # type: ignore[attr-defined]

    return mapped(formula, change)


def _flat(parts: list[Formula]) -> Formula:
    """Parts joined by "or"; one alone stays itself, none is never true."""
    if not parts:
        return FALSE
    parts = list(dict.fromkeys(parts))
    return parts[0] if len(parts) == 1 else Disjunction(tuple(parts))


def _asks_what_is_held(formula: Formula) -> bool:
    """Whether a formula mentions roles or permissions, and not only audiences and conditions."""
    return any(isinstance(part, PermissionAsked) for part in walk(formula)) or any(True for _ in roles_in(formula))


def _reference(node: tree.Reference) -> Reference:
    return Reference(node.root, node.names, node.optional)


def _zone(document: tree.Document, problems: list[Problem]) -> datetime.tzinfo:
    """The zone that the policy names; UTC without one."""
    for section in document.headed("policy"):
        try:
            return zone_of(section.zone)
        except ValueError as error:
            problems.append(Problem(str(error), section.place))
    return datetime.UTC


def _words(node: tree.Node) -> Iterator[str]:
    """The names of conditions in an expression."""
    if isinstance(node, tree.Word):
        yield node.text
    elif isinstance(node, tree.AllOf | tree.AnyOf):
        for part in node.parts:
            yield from _words(part)
    elif isinstance(node, tree.Negation):
        yield from _words(node.part)
