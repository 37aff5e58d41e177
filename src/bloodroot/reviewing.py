"""Reviews of access: what each member of a directory holds, since when, and what of it was used."""

from __future__ import annotations

import datetime
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from .core.caller import Caller
from .core.decision import Outcome
from .core.matrix import matrix_of_callers
from .core.policy import Policy
from .identity.members import Member
from .tried import TriedError

_LET_IN = (Outcome.ALLOW, Outcome.DEPENDS)


@dataclass(frozen=True, slots=True)
class Holding:
    """One thing that a member was given.

    Attributes:
        kind: ``role``, ``group`` or ``permission``.
        name: its name.
        gives: for a role the roles that it comes to, for a group these and the permissions that the directory gives to
            it, for a permission who gave it.
        known: whether the policy knows it; what it does not know gives nothing.
    """

    kind: str
    name: str
    gives: tuple[str, ...]
    known: bool


@dataclass(frozen=True, slots=True)
class Reviewed:
    """One thing that a member holds, for the review.

    Attributes:
        holding: the thing.
        since: when it was given; None where nothing says so.
        used: when it was last needed for a request that was let in; None where no log says that it was.
    """

    holding: Holding
    since: datetime.datetime | None
    used: datetime.datetime | None


@dataclass(frozen=True, slots=True)
class MemberReview:
    """One member.

    Attributes:
        member: the member.
        holdings: what it holds.
        apart: roles that it holds and that are kept apart; empty for none.
        seen: when a request of this member was last written down; None for never.
    """

    member: Member
    holdings: tuple[Reviewed, ...]
    apart: tuple[str, ...]
    seen: datetime.datetime | None


@dataclass(frozen=True, slots=True)
class Review:
    """The review of all members.

    Attributes:
        policy: the policy.
        members: every member.
        logs: the audit logs that say what was used; empty for none.
        first: the first decision in the logs; None without one.
    """

    policy: Policy
    members: tuple[MemberReview, ...]
    logs: tuple[str, ...]
    first: datetime.datetime | None

    @property
    def unused(self) -> int:
        """How many things were held and, by the logs, never needed."""
        return sum(1 for each in self.members for one in each.holdings if one.used is None) if self.logs else 0


@dataclass(frozen=True, slots=True)
class Use:
    """A request that was let in, by an audit log."""

    caller: str
    method: str
    path: str
    at: datetime.datetime


Given = Mapping[tuple[str, str], datetime.datetime]


def holdings_of(policy: Policy, member: Member) -> Iterator[Holding]:
    """What a member was given: roles, groups and permissions."""
    roles = policy.roles
    for name in sorted(member.roles):
        yield Holding("role", name, roles.names(roles.closure.get(name, 0)), name in roles.bit)
    for name in sorted(member.groups):
        given = tuple(each for each, by in sorted(member.granted.items()) if by.endswith(f"to group {name}"))
        gives = (*roles.names(roles.groups.get(name, 0)), *given)
        yield Holding("group", name, gives, name in roles.groups or bool(given))
    for name, by in sorted(member.granted.items()):
        if any(by.endswith(f"to group {group}") for group in member.groups):
            continue  # the group is what the member holds
        known = policy.engine.resolver.permission(name) is not None or name.endswith("*")
        yield Holding("permission", name, (by,), known)


def without(member: Member, holding: Holding) -> Caller:
    """A member as it would be without one thing."""
    caller = member.caller()
    if holding.kind == "role":
        return replace(caller, roles=frozenset(caller.roles) - {holding.name})
    if holding.kind == "group":
        granted = {name: by for name, by in caller.granted.items() if not by.endswith(f"to group {holding.name}")}
        return replace(caller, groups=frozenset(caller.groups) - {holding.name}, granted=granted)
    return replace(caller, granted={name: by for name, by in caller.granted.items() if name != holding.name})


