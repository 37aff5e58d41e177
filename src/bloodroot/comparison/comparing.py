"""Two policies compared: every endpoint for every kind of caller, and what code may ask for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from itertools import chain

from ..core.formulas import Formula
from ..core.lines import Line
from ..core.methods import ANY, COMMON
from ..core.paths import Template, overlap, parse_template, specificity
from ..core.policy import Policy
from ..core.reasoning import Proof, Reasoner
from ..core.routing import PathTree
from .access_compared import AccessComparison, Asked, ComparedKind, access_at_endpoint
from .caller_kinds import names_apart_once, single_kinds
from .changes import CellChange, Change, EndpointChange, PolicyComparison, Side
from .evidence import Answered, Spotted, answers_differ, failing, shown
from .names_compared import changed_conditions, changed_declarations, changed_fields, changed_permissions
from .regions import Region, regions_of
from .situations import Situation, Terms, naming, situation

Solver = Callable[[Formula, Formula], Proof]
# What no line covers is closed, and has an answer too.
_EVERYWHERE = parse_template("/**")


def compare(old: Side, new: Side, solver: Solver | None = None, *, counting: bool = False) -> PolicyComparison:
    """Compare two policies.

    Args:
        old: the old policy.
        new: the new one; bound to the same routes, where they name actions.
        solver: what answers hard questions about conditions, or None.
        counting: whether there are tokens that count for some roles of their owner alone.
    """
    policies = old.policy, new.policy
    ids: dict[object, int] = {}
    terms = Terms(old.policy, ids), Terms(new.policy, ids)
    compared_access = AccessComparison(
        *policies, Reasoner(solver), single_kinds(*policies), terms, names_apart_once(*policies), counting
    )
    at_endpoints = _AtEndpoints(*policies, compared_access)
    cells = (*at_endpoints.cells(), *_at_actions(old, new, compared_access, terms))
    fields = tuple(changed_fields(policies, terms, compared_access))
    permissions = tuple(changed_permissions(policies, terms, compared_access))
    conditions = tuple(changed_conditions(policies, compared_access.reasoner))
    return PolicyComparison(
        old,
        new,
        cells,
        tuple(_endpoints(old, new)),
        fields,
        permissions,
        conditions,
        tuple(changed_declarations(policies)),
        (
            *_left_open(old, new, at_endpoints, compared_access),
            *([_COUNTING] if _is_open_to_counting(at_endpoints, compared_access) else []),
        ),
    )


_COUNTING = (
    "tokens and keys that count for some roles alone, as a line asks for signed-in or for a default role, which these "
    "lack"
)


def _is_open_to_counting(at_endpoints: _AtEndpoints, compared_access: AccessComparison) -> bool:
    """Whether tokens that count for some roles alone may see a change, of access or of what they are refused with."""
    answers = compared_access.asks_for_defaults and not at_endpoints.same_denials
    return compared_access.counting_open or answers


def _left_open(old: Side, new: Side, at_endpoints: _AtEndpoints, compared_access: AccessComparison) -> Iterator[str]:
    if not at_endpoints.complete:
        yield "the templates have too many paths in common; requests that several of them cover were not all compared"
    if compared_access.left_open:
        yield "a line requires so many roles or permissions together that not every combination of them was compared"
    names = ", ".join(dict.fromkeys(action_line.name for action_line in (*new.actions, *old.actions)))
    if names and not (_standing(old.policy) == _standing(new.policy) and at_endpoints.same_denials):
        yield f"standing rules or denials differ, and the paths of these actions are not known: {names}"


class _AtEndpoints:
    """What changes at endpoints.

    Attributes:
        complete: whether every path was looked at.
    """

    def __init__(self, old: Policy, new: Policy, compared_access: AccessComparison) -> None:
        self.old = old
        self.new = new
        self.compared_access = compared_access
        self.terms = compared_access.terms
        self.same_roles = _roles(old) == _roles(new)
        self.same_denials = _denials(old) == _denials(new)
        regions = regions_of((*_templates(new, old), _EVERYWHERE))
        self.regions = self._that_may_differ(regions.found)
        self.complete = regions.complete

    def _that_may_differ(self, regions: tuple[Region, ...]) -> tuple[Region, ...]:
        """The regions that a line covers which only one of the policies has; all of them where more than lines differ.

        Elsewhere both have the same lines, of which the same one decides.
        """
        rules = [[self._signature(number, rule) for rule in side.standing] for number, side in enumerate(self._sides)]
        if not self.same_roles or not self.same_denials or rules[0] != rules[1]:
            return regions
        lines = [
            {self._signature(number, line): line for line in side.endpoints} for number, side in enumerate(self._sides)
        ]
        differing = PathTree(
            (line.template, line)
            for one, other in (lines, lines[::-1])
            for signature, line in one.items()
            if signature not in other
        )
        return tuple(
            region
            for region in regions
            if any(line.template.covers(list(region.segments)) for line in differing.near(region.template))
        )

    @property
    def _sides(self) -> tuple[Policy, Policy]:
        return self.old, self.new

    def _signature(self, number: int, line: Line) -> object:
        """What a line says, in terms that both policies share."""
        formula = line.requirement.formula
        return line.methods, line.pattern, self.terms[number].key(formula), formula.words()

    def cells(self) -> Iterator[CellChange]:
        """Every change, by the order of the new file, then of the old one."""
        found: dict[object, list[_At]] = {}
        methods = _methods(self.old, self.new)
        for region in self.regions:
            by_method: dict[str, tuple[Situation, Situation]] = {}
            for method in methods:
                sides = situation(self.old, region, method), situation(self.new, region, method)
                by_method[method] = sides
                if method == "HEAD" and by_method.get("GET") == sides:
                    continue
                if method != ANY and method not in _named(sides) and by_method[ANY] == sides:
                    continue
                found.setdefault((method, sides), []).append(_At(method, region, *sides))
        chosen = [at for alike in found.values() for at in _widest(alike)]
        for at in sorted(chosen, key=lambda at: (at.rank, methods.index(at.method))):
            yield from self._at(at)

    def _at(self, at: _At) -> Iterator[CellChange]:
        names = naming((*reversed(at.new.lines), *reversed(at.old.lines)))
        questions = self.terms[0].asked(at.old.lines, names), self.terms[1].asked(at.new.lines, names)
        # In no order: that of the lines matters for what a refusal says, not for what is asked.
        keys = tuple(
            tuple(sorted(set(map(terms.key, formulas)))) for terms, formulas in zip(self.terms, questions, strict=True)
        )
        if keys[0] == keys[1] and self.same_roles and self.same_denials and at.old.denials == at.new.denials:
            words = [[formula.words() for formula in formulas] for formulas in questions]
            if words[0] == words[1]:
                return
        weighed = self.compared_access.weigh(questions, (keys[0], keys[1]))
        where = Spotted(_sent(at.method, self.old, self.new), at.region, names)
        answers = _Answers(self.compared_access, questions, where, weighed)
        changes = [change for one in weighed for change in self._cell(at, one, answers)]
        if not changes:
            # Roles alone make no difference: what remains is what several of them are answered, or a token.
            others = self.compared_access.others(questions, access_at_endpoint)
            changes = [change for other in others for change in self._cell(at, other, answers)]
        yield from changes

    def _cell(self, at: _At, weighed: ComparedKind, answers: _Answers) -> Iterator[CellChange]:
        kind, change, words = weighed.kind, weighed.change, weighed.words()
        evidence = None
        if change is None or change is Change.ANSWER:
            answered = answers.differ(weighed)
            if answered is None and change is None:
                return
            if answered is not None:
                words, evidence = (answered.old, answered.new), answered.shown
            change = Change.ANSWER
        else:
            evidence = shown(self.old, self.new, answers.where, weighed)
        path = at.region.template.text
        lines = at.old.line, at.new.line
        yield CellChange(at.method, path, kind.role, kind.holding, change, *words, weighed.proved, evidence, *lines)


class _Answers:
    """What refused callers are answered in one place.

    Attributes:
        where: the place.
    """

    def __init__(
        self,
        compared_access: AccessComparison,
        question: tuple[Asked, Asked],
        where: Spotted,
        weighed: tuple[ComparedKind, ...],
    ) -> None:
        self.where = where
        self._compared_access = compared_access
        self._values = failing((*question[0], *question[1]), weighed, compared_access.reasoner)
        self._telling = compared_access.telling(question)
        self._known: dict[object, Answered | None] = {}

    def differ(self, weighed: ComparedKind) -> Answered | None:
        """Two answers to a request that both policies refuse; None where they answer alike."""
        key = self._telling(weighed.kind)
        values = self._values.of(weighed)
        if key in self._known:
            answered = self._known[key]
            if answered is None:
                return None
            values = (answered.values,)
        found = answers_differ(self._compared_access.old, self._compared_access.new, self.where, weighed.kind, values)
        self._known.setdefault(key, found)
        return found


@dataclass(frozen=True, slots=True)
class _At:
    """One method in one region, and what decides there."""

    method: str
    region: Region
    old: Situation
    new: Situation

    @property
    def rank(self) -> tuple[object, ...]:
        """By the order of the new file, then of the old one; the template of a line before others."""
        shape = specificity(self.region.template, exact=True)
        lines = [side.line for side in (self.new, self.old)]
        own = [line is not None and specificity(line.template, exact=True) == shape for line in lines]
        orders = next(((number, line.order) for number, line in enumerate(lines) if line is not None), (2, 0))
        return (*orders, not own[0], not own[1], len(self.region.segments), self.region.template.text)


def _widest(alike: list[_At]) -> Iterator[_At]:
    """Of regions in which the same decides, those that no other one contains."""
    ordered = sorted(alike, key=lambda at: at.rank)
    for number, at in enumerate(ordered):
        if not any(
            overlap(other.region.template, at.region.template)
            and (place < number or not overlap(at.region.template, other.region.template))
            for place, other in enumerate(ordered)
            if place != number
        ):
            yield at


def _at_actions(
    old: Side, new: Side, compared_access: AccessComparison, terms: tuple[Terms, Terms]
) -> Iterator[CellChange]:
    """What changes at actions that no known route serves: what their own lines ask is compared."""
    sides = [{line.name: line for line in side.actions} for side in (old, new)]
    for name in dict.fromkeys((*sides[1], *sides[0])):
        lines = sides[0].get(name), sides[1].get(name)
        formulas = [line.requirement.formula if line is not None else None for line in lines]
        questions = [() if formula is None else (formula,) for formula in formulas]
        keys = [None if formula is None else side.key(formula) for side, formula in zip(terms, formulas, strict=True)]
        for weighed in compared_access.weigh((questions[0], questions[1]), (("action", keys[0]), keys[1])):
            if weighed.change is not None:
                kind = weighed.kind
                yield CellChange(
                    "action",
                    name,
                    kind.role,
                    kind.holding,
                    weighed.change,
                    *weighed.words(),
                    weighed.proved,
                    None,
                    *lines,
                )


def _templates(*policies: Policy) -> Iterator[Template]:
    """Every template, those of endpoints first."""
    yield from (line.template for policy in policies for line in policy.endpoints)
    for policy in policies:
        yield from (line.template for line in policy.standing)
        yield from (left_out for line in policy.standing for left_out in line.excepts)
        yield from (denial.template for denial in policy.answers.denials if denial.template is not None)


def _methods(*policies: Policy) -> tuple[str, ...]:
    """Every method that something names, with any other one first, and HEAD behind GET."""
    named = {
        method
        for policy in policies
        for methods in (
            *(line.methods for line in chain(policy.endpoints, policy.standing)),
            *(denial.methods for denial in policy.answers.denials),
        )
        for method in methods
    }
    if "GET" in named:
        named.add("HEAD")
    return ANY, *sorted(named, key=lambda name: (COMMON.index(name) if name in COMMON else 9, name))


def _named(sides: tuple[Situation, Situation]) -> set[str]:
    return {method for side in sides if side.line is not None for method in side.line.methods}


def _sent(method: str, *policies: Policy) -> str:
    """A method to send: for any other method, one that nothing names."""
    if method != ANY:
        return method
    named = _methods(*policies)
    return next(
        other for other in (*COMMON, "TRACE", *(f"OTHER-{n}" for n in range(len(named) + 1))) if other not in named
    )


def _roles(policy: Policy) -> object:
    roles = policy.roles
    closures = {name: frozenset(roles.kinds_of(bits)) for name, bits in roles.closure_of.items()}
    apart = {frozenset(name for name, _ in members) for members in roles.every_apart()}
    groups = {name: frozenset(roles.names(bits)) for name, bits in roles.groups.items()}
    things = {name: (thing.parameters, thing.parent, thing.by) for name, thing in roles.things.by_name.items()}
    return closures, frozenset(roles.names(roles.base)), groups, apart, things


def _denials(policy: Policy) -> object:
    """Everything that an answer rests on, beside the reason."""
    messages = {name: condition.message for name, condition in policy.conditions.items()}
    entries = [
        (
            denial.methods,
            denial.template and denial.template.text,
            denial.reason,
            denial.kind,
            denial.status,
            denial.to,
            denial.message,
        )
        for denial in policy.answers.denials
    ]
    return entries, messages


def _standing(policy: Policy) -> object:
    return [(line.methods, line.pattern, line.requirement.words()) for line in policy.standing]


def _endpoints(old: Side, new: Side) -> Iterator[EndpointChange]:
    """The lines that one of them has not."""
    for one, other, is_new in ((new, old, True), (old, new, False)):
        shapes = {(method, shape) for method, shape, _ in _shapes(other.policy)}
        for method, shape, line in _shapes(one.policy):
            if (method, shape) not in shapes:
                region = regions_of([line.template]).found[-1]
                sent = _sent(method, old.policy, new.policy)
                covered = other.policy.lookup.find(sent, list(region.segments))
                yield EndpointChange(method, line.template.text, is_new, line, covered)
        names = {line.name for line in other.actions}
        for action in one.actions:
            if action.name not in names:
                yield EndpointChange("action", action.name, is_new, action, None)


def _shapes(policy: Policy) -> Iterable[tuple[str, object, Line]]:
    return (
        (method, specificity(line.template, exact=True), line)
        for line in policy.endpoints
        for method in line.methods or (ANY,)
    )
