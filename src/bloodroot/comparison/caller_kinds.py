"""The kinds of callers that two policies are compared for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import chain, combinations, islice, product
from math import inf
from typing import NamedTuple

from ..core.caller import Caller, group_of_kind, imagined, in_another, kind_of_group
from ..core.formulas import Conjunction, Formula, Negated, walk
from ..core.policy import Policy
from ..core.requirements import (
    HELD,
    Holding,
    HoldingAt,
    HoldingIn,
    HoldingSomewhere,
    PermissionAsked,
    permissions_in,
    roles_in,
)
from ..core.roles import ANYONE, kind_of_role

_MOST_TOGETHER = 1_024
_MOST_BY_PERMISSION = 8_192


# What the old policy asks, and what the new one asks.
Asked = tuple[tuple[Formula, ...], tuple[Formula, ...]]


@dataclass(frozen=True, slots=True)
class CallerKind:
    """Callers who have something in common.

    Attributes:
        role: ``signed-out``, ``signed-in``, a role, a group, or several of these as in ``curator with auditor``.
        roles: the roles, and groups as `kind_of_group` writes them; None for signed-out callers.
        holding: what else they have, in words; an empty string for nothing else.
        granted: permissions that the directory gives them.
        scopes: the permissions that their token is for; None for a token that holds nothing back.
        closed: whether a token with scopes opens no line that asks for a role itself.
    """

    role: str
    roles: tuple[str, ...] | None
    holding: str = ""
    granted: tuple[str, ...] = ()
    scopes: tuple[str, ...] | None = None
    closed: bool = False

    def caller(self) -> Caller | None:
        """Such a caller, of whom nothing else is known."""
        if self.roles is None:
            return None
        plain = imagined(*self.roles)
        granted = dict.fromkeys(self.granted, "a directory")
        return replace(plain, scopes=self.scopes, granted=granted, scoped_roles=() if self.closed else None)


SIGNED_OUT, SIGNED_IN = CallerKind("signed-out", None), CallerKind("signed-in", ())


def single_kinds(old: Policy, new: Policy) -> tuple[CallerKind, ...]:
    """Signed-out and signed-in callers, and a kind for each role of either policy, from least to most.

    A group is a kind as well where it gives other roles than before; any other one is its roles.
    """
    names = dict.fromkeys((*new.roles.kinds, *old.roles.kinds))
    every = (*names, *in_another(names), *changed_groups(old, new))
    return SIGNED_OUT, SIGNED_IN, *(CallerKind(name, (name,)) for name in every)


def changed_groups(old: Policy, new: Policy) -> list[str]:
    """The groups that give other roles in one policy than in the other, as kinds of callers."""
    names = (kind_of_group(name) for name in dict.fromkeys((*new.roles.groups, *old.roles.groups)))
    return [name for name in names if _given(old, name) != _given(new, name)]


def _given(policy: Policy, name: str) -> frozenset[str]:
    """What a role or a group gives, as kinds of callers."""
    return frozenset(policy.roles.kinds_of(_bits_of(policy, name)))


def _bits_of(policy: Policy, name: str) -> int:
    group = group_of_kind(name)
    if group is not None:
        return policy.roles.groups.get(group, 0)
    return policy.roles.closure_of.get(name, 0)


Names = Callable[[Formula], Iterable[str]]


def permission_names(formula: Formula) -> Iterator[str]:
    """The permissions that a formula asks for."""
    return (permission.name for permission in permissions_in(formula))


def asks_together(formulas: Iterable[Formula], names_in: Names = roles_in) -> float:
    """How many roles are asked for together at most: sets of no more of them show all that any set of roles shows.

    Where no role is excluded, a caller is let in because of some of the roles, one for each part that must hold.

    Args:
        formulas: what must hold together.
        names_in: the roles that a formula asks for; or its permissions, to ask the same of these.

    Returns:
        The number; infinity where a role is excluded, so that more roles may be less.
    """
    return sum(_together(formula, names_in, {}) for formula in formulas)


def _together(formula: Formula, names_in: Names, known: dict[int, float]) -> float:
    found = known.get(id(formula))
    if found is None:
        found = known[id(formula)] = _asked_together(formula, names_in, known)
    return found


def _asked_together(formula: Formula, names_in: Names, known: dict[int, float]) -> float:
    if not any(True for _ in names_in(formula)):
        return 0
    if isinstance(formula, Negated):
        return inf
    if isinstance(formula, PermissionAsked) and names_in is permission_names:
        return 1
    inner = [_together(part, names_in, known) for part in formula.children]
    if isinstance(formula, Conjunction):
        return sum(inner)
    return max(inner, default=1)


def telling_roles(old: Policy, new: Policy, formulas: Iterable[Formula]) -> list[str]:
    """The roles that formulas ask for, and those by which a caller holds others of them than before."""
    formulas = list(formulas)
    asked_for = dict.fromkeys(name for formula in formulas for name in roles_in(formula))
    names = list(asked_for)
    for name in (*dict.fromkeys((*new.roles.bit_of, *old.roles.bit_of)), *changed_groups(old, new)):
        bits = [(policy, policy.roles.base | _bits_of(policy, name)) for policy in (old, new)]
        held = [asked_for.keys() & policy.roles.kinds_of(mask) for policy, mask in bits]
        if name not in asked_for and held[0] != held[1]:
            names.append(name)
    if any(isinstance(part, HoldingSomewhere) for formula in formulas for part in walk(formula)):
        # Who is viewer here, and editor somewhere else.
        names += in_another(names)
    return names


class CallerKinds(NamedTuple):
    """Kinds of callers.

    Attributes:
        kinds: the kinds.
        complete: whether they are all.
    """

    kinds: list[CallerKind]
    complete: bool


def kinds_together(old: Policy, new: Policy, question: Asked) -> CallerKinds:
    """Kinds of callers with more than one of the roles that are asked for, those with fewer roles first.

    Roles that either policy keeps apart are left out: a caller who holds both is compared by what is kept apart.

    Args:
        old: the old policy.
        new: the new one.
        asked: what each of them asks.
    """
    names = telling_roles(old, new, chain.from_iterable(question))
    most = max(map(asks_together, question))
    kinds: list[CallerKind] = []
    level: list[tuple[str, ...]] = [(name,) for name in names]
    # Of sets of roles that come to the same the first one speaks for all: roles that include each other make few.
    seen = {_bits(old, new, chosen) for chosen in level}
    while level and len(level[0]) < most:
        following = []
        for chosen in level:
            for name in names:
                together = tuple(each for each in names if each in chosen or each == name)
                bits = _bits(old, new, together)
                if bits is None or bits in seen:
                    continue
                seen.add(bits)
                if len(kinds) == _MOST_TOGETHER:
                    return CallerKinds(kinds, False)
                kinds.append(CallerKind(" with ".join(together), together))
                following.append(together)
        level = following
    return CallerKinds(kinds, True)


def _bits(old: Policy, new: Policy, roles: tuple[str, ...]) -> tuple[int, int, frozenset[str]] | None:
    """What roles come to in both policies; None where one of them keeps them apart."""
    one, other = (_sum(policy, roles) for policy in (old, new))
    # What is held in another record has no bits where the question is.
    elsewhere = frozenset(name for name in roles if name not in old.roles.bit_of and name not in new.roles.bit_of)
    return None if old.roles.are_apart(one) or new.roles.are_apart(other) else (one, other, elsewhere)


def _sum(policy: Policy, names: tuple[str, ...]) -> int:
    bits = policy.roles.base
    for name in names:
        bits |= _bits_of(policy, name)
    return bits


def kind_apart(old: Policy, new: Policy) -> list[CallerKind]:
    """Callers with two roles that both policies keep apart; all such callers are treated alike."""
    caller_kinds: list[CallerKind] = []
    for members in new.roles.apart:
        for one, other in combinations([name for name, _ in members], 2):
            if not caller_kinds and old.roles.held(Caller(roles=(one, other))).apart:
                caller_kinds = [CallerKind(f"{one} with {other}", (one, other))]
    for thing in new.roles.apart_in:
        for pair in sorted(_apart_in(old, thing) & _apart_in(new, thing))[:1]:
            names = tuple(kind_of_role(name, thing) for name in pair)
            caller_kinds.append(CallerKind(" with ".join(names), names))
    return caller_kinds


def names_apart_once(old: Policy, new: Policy) -> tuple[tuple[str, ...], ...]:
    """Roles and groups that come to roles kept apart in one policy only, because of what they give there.

    What one policy alone declares to be kept apart is said once, and not at each endpoint.
    """
    every = [*dict.fromkeys((*new.roles.bit_of, *old.roles.bit_of)), *changed_groups(old, new)]
    changed = [name for name in every if _given(old, name) != _given(new, name)]
    pairs: dict[tuple[str, ...], None] = {}
    for one in changed:
        for other in every:
            names = (one,) if one == other else tuple(sorted((one, other)))
            conflicts = [_conflicts(policy, names) for policy in (old, new)]
            if bool(conflicts[0]) != bool(conflicts[1]) and any(conflicts) and _declared_twice(old, new, *conflicts):
                pairs.setdefault(names)
    return tuple(pairs)


def kinds_apart_once(
    apart: Iterable[tuple[str, ...]], telling: Iterable[str], together: Iterable[CallerKind]
) -> CallerKinds:
    """Callers with names of `names_apart_once`, alone and with what else makes a difference.

    Args:
        apart: the names.
        telling: the roles that make a difference.
        together: the kinds with several of these.
    """
    more = [(), *((name,) for name in telling), *(kind.roles or () for kind in together)]
    sets = dict.fromkeys(tuple(dict.fromkeys((*pair, *names))) for pair in apart for names in more)
    kinds = [CallerKind(" with ".join(names), names) for names in islice(sets, _MOST_TOGETHER)]
    return CallerKinds(kinds, len(kinds) == len(sets))


def _conflicts(policy: Policy, names: tuple[str, ...]) -> frozenset[frozenset[str]]:
    """The pairs of roles that are kept apart, and that a caller with these roles and groups holds."""
    bits = _sum(policy, names)
    held = ([name for name, bit in members if bits & bit] for members in policy.roles.every_apart())
    return frozenset(frozenset(pair) for found in held for pair in combinations(found, 2))


def _declared_twice(old: Policy, new: Policy, *conflicts: frozenset[frozenset[str]]) -> bool:
    """Whether both policies keep one of these pairs apart."""
    declared = [
        {frozenset(pair) for members in policy.roles.every_apart() for pair in combinations([n for n, _ in members], 2)}
        for policy in (old, new)
    ]
    return any(pair in declared[0] and pair in declared[1] for found in conflicts for pair in found)


def _apart_in(policy: Policy, thing: str) -> set[tuple[str, ...]]:
    """The pairs of roles that are kept apart in each record of a thing."""
    sets = ([name for name, _ in members] for members in policy.roles.apart_in.get(thing, ()))
    return {pair for names in sets for pair in combinations(sorted(names), 2)}


def kinds_by_permission(old: Policy, new: Policy, question: Asked, together: Iterable[CallerKind]) -> CallerKinds:
    """Callers with permissions of their own, and those with tokens that are made for less than they may do.

    Args:
        old: the old policy.
        new: the new one.
        asked: what each of them asks.
        together: the kinds with several roles that make a difference.
    """
    formulas = tuple(formula for asked in question for formula in asked)
    names = list(dict.fromkeys(name for formula in formulas for name in permission_names(formula)))
    kinds = [SIGNED_IN, *(CallerKind(name, (name,)) for name in telling_roles(old, new, formulas)), *together]
    most = min(max(asks_together(formulas, permission_names) for formulas in question), len(names))
    sets: list[tuple[str, ...]] = [(), *((name,) for name in names)]
    for count in range(2, int(most) + 1):
        sets += islice(combinations(names, count), _MOST_TOGETHER)
    complete = len(sets) <= _MOST_TOGETHER
    sets = sets[:_MOST_TOGETHER]
    tokens = [(None, False), *((each, closed) for each in sets for closed in (False, True))]
    caller_kinds: list[CallerKind] = []
    for kind, granted, (named, closed) in product(kinds, sets, tokens):
        if granted or named is not None:
            words = [f"granted {' and '.join(granted)}"] if granted else []
            if named is not None:
                words.append(f"a token for {' and '.join(named) or 'no permission'}{' alone' if named else ''}")
                words += ["for which roles of its owner do not count"] if closed else []
            if len(caller_kinds) == _MOST_BY_PERMISSION:
                return CallerKinds(caller_kinds, False)
            caller_kinds.append(CallerKind(kind.role, kind.roles, ", ".join(words), granted, named, closed))
    return CallerKinds(caller_kinds, complete)


def asks_for_defaults(policy: Policy, formulas: Iterable[Formula]) -> bool:
    """Whether formulas ask for what every signed-in caller holds: to be signed in, or a role by default."""
    return any(part.mask & policy.roles.base and part.mask & ANYONE != ANYONE for part in _asked_itself(formulas))


def given_by_roles(policy: Policy, formulas: Iterable[Formula]) -> dict[str, tuple[str, ...]]:
    """For each role by which one that formulas ask for is held, without those by default: which ones it gives."""
    mask = 0
    for part in _asked_itself(formulas):
        mask |= part.mask
    given = {name: policy.roles.kinds_of(_bits_of(policy, name) & mask) for name in policy.roles.bit_of}
    return {name: names for name, names in given.items() if names}


def _asked_itself(formulas: Iterable[Formula]) -> Iterator[Holding | HoldingIn | HoldingSomewhere | HoldingAt]:
    """What is asked of a caller's roles; whom permissions are given to is asked of the owner of a token."""
    waiting = [*formulas]
    while waiting:
        part = waiting.pop()
        if isinstance(part, HELD):
            yield part
        elif not isinstance(part, PermissionAsked):
            waiting += part.children
