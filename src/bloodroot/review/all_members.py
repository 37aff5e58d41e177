"""Reviews of access: what each member of a directory holds, since when, and what of it was used."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.decision import Outcome
from ..core.endpoint_outcomes import outcome_at
from ..core.lines import Line
from ..core.policy import Policy
from ..identity.members import Member
from .holdings import Holding, holdings_of, only, without
from .tried import read_log

_LET_IN = (Outcome.ALLOW, Outcome.DEPENDS)


@dataclass(frozen=True, slots=True)
class Reviewed:
    """One thing that a member holds, for the review.

    Attributes:
        holding: the thing.
        since: when it was given; None where nothing says so.
        used: when it was last used: it alone was enough for a request that was let in, or was needed for it; None where
            no log says that it was.
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
        """How many things were held and, by the logs, never used."""
        return (
            sum(1 for member in self.members for holding in member.holdings if holding.used is None) if self.logs else 0
        )


@dataclass(frozen=True, slots=True)
class Use:
    """A request that was let in, by an audit log."""

    caller: str
    method: str
    path: str
    at: datetime.datetime


Given = Mapping[tuple[str, str], datetime.datetime]


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
        JournalError: a log cannot be read, or says of no request that it was let in.
    """
    logs = tuple(logs)
    uses: dict[str, list[Use]] = {}
    first: datetime.datetime | None = None
    for use in (use for log in logs for use in read_uses(log)):
        uses.setdefault(use.caller, []).append(use)
        first = use.at if first is None else min(first, use.at)
    reviews = []
    for member in members:
        own = uses.get(str(member.id), [])
        used = _last_used(policy, member, own)
        when = given.get(member.id, {})
        holdings = tuple(
            Reviewed(holding, when.get((holding.kind, holding.name)), used.get(holding))
            for holding in holdings_of(policy, member)
        )
        seen = max((use.at for use in own), default=None)
        reviews.append(MemberReview(member, holdings, policy.roles.held(member.caller()).apart, seen))
    return Review(policy, tuple(reviews), tuple(map(str, logs)), first)


def _last_used(policy: Policy, member: Member, uses: list[Use]) -> dict[Holding, datetime.datetime]:
    """When each thing that a member holds was last used: it alone opens what was asked for, or it is needed for that.

    What is not used can be taken away, all of it at once, and each of these requests is let in all the same.
    """
    holdings = tuple(holdings_of(policy, member))
    last: dict[tuple[Line, str, str], datetime.datetime] = {}
    for use in uses:
        line = policy.lookup.for_request(use.method, use.path)
        if line is not None:
            # Which record it was makes a difference only where roles are held in records.
            key = line, use.method, use.path if member.roles_in else ""
            last[key] = max(use.at, last.get(key, use.at))

    def let_in(member: Member, line: Line, method: str, path: str) -> bool:
        caller = member.caller()
        outcome = policy.decide(caller, method, path).outcome if path else outcome_at(policy, line, method, caller)[0]
        return outcome in _LET_IN

    used: dict[Holding, datetime.datetime] = {}
    for asked, at in last.items():
        if let_in(only(member), *asked):
            continue  # every signed-in caller may
        for holding in holdings:
            if let_in(only(member, holding), *asked) or not let_in(without(member, holding), *asked):
                used[holding] = max(at, used.get(holding, at))
    # Things that open an endpoint in several combinations are neither enough alone nor needed.
    unused = [holding for holding in holdings if holding not in used]
    rest = without(member, *unused)
    for asked, at in last.items():
        if let_in(member, *asked) and not let_in(rest, *asked):
            used |= {holding: max(at, used.get(holding, at)) for holding in unused}
    return used


def read_uses(log: Path) -> Iterator[Use]:
    """The requests that were let in, by an audit log.

    Raises:
        JournalError: it cannot be read, or has none.
    """
    lacking = 'there is no request in it that was let in; an audit log has these too with Audit("all")'
    return read_log([log], _use, None, lacking)


def _use(values: Mapping[str, Any]) -> Use | None:
    if values.get("outcome") != "allow" or values.get("caller") is None:
        return None
    method, path = values.get("method"), values.get("path")
    try:
        at = datetime.datetime.fromisoformat(str(values.get("time")))
    except ValueError:
        return None
    if not isinstance(method, str) or not isinstance(path, str):
        return None
    return Use(str(values["caller"]), method, path, at if at.tzinfo is not None else at.replace(tzinfo=datetime.UTC))
