"""Searches: who may do something, with what, and what one may do (Authorization API 1.0, search)."""

from __future__ import annotations

import asyncio
import base64
import binascii
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError

from ..core.caller import Caller, Unidentified
from ..core.decision import Outcome
from ..core.methods import COMMON
from ..enforce.rows import RowsError
from ..settings import SettingsError
from .questions import BadQuestion, Entity, Evaluation, action_in, entity, object_in
from .subjects import Unanswered, Unavailable

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..identity import Member
    from ..settings import Asker
    from .deciding import Decider

_USUAL, _MOST = 100, 1000  # results of a page
_EXAMINED, _AT_ONCE = 20_000, 200  # members of a page


@dataclass(frozen=True, slots=True)
class _Page:
    """Which part of the results is wanted: behind what, and how many."""

    after: str | None
    limit: int


class Search:
    """Answers searches, each by the decisions that evaluations would give."""

    def __init__(self, decider: Decider) -> None:
        self._decider = decider

    async def subjects(self, body: Any, asker: Asker) -> dict[str, Any]:
        """The members of the directory who may do something.

        Raises:
            BadQuestion: it is not complete, or of the wrong shape.
            Unanswered: there is no directory that lists members, or what is asked has no meaning.
            Unavailable: the directory cannot be asked.
        """
        body = object_in(body, "the body")
        if entity(body, "subject", with_id=False).type != "user":
            raise Unanswered(404, "subjects that can be searched are of the type user")
        resource = entity(body, "resource")
        question = Evaluation(Entity("user", "-"), action_in(body), resource, object_in(body.get("context"), "context"))
        page, found = _page(body), list[dict[str, Any]]()
        members = await self._members_after(page.after)
        directory = self._decider.subjects.directory
        assert directory is not None
        last, policy = None, self._decider.policy
        for place, member in enumerate(members):
            if len(found) == page.limit or place == _EXAMINED:
                return _results(found, last)
            last = str(member.id)
            if place % _AT_ONCE == 0:
                await asyncio.sleep(0)  # others are answered meanwhile
            try:
                caller = directory.judged(member, member.id, None)
            except Unidentified:
                continue
            if (await self._decider.decision(question, caller, asker, policy)).outcome is Outcome.ALLOW:
                found.append({"type": "user", "id": last})
        return _results(found)

    async def _members_after(self, after: str | None) -> list[Member]:
        directory = self._decider.subjects.directory
        if directory is None:
            raise Unanswered(501, "there is no directory to search")
        try:
            members = await to_thread.run_sync(directory.members)
        except SettingsError as error:
            raise Unavailable(str(error)) from error
        if after is None:
            return members
        place = next((place for place, member in enumerate(members) if str(member.id) == after), None)
        if place is None:
            raise BadQuestion("the member at which the last page ended is gone; begin again without page.token")
        return members[place + 1 :]

    async def resources(self, body: Any, asker: Asker) -> dict[str, Any]:
        """The records of a thing with which a subject may do something.

        Raises:
            BadQuestion: it is not complete, or of the wrong shape.
            Unanswered: the settings name no class of such records, or the policy asks what its table cannot say.
            Unavailable: the directory or the database cannot be asked.
        """
        body = object_in(body, "the body")
        thing, page = entity(body, "resource", with_id=False).type, _page(body)
        model = self._decider.models.get(thing)
        if model is None:
            raise Unanswered(501, f'no class of the records of "{thing}" is known: [serve.models] names none')
        policy = self._decider.policy
        permission = self._decider.permission(policy, thing, self._decider.action(action_in(body)))
        caller = await self._caller(body, asker)
        if isinstance(caller, Unidentified):
            return _results([])
        try:
            listed = await to_thread.run_sync(model.listed, policy, caller, permission, page.after, page.limit + 1)
        except RowsError as error:
            raise Unanswered(501, f"{permission} cannot be asked of the table of {thing}") from error
        except SQLAlchemyError as error:
            raise Unavailable(f"the records of {thing} cannot be asked at present") from error
        results = [{"type": thing, "id": each} for each in listed[: page.limit]]
        return _results(results, listed[page.limit - 1] if len(listed) > page.limit else None)

    async def actions(self, body: Any, asker: Asker) -> dict[str, Any]:
        """What a subject may do with a resource, in the order of names.

        Raises:
            BadQuestion: it is not complete, or of the wrong shape.
            Unanswered: it has no meaning here.
            Unavailable: the directory or a record cannot be asked.
        """
        body = object_in(body, "the body")
        resource, page = entity(body, "resource"), _page(body)
        question = Evaluation(entity(body, "subject"), "", resource, object_in(body.get("context"), "context"))
        caller = await self._caller(body, asker)
        if isinstance(caller, Unidentified):
            return _results([])
        found, policy = [], self._decider.policy
        for name in self._names(policy, resource.type):
            decision = await self._decider.decision(replace(question, action=name), caller, asker, policy)
            if decision.outcome is Outcome.ALLOW and (page.after is None or name > page.after):
                found.append({"name": name})
        more = found[page.limit - 1]["name"] if len(found) > page.limit else None
        return _results(found[: page.limit], more)

    async def _caller(self, body: Mapping[str, Any], asker: Asker) -> Caller | Unidentified | None:
        try:
            return await self._decider.subjects.caller_of(entity(body, "subject"), asker)
        except Unidentified as error:
            return error

    def _names(self, policy: Policy, kind: str) -> list[str]:
        """What can be done with resources of a kind, as askers call it."""
        if kind == "endpoint":
            meant = {*COMMON, *(method for line in policy.endpoints for method in line.methods)}
        else:
            permissions = policy.resolver.permissions
            meant = {name.partition(":")[2] for name in permissions if name.startswith(f"{kind}:")} - {"*"}
        theirs = self._decider.rules.actions
        names = {name for name, action in theirs.items() if action in meant}
        return sorted(names | (meant - set(theirs.values()) - set(theirs)))


def _results(results: list[dict[str, Any]], last: str | None = None) -> dict[str, Any]:
    token = base64.urlsafe_b64encode(last.encode()).decode() if last is not None else ""
    return {"results": results, "page": {"next_token": token, "count": len(results)}}


def _page(body: Mapping[str, Any]) -> _Page:
    wanted = object_in(body.get("page"), "page")
    token, limit = wanted.get("token"), wanted.get("limit", _USUAL)
    if not isinstance(limit, int) or isinstance(limit, bool) or limit < 1:
        raise BadQuestion(f"page.limit is a number from 1 to {_MOST}")
    if not token:
        return _Page(None, min(limit, _MOST))
    try:
        after = base64.b64decode(token.encode("ascii"), altchars=b"-_", validate=True).decode("utf-8")
    except (AttributeError, ValueError, binascii.Error) as error:
        raise BadQuestion("page.token is not one of a page before") from error
    return _Page(after, min(limit, _MOST))
