"""What is known of a question: the facts that formulas are folded over."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Any

from .caller import Caller, CallerView
from .formulas import Facts
from .locating import there_of
from .requirements import NOW

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .lines import Line
    from .question import Question
    from .roles import Held, RoleTable

# Callers with roles that are kept apart are allowed what both of these are allowed.
ANYONE_AT_ALL: tuple[Caller | None, ...] = (None, Caller())


def counted_as(roles: RoleTable, caller: Caller | None) -> tuple[Caller | None, ...]:
    """The callers that all must be allowed what a caller is to be allowed.

    That is the caller alone. One who holds roles that are kept apart is allowed what is
    allowed to a signed-out caller and to one without a role.
    """
    return ANYONE_AT_ALL if roles.held(caller).apart else (caller,)


def facts_of(
    roles: RoleTable, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None
) -> Facts:
    """What is known of one of the callers of `counted_as`, a record and the arguments of a call."""
    there = there_of(roles, caller, None, record) if roles.things and caller is not None else None
    return facts_for(roles, caller, record=record, args=args, there=there)


def facts_for(roles: RoleTable, caller: Caller | None, **supplied: Any) -> Facts:
    """What is known of a caller, with what else is supplied."""
    held = roles.held(caller)
    now = supplied.pop("now", None) or datetime.datetime.now(datetime.UTC)
    if caller is None:
        return Facts(held.bits, held.bits, now=now, **supplied)
    scopes = frozenset(caller.scopes) if caller.scopes is not None else None
    view = CallerView(caller)
    if scopes is not None and caller.scoped_roles is not None:
        supplied["allowed"] = roles.bits_of_names(caller.scoped_roles)
    return Facts(held.bits, held.bits, caller=view, now=now, scopes=scopes, granted=caller.granted, **supplied)


def known_to_signed_in(question: Question, held: Held, asks: int) -> Facts:
    """What is known of a signed-in caller and the request, but for the parameters of the path."""
    now = question.now
    if now is None and asks & NOW:
        now = datetime.datetime.now(datetime.UTC)
    assert question.caller is not None
    facts = Facts(held.bits, held.bits, CallerView(question.caller), question.record, question.records)
    facts.query, facts.args, facts.now, facts.guarded = question.query, question.args, now, question.guarded
    return facts


def path_facts(question: Question, segments: list[str], each: Line, line: Line) -> dict[str, Any]:
    """The parameters of the path, and the records they identify, as a line or a standing rule calls them.

    A rule, a line and the route that is served may call different parts of the path by one name, or read one part in
    two ways (``07`` and 7). A record counts under a name only where that is the part it was loaded for; a parameter of
    the line whose name the route reads in another way is left out, so that a condition on it is faulty.

    Args:
        question: what is asked.
        segments: the path.
        each: the line or the rule that is weighed.
        line: the line of the endpoint.
    """
    served, records = question.values, question.records
    if served is not None and each.action is not None:
        return {"path": served, "records": records}
    values: dict[str, Any] = each.template.values(segments) if each.template.covers(segments) else {}
    named = served if served is not None else values if each is line else line.template.values(segments)
    if records and named is not values:
        records = {
            name: record for name, record in records.items() if values.get(name, named.get(name)) == named.get(name)
        }
    if served is not None and each is line:
        values = {name: text for name, text in values.items() if served.get(name, text) == text}
    return {"path": values, "records": records}
