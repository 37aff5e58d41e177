"""What each role adds to those that it includes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .decision import Outcome
from .matrix import matrix_of_roles

if TYPE_CHECKING:
    from .matrix import Row
    from .policy import Policy


@dataclass(frozen=True, slots=True)
class Added:
    """One endpoint that a role opens, or opens in more cases.

    Attributes:
        method: its methods.
        path: its path.
        words: ``allow``, or ``if`` and a condition.
    """

    method: str
    path: str
    words: str


@dataclass(frozen=True, slots=True)
class RoleAdds:
    """A role, and what it adds.

    Attributes:
        name: the role; ``signed-in`` for callers with no role beyond the defaults.
        description: what the policy says of it.
        default: whether every signed-in caller has it.
        includes: the roles that it includes directly; for ``signed-in`` the default ones.
        adds: the endpoints at which it is let in and neither the roles that it includes nor a signed-in caller is, or
            only in some cases.
        total: at how many endpoints it is let in, if only sometimes.
    """

    name: str
    description: str
    default: bool
    includes: tuple[str, ...]
    adds: tuple[Added, ...]
    total: int


def roles_added(policy: Policy) -> tuple[RoleAdds, ...]:
    """Every role, from least to most; signed-in callers first."""
    matrix = matrix_of_roles(policy)
    roles = policy.roles
    numbers = {column.name: number for number, column in enumerate(matrix.columns)}
    base = set(roles.names(roles.base))
    added = []
    for name, number in numbers.items():
        if name == "signed-out":
            continue
        included = _direct(policy, name) if name != "signed-in" else tuple(sorted(base, key=list(roles.bit).index))
        beside = [0] if name == "signed-in" else [1, *(numbers[role] for role in included)]
        adds = tuple(
            Added(row.method, row.path, row.cell(number).words())
            for row in matrix.rows
            if _opens(row, number) and not any(_as_open(row, other, number) for other in beside)
        )
        total = sum(1 for row in matrix.rows if _opens(row, number))
        about = (
            roles.descriptions.get(name.partition(" in ")[0], "") if name != "signed-in" else "every signed-in caller"
        )
        added.append(RoleAdds(name, about, name in base, included, adds, total))
    return tuple(added)


def _direct(policy: Policy, name: str) -> tuple[str, ...]:
    """The roles that a role includes, without those that it includes through another one."""
    closure, bit = policy.roles.closure_of, policy.roles.bit_of
    included = [role for role in bit if role != name and closure[name] & bit[role]]
    return tuple(
        role for role in included if not any(closure[other] & bit[role] for other in included if other != role)
    )


def _opens(row: Row, number: int) -> bool:
    return row.cell(number).outcome in (Outcome.ALLOW, Outcome.DEPENDS)


def _as_open(row: Row, one: int, other: int) -> bool:
    """Whether one column is let in wherever another one is, as far as words can tell."""
    return row.cell(one).outcome is Outcome.ALLOW or row.cell(one).words() == row.cell(other).words()
