"""What changes beside endpoints: fields, and what code may ask for by name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from ..core.formulas import TRUE, Formula
from ..core.policy import Policy
from ..core.reasoning import Reasoner
from ..core.requirements import permissions_in, references_in
from .access_compared import AccessComparison, access_by_formula
from .changes import Change, Declared, NameChange
from .situations import Terms, renamed

Pair = tuple[Policy, Policy]


def changed_fields(
    policies: Pair, terms: tuple[Terms, Terms], compared_access: AccessComparison
) -> Iterator[NameChange]:
    """Fields that some kind of caller reads or changes otherwise."""
    old, new = policies
    for kind in dict.fromkeys((*new.fields, *old.fields)):
        sides = old.fields.get(kind), new.fields.get(kind)
        names = dict.fromkeys(name for rules in reversed(sides) if rules is not None for name in rules.rules)
        # What neither has an entry for falls under *, or under what the endpoint says.
        for name in (*(name for name in names if name != "*"), "*"):
            for verb in ("read", "change"):
                requirements = [rules.required(name, verb) if rules is not None else TRUE for rules in sides]
                yield from _changes(f"{kind}.{name}", verb, (requirements[0], requirements[1]), terms, compared_access)


def changed_permissions(
    policies: Pair, terms: tuple[Terms, Terms], compared_access: AccessComparison
) -> Iterator[NameChange]:
    """Permissions that both policies know, and give to others."""
    old, new = policies
    for name in sorted(_permissions(old) & _permissions(new)):
        one, other = old.resolver.permission(name), new.resolver.permission(name)
        if one is not None and other is not None:
            yield from _changes(name, "", (one, other), terms, compared_access)


def _changes(
    name: str,
    verb: str,
    formulas: tuple[Formula, Formula],
    terms: tuple[Terms, Terms],
    compared_access: AccessComparison,
) -> Iterator[NameChange]:
    keys = terms[0].key(formulas[0]), terms[1].key(formulas[1])
    for weighed in compared_access.weigh(((formulas[0],), (formulas[1],)), (keys, "alone"), access_by_formula):
        if weighed.change is not None and weighed.change is not Change.ANSWER:
            holding = f" ({weighed.kind.holding})" if weighed.kind.holding else ""
            words = weighed.words()
            yield NameChange(name, verb, weighed.kind.role + holding, weighed.change, *words, weighed.proved)


def changed_conditions(policies: Pair, reasoner: Reasoner) -> Iterator[NameChange]:
    """Named conditions that hold in other cases than before; a guard in code may name them."""
    old, new = policies
    for name, other in new.conditions.items():
        one = old.conditions.get(name)
        if one is None or in_order(one.test) == in_order(other.test):
            continue
        wider, narrower = reasoner.implies(other.test, one.test), reasoner.implies(one.test, other.test)
        if wider.holds and narrower.holds:
            continue
        change = Change.DIFFERENT
        if wider.holds:
            change = Change.NARROWED if narrower.holds is False else Change.DIFFERENT
        elif narrower.holds and wider.holds is False:
            change = Change.WIDENED
        proved = None not in (wider.holds, narrower.holds)
        yield NameChange(name, "", "", change, one.test.words(), other.test.words(), proved)


def in_order(test: Formula) -> str:
    """A condition in words, with numbers for the parts of the path: what a line calls them is a matter of form."""
    names = dict.fromkeys(reference.names[0] for reference in references_in(test) if reference.root == "path")
    return renamed(test, {name: f"part {number}" for number, name in enumerate(names)}).words()


def changed_declarations(policies: Pair) -> Iterator[Declared]:
    """Roles, groups, roles kept apart and permissions that one of them declares otherwise, or not at all."""
    old, new = policies
    yield from _differing("role", _closures(old), _closures(new))
    base = old.roles.names(old.roles.base), new.roles.names(new.roles.base)
    if set(base[0]) != set(base[1]):
        yield Declared("default", "every signed-in caller", *base)
    groups = [{name: policy.roles.names(bits) for name, bits in policy.roles.groups.items()} for policy in (old, new)]
    yield from _differing("group", *groups)
    apart = [_apart(policy) for policy in (old, new)]
    yield from _differing("apart", *apart)
    yield from _differing("thing", _things(old), _things(new))
    permissions = _permissions(old), _permissions(new)
    for name in sorted(permissions[1] - permissions[0]):
        yield Declared("permission", name, None, ())
    for name in sorted(permissions[0] - permissions[1]):
        yield Declared("permission", name, (), None)


def _closures(policy: Policy) -> dict[str, tuple[str, ...]]:
    roles = policy.roles
    return {
        name: tuple(each for each in roles.kinds_of(bits) if each != name) for name, bits in roles.closure_of.items()
    }


def _things(policy: Policy) -> dict[str, tuple[str, ...]]:
    """What identifies each thing, and what it belongs to by which attribute."""
    found = {}
    for thing in policy.roles.things.by_name.values():
        belongs = (f"in {thing.parent} by {'.'.join(thing.by)}",) if thing.parent is not None else ()
        found[thing.name] = (*(f"{{{name}}}" for name in thing.parameters), *belongs)
    return found


def _apart(policy: Policy) -> dict[str, tuple[str, ...]]:
    """What is kept apart, pair by pair: how pairs are gathered on lines makes no difference."""
    pairs: dict[str, tuple[str, ...]] = {}
    for members in policy.roles.every_apart():
        names = sorted(name for name, _ in members)
        for number, one in enumerate(names):
            for other in names[number + 1 :]:
                pairs[f"{one} and {other}"] = (one, other)
    return pairs


def _differing(kind: str, old: Mapping[str, tuple[str, ...]], new: Mapping[str, tuple[str, ...]]) -> Iterator[Declared]:
    for name in dict.fromkeys((*new, *old)):
        one, other = old.get(name), new.get(name)
        if (None if one is None else set(one)) != (None if other is None else set(other)):
            yield Declared(kind, name, one, other)


def _permissions(policy: Policy) -> set[str]:
    """The permissions that a policy knows: those it declares, and those its requirements ask for."""
    asking: Iterable[Formula] = (
        # Most lines share what they require with others.
        *(requirement.formula for requirement in {line.requirement for line in (*policy.endpoints, *policy.standing)}),
        *(
            rule
            for rules in policy.fields.values()
            for field_rule in rules.rules.values()
            for rule in (field_rule.read, field_rule.change)
        ),
    )
    return {*policy.permissions, *(permission.name for formula in asking for permission in permissions_in(formula))}
