"""Two policies compared: every endpoint for every kind of caller, and what code may ask for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import chain

from ..checks.reasoning import Proof, Reasoner
from ..core.formulas import Formula
from ..core.lines import Line
from ..core.methods import ANY, COMMON
from ..core.paths import Template, specificity
from ..core.policy import Policy
from .beside import changed_conditions, changed_declarations, changed_fields, changed_permissions
from .changes import CellChange, Change, Comparison, EndpointChange
from .evidence import Spotted, answers_differ, shown
from .kinds import single_kinds
from .regions import Region, regions_of
from .sides import Situation, Terms, naming, situation
from .weighing import Weighed, Weighing

Solver = Callable[[Formula, Formula], Proof]


def compare(
    old: Policy, new: Policy, solver: Solver | None = None, *, old_name: str = "old", new_name: str = "new"
) -> Comparison:
    """Compare two policies.

    Args:
        old: the old policy.
        new: the new one; bound to the same routes where they name actions.
        solver: what answers hard questions about conditions, or None.
        old_name: what the old one is called.
        new_name: what the new one is called.
    """
    reasoner = Reasoner(solver)
    weighing = Weighing(old, new, reasoner, single_kinds(old, new))
    at_endpoints = _AtEndpoints(old, new, weighing)
    cells = tuple(at_endpoints.cells())
    policies, terms = (old, new), at_endpoints.terms
    fields = tuple(changed_fields(policies, terms, weighing))
    permissions = tuple(changed_permissions(policies, terms, weighing))
    return Comparison(
        old,
        new,
        old_name,
        new_name,
        cells,
        tuple(_endpoints(old, new)),
        fields,
        permissions,
        tuple(changed_conditions(policies, reasoner)),
        tuple(changed_declarations(policies)),
        tuple(_left_open(at_endpoints.complete, weighing)),
    )


def _left_open(complete: bool, weighing: Weighing) -> Iterator[str]:
    if not complete:
        yield "the templates have too many paths in common; requests that several of them cover were not all compared"
    if weighing.left_open:
        yield "a line requires so many roles together that not every combination of them was compared"


class _AtEndpoints:
    """What changes at endpoints.

    Attributes:
        complete: whether every path was looked at.
    """

    def __init__(self, old: Policy, new: Policy, weighing: Weighing) -> None:
        self.old = old
        self.new = new
        self.weighing = weighing
        ids: dict[object, int] = {}
        self.terms = Terms(old, ids), Terms(new, ids)
        self.same_roles = _roles(old) == _roles(new)
        self.same_denials = _denials(old) == _denials(new)
        regions = regions_of(_templates(old, new))
        self.regions = regions.found
        self.complete = regions.complete

    def cells(self) -> Iterator[CellChange]:
        """Every change, by the order of the new file, then of the old one."""
        chosen: dict[object, tuple[tuple[object, ...], Region, str, Situation, Situation]] = {}
        methods = _methods(self.old, self.new)
        for region in self.regions:
            found = {}
            for method in methods:
                sides = situation(self.old, region, method), situation(self.new, region, method)
                found[method] = sides
                if method == "HEAD" and found.get("GET") == sides:
                    continue
                if method != ANY and method not in _named(sides) and found.get(ANY) == sides:
                    continue
                key = method, sides
                rank = _rank(region, *sides)
                if key not in chosen or rank < chosen[key][0]:
                    chosen[key] = rank, region, method, *sides
        for _, region, method, one, other in sorted(chosen.values(), key=lambda each: each[0]):
            yield from self._at(region, method, one, other)

    def _at(self, region: Region, method: str, one: Situation, other: Situation) -> Iterator[CellChange]:
        names = naming((*reversed(other.lines), *reversed(one.lines)))
        asked = self.terms[0].asked(one.lines, names), self.terms[1].asked(other.lines, names)
        # In no order: that of the lines matters for what a refusal says, not for what is asked.
        keys = tuple(tuple(sorted(set(map(terms.key, each)))) for terms, each in zip(self.terms, asked, strict=True))
        same_answers = self.same_denials and one.denials == other.denials
        if keys[0] == keys[1] and self.same_roles and same_answers:
            return
        sent = _sent(method, self.old, self.new)
        where = Spotted(sent, region, names)
        for weighed in self.weighing.weigh(asked, (keys[0], keys[1])):
            yield from self._cell(where, method, region, weighed, one.line, other.line)

    def _cell(
        self, where: Spotted, method: str, region: Region, weighed: Weighed, old: Line | None, new: Line | None
    ) -> Iterator[CellChange]:
        kind, change = weighed.kind, weighed.change
        words = weighed.words()
        evidence = None
        if change is None or change is Change.ANSWER:
            found = answers_differ(self.old, self.new, where, weighed, self.weighing.reasoner)
            if found is None and change is None:
                return
            if found is not None:
                words, evidence = found[:2], found[2]
            change = Change.ANSWER
        else:
            evidence = shown(self.old, self.new, where, weighed)
        path = region.template.text
        yield CellChange(method, path, kind.role, kind.holding, change, *words, weighed.proved, evidence, old, new)


def _templates(*policies: Policy) -> Iterator[Template]:
    for policy in policies:
        yield from (line.template for line in chain(policy.endpoints, policy.standing))
        yield from (each.template for each in policy.answers.denials if each.template is not None)


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
        each for each in (*COMMON, "TRACE", *(f"OTHER-{n}" for n in range(len(named) + 1))) if each not in named
    )


def _rank(region: Region, one: Situation, other: Situation) -> tuple[object, ...]:
    """Of several regions where the same decides, the one to name: the template of a line, the new one first."""
    shape = specificity(region.template, exact=True)
    own = [side.line is not None and specificity(side.line.template, exact=True) == shape for side in (other, one)]
    orders = (
        (0, other.line.order) if other.line is not None else (1, one.line.order) if one.line is not None else (2, 0)
    )
    return (*orders, not own[0], not own[1], len(region.segments), region.template.text)


def _roles(policy: Policy) -> object:
    roles = policy.roles
    closures = {name: frozenset(roles.names(bits)) for name, bits in roles.closure.items()}
    apart = {frozenset(name for name, _ in members) for members in roles.apart}
    return closures, frozenset(roles.names(roles.base)), apart


def _denials(policy: Policy) -> object:
    """Everything that an answer rests on, beside the reason."""
    messages = {name: each.message for name, each in policy.conditions.items()}
    entries = [
        (each.methods, each.template and each.template.text, each.reason, each.kind, each.status, each.to, each.message)
        for each in policy.answers.denials
    ]
    return entries, messages


def _endpoints(old: Policy, new: Policy) -> Iterator[EndpointChange]:
    """The lines that one of them has not."""
    for one, other, is_new in ((new, old, True), (old, new, False)):
        known = {(method, shape) for method, shape, _ in _shapes(other)}
        for method, shape, line in _shapes(one):
            if (method, shape) not in known:
                region = regions_of([line.template]).found[-1]
                sent = _sent(method, old, new)
                covered = other.engine.line(sent, list(region.segments))
                yield EndpointChange(method, line.template.text, is_new, line, covered)


def _shapes(policy: Policy) -> Iterable[tuple[str, object, Line]]:
    return (
        (method, specificity(line.template, exact=True), line)
        for line in policy.endpoints
        for method in line.methods or (ANY,)
    )