def alone(member: Member, holding: Holding | None) -> Caller:
    """A member with one thing alone, or with nothing."""
    caller = replace(member.caller(), roles=frozenset(), groups=frozenset(), granted={})
    if holding is None:
        return caller
    whole = member.caller()
    if holding.kind == "role":
        return replace(caller, roles={holding.name})
    if holding.kind == "group":
        granted = {name: by for name, by in whole.granted.items() if by.endswith(f"to group {holding.name}")}
        return replace(caller, groups={holding.name}, granted=granted)
    return replace(caller, granted={holding.name: whole.granted[holding.name]})


def review(
    policy: Policy,
    members: Iterable[Member],
    given: Mapping[Any, Given],
    logs: Iterable[Path] = (),
) -> Review:
    """Review what members hold.

    Args:
        policy: the policy; bound, where it names actions.
        members: the members.
        given: when each of them was given what, by their ids and then by kind and name.
        logs: audit logs that say what was used.

    Raises:
        TriedError: a log cannot be read, or says of no request that it was let in.
    """
    logs = tuple(logs)
    uses: dict[str, list[Use]] = {}
    first: datetime.datetime | None = None
    for use in (use for log in logs for use in read_uses(log)):
        uses.setdefault(use.caller, []).append(use)
        first = use.at if first is None else min(first, use.at)
    found = []
    for member in members:
        own = uses.get(str(member.id), [])
        when = given.get(member.id, {})
        holdings = tuple(
            Reviewed(holding, when.get((holding.kind, holding.name)), _last_used(policy, member, holding, own))
            for holding in holdings_of(policy, member)
        )
        seen = max((use.at for use in own), default=None)
        found.append(MemberReview(member, holdings, policy.roles.held(member.caller()).apart, seen))
    return Review(policy, tuple(found), tuple(map(str, logs)), first)


def _last_used(policy: Policy, member: Member, holding: Holding, uses: Iterable[Use]) -> datetime.datetime | None:
    """When something was last needed: without it, the request would have been refused."""
    caller = without(member, holding)
    needed: dict[tuple[int, str], bool] = {}
    last = None
    for use in uses:
        line = policy.engine.line_for(use.method, use.path)
        if line is None:
            continue
        key = id(line), use.method
        if key not in needed:
            needed[key] = policy.engine.outcome_at(line, use.method, caller)[0] not in _LET_IN
        if needed[key] and (last is None or use.at > last):
            last = use.at
    return last


def read_uses(log: Path) -> Iterator[Use]:
    """The requests that were let in, by an audit log.

    Raises:
        TriedError: it cannot be read, or has none.
    """
    found = 0
    try:
        with log.open(encoding="utf-8", errors="replace") as lines:
            for line in lines:
                use = _use(line)
                if use is not None:
                    found += 1
                    yield use
    except FileNotFoundError:
        raise TriedError(f"{log}: there is no such file") from None
    except OSError as error:
        raise TriedError(f"{log}: this file cannot be read: {error.strerror}") from None
    if not found:
        raise TriedError(
            f'{log}: there is no request in it that was let in; an audit log has these too with Audit("all")'
        )


def _use(line: str) -> Use | None:
    try:
        values = json.loads(line)
    except ValueError:
        return None
    if not isinstance(values, dict) or values.get("outcome") != "allow" or values.get("caller") is None:
        return None
    method, path = values.get("method"), values.get("path")
    try:
        at = datetime.datetime.fromisoformat(str(values.get("time")))
    except ValueError:
        return None
    if not isinstance(method, str) or not isinstance(path, str):
        return None
    return Use(str(values["caller"]), method, path, at if at.tzinfo is not None else at.replace(tzinfo=datetime.UTC))


# One member ---------------------------------------------------------------------------------


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
    callers: dict[str, Caller | None] = {"all": member.caller(), "signed-out": None, "none": alone(member, None)}
    callers |= {f"only {number}": alone(member, each) for number, each in enumerate(holdings)}
    callers |= {f"without {number}": without(member, each) for number, each in enumerate(holdings)}
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
