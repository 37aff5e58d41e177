"""What one member of a directory may do, and through which role, group or grant."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.caller import Caller
from ..core.decision import Outcome
from ..core.matrix import matrix_of_callers
from ..core.policy import Policy
from ..identity.members import Member
from .holdings import Holding, holdings_of, only, without

_LET_IN = (Outcome.ALLOW, Outcome.DEPENDS)


@dataclass(frozen=True, slots=True)
class Allowed:
    """One endpoint that a member may use.

    Attributes:
        method: its methods.
        path: its path.
        words: ``allow``, or ``if`` and a condition.
        through: what lets the member in there, in words: ``role curator``, ``every signed-in caller``.
    """

    method: str
    path: str
    words: str
    through: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class MemberAccess:
    """What one member may do.

    Attributes:
        policy: the policy.
        member: the member.
        holdings: what it holds.
        allowed: the endpoints that it may use, if only sometimes.
        endpoints: how many endpoints there are.
    """

    policy: Policy
    member: Member
    holdings: tuple[Holding, ...]
    allowed: tuple[Allowed, ...]
    endpoints: int


def access_of_member(policy: Policy, member: Member) -> MemberAccess:
    """What a member may do, and through what.

    A member who may not act at present is shown as if it were: the status counts where conditions ask for it.
    """
    holdings = tuple(holdings_of(policy, member))
    callers: dict[str, Caller | None] = {"all": member.caller(), "signed-out": None, "none": only(member).caller()}
    callers |= {f"only {number}": only(member, holding).caller() for number, holding in enumerate(holdings)}
    callers |= {f"without {number}": without(member, holding).caller() for number, holding in enumerate(holdings)}
    matrix = matrix_of_callers(policy, callers)
    names = list(callers)
    allowed = []
    for row in matrix.rows:
        cells = dict(zip(names, matrix.cells(row), strict=True))
        if cells["all"].outcome not in _LET_IN:
            continue
        words = cells["all"].words()
        if cells["signed-out"].outcome in _LET_IN:
            through: tuple[str, ...] = ("anyone",)
        elif cells["none"].words() == words:
            through = ("every signed-in caller",)
        else:
            enough = [n for n in range(len(holdings)) if cells[f"only {n}"].words() == words]
            needed = [n for n in range(len(holdings)) if cells[f"without {n}"].words() != words]
            through = tuple(f"{holdings[n].kind} {holdings[n].name}" for n in enough or needed)
        allowed.append(Allowed(row.method, row.path, words, through))
    return MemberAccess(policy, member, holdings, tuple(allowed), len(matrix.rows))
