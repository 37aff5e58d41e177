"""The kinds of callers that two policies are compared for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import chain, combinations

from ..core.caller import Caller, imagined
from ..core.formulas import Conjunction, Formula, Negated, walk
from ..core.policy import Policy
from ..core.requirements import permissions_in, roles_in

_MOST_TOGETHER = 1_024


@dataclass(frozen=True, slots=True)
class Kind:
    """Callers who have something in common.

    Attributes:
        role: ``signed-out``, ``signed-in``, a role, or roles as in ``curator with auditor``.
        roles: the roles; None for signed-out callers.
        holding: what else they have, in words; an empty string for nothing else.
        granted: permissions that the directory gives them.
        scopes: the permissions that their token is for; None for a token that holds nothing back.
    """

    role: str
    roles: tuple[str, ...] | None
    holding: str = ""
    granted: tuple[str, ...] = ()
    scopes: tuple[str, ...] | None = None

    def caller(self) -> Caller | None:
        """Such a caller, of whom nothing else is known."""
        if self.roles is None:
            return None
        plain = imagined(*self.roles)
        granted = dict.fromkeys(self.granted, "a directory")
        return Caller(plain.id, plain.roles, attributes=plain.attributes, scopes=self.scopes, granted=granted)


SIGNED_OUT, SIGNED_IN = Kind("signed-out", None), Kind("signed-in", ())


def single_kinds(old: Policy, new: Policy) -> tuple[Kind, ...]:
    """Signed-out and signed-in callers, and a kind for each role of either policy, from least to most."""
    names = dict.fromkeys((*new.roles.by_reach(), *old.roles.by_reach()))
    return SIGNED_OUT, SIGNED_IN, *(Kind(name, (name,)) for name in names)


def adds_up(formulas: Iterable[Formula]) -> bool:
    """Whether a caller with several roles is let in just where one of these roles alone, or none, would be.

    It is so where no two parts that must hold together ask for roles, and none is excluded.
    """
    asking = 0
    for formula in formulas:
        asking += any(True for _ in roles_in(formula))
        for part in walk(formula):
            if isinstance(part, Negated) and any(True for _ in roles_in(part)):
                return False
            if isinstance(part, Conjunction) and sum(any(True for _ in roles_in(each)) for each in part.parts) > 1:
                return False
    return asking <= 1


def kinds_together(old: Policy, new: Policy, asked: Iterable[Formula]) -> tuple[list[Kind], bool]:
    """Kinds of callers with more than one of the roles that formulas ask for, those with fewer roles first.

    Roles that either policy keeps apart are left out: a caller who holds both is compared by what is kept apart.

    Returns:
        The kinds, and whether they are all.
    """
    names = list(dict.fromkeys(name for formula in asked for name in roles_in(formula)))
    found: list[Kind] = []
    seen: set[tuple[int, int]] = set()
    for count in range(2, len(names) + 1):
        for chosen in combinations(names, count):
            held = [policy.roles.held(Caller(roles=chosen)) for policy in (old, new)]
            bits = (held[0].bits, held[1].bits)
            if any(each.apart for each in held) or bits in seen:
                continue
            seen.add(bits)
            if len(found) == _MOST_TOGETHER:
                return found, False
            found.append(Kind(" with ".join(chosen), chosen))
    return found, True


def kinds_by_permission(kinds: Iterable[Kind], asked: Iterable[Formula]) -> Iterator[Kind]:
    """Callers with permissions of their own, and those with tokens that are made for less than they may do."""
    names = list(dict.fromkeys(each.name for formula in asked for each in permissions_in(formula)))
    for name in names:
        yield Kind("signed-in", (), f"granted {name}", (name,))
    if len(names) > 1:
        yield Kind("signed-in", (), "granted every permission asked for", tuple(names))
    signed_in = [kind for kind in kinds if kind.roles is not None]
    for kind in signed_in:
        for scopes in chain([()], ((name,) for name in names)):
            words = f"a token for {scopes[0]} alone" if scopes else "a token for no permission"
            yield Kind(kind.role, kind.roles, words, (), scopes)
