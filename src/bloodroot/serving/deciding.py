"""Questions of the Authorization API answered by a policy."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError

from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome
from ..core.permissions import knows
from ..core.requirements import in_words
from ..enforce import Driver
from ..identity.fresh import Unknown
from ..language.errors import BloodrootError
from ..request import PlainRequest
from .questions import BadQuestion, Entity, Evaluation, Evaluations, Semantic

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..identity import Directory
    from ..settings import Asker, ServeRules

_LOG = logging.getLogger("bloodroot.audit")

Answer = dict[str, Any]


class Unavailable(BloodrootError):
    """What has to be known cannot be asked at present."""


class _Failed(BloodrootError):
    """A question that cannot be answered; it is refused, with a status of HTTP that says why."""

    def __init__(self, status: int, message: str) -> None:
        self.status = status
        super().__init__(message)


@dataclass(frozen=True, slots=True)
class Known:
    """A caller who is known already, in the place of a request that would say who asks."""

    caller: Caller | None


def caller_of(known: Known) -> Caller | None:
    """The caller; made to be the ``identify`` of a driver."""
    return known.caller


class Decider:
    """Answers questions.

    Args:
        policy: gives the policy that is in force.
        driver: the same policy in front of requests, with what loads records; its callers are what it is given.
        rules: what actions are called, and what is believed of whom.
        directory: where subjects are looked up, or None.
    """

    def __init__(
        self, policy: Callable[[], Policy], driver: Driver, rules: ServeRules, directory: Directory | None
    ) -> None:
        self._policy = policy
        self._driver = driver
        self._rules = rules
        self._directory = directory

    async def all_of(self, questions: Evaluations, asker: Asker, request: str) -> Answer:
        """The answer to several questions, or to one.

        Raises:
            Unavailable: the directory cannot be asked.
        """
        ends = {Semantic.FIRST_DENIAL: False, Semantic.FIRST_PERMIT: True}.get(questions.semantic)
        found: list[Answer] = []
        for each in questions.each:
            found.append(
                _failed(400, str(each)) if isinstance(each, BadQuestion) else await self.one(each, asker, request)
            )
            if ends is not None and found[-1]["decision"] is ends:
                break
        return found[0] if questions.alone else {"evaluations": found}

    async def one(self, question: Evaluation, asker: Asker, request: str) -> Answer:
        """The answer to one question.

        Raises:
            Unavailable: the directory cannot be asked.
        """
        caller: Caller | None = None
        try:
            caller = await self.caller_of(question.subject, asker)
            decision = await self._decision(question, caller, asker)
        except _Failed as error:
            answer = _failed(error.status, str(error))
        except Unidentified as error:
            answer = {"decision": False, "context": {"reason": "signed-out", "message": error.reason}}
        else:
            answer = _said(decision)
        self._write_down(question, asker, request, caller, answer)
        return answer

    async def caller_of(self, subject: Entity, asker: Asker) -> Caller | None:
        """The caller that a subject is; None for a signed-out one.

        Raises:
            Unidentified: the directory has no such member, or it may not act.
            Unavailable: the directory cannot be asked.
        """
        if subject.type == "anonymous":
            return None
        if subject.type != "user":
            raise _Failed(404, f'subjects are of the type user or anonymous, and not "{subject.type}"')
        said = subject.properties
        if "roles" in asker.believed and ("roles" in said or self._directory is None):
            rest = {name: value for name, value in said.items() if name not in ("roles", "groups", "scopes")}
            scopes = _names(said, "scopes") if "scopes" in said else None
            return Caller(subject.id, _names(said, "roles"), _names(said, "groups"), rest, scopes)
        if self._directory is None:
            raise _Failed(403, "there is no directory to look the subject up in, and this asker may not say its roles")
        try:
            member = self._directory.remembered(subject.id)
            if isinstance(member, Unknown):
                member = await to_thread.run_sync(self._directory.member, subject.id)
            return self._directory.judged(member, subject.id, None)
        except SQLAlchemyError as error:
            raise Unavailable("the directory cannot be asked at present") from error

    async def _decision(self, question: Evaluation, caller: Caller | None, asker: Asker) -> Decision:
        policy, resource = self._policy(), question.resource
        action = self._rules.actions.get(question.action, question.action)
        record = dict(resource.properties) if "records" in asker.believed and resource.properties else None
        if resource.type == "endpoint":
            return await self._at_endpoint(policy, caller, action, resource.id, record, question.context)
        name = f"{resource.type}:{action}"
        if not knows(policy.resolver, name) or name.endswith("*"):
            raise _Failed(404, f'the policy knows no permission "{name}"')
        return policy.check(caller, policy.guard(name), record=record)

    async def _at_endpoint(
        self,
        policy: Policy,
        caller: Caller | None,
        method: str,
        target: str,
        record: Mapping[str, Any] | None,
        context: Mapping[str, Any],
    ) -> Decision:
        path, _, sent = target.partition("?")
        if not path.startswith("/"):
            raise _Failed(400, "the id of an endpoint is its path, as it is sent: it begins with /")
        query = context.get("query")
        if query is not None and not (
            isinstance(query, Mapping) and all(isinstance(each, str) for pair in query.items() for each in pair)
        ):
            raise _Failed(400, "context.query must be an object of strings")
        from urllib.parse import parse_qs

        values: dict[str, Any] = {name: found[0] for name, found in parse_qs(sent, keep_blank_values=True).items()}
        values.update(query or {})
        decision = policy.decide(caller, method, path, record=record, query=values)
        if decision.outcome is not Outcome.DEPENDS or record is not None:
            return decision
        request = PlainRequest(method, path, (), query_string=sent)
        with self._driver.handling(request, own=Known(caller)) as handling:
            await handling.enter_async()
            return decision if handling.decision is None else handling.decision

    def _write_down(
        self, question: Evaluation, asker: Asker, request: str, caller: Caller | None, answer: Answer
    ) -> None:
        if not _LOG.isEnabledFor(logging.INFO):
            return
        context = answer.get("context", {})
        values = {
            "request": request,
            "asker": asker.name,
            "caller": caller.id if caller is not None else None,
            "roles": sorted(caller.roles) if caller is not None else None,
            "method": question.action,
            "path": question.resource.id if question.resource.type == "endpoint" else None,
            "resource": f"{question.resource.type} {question.resource.id}",
            "line": context.get("line"),
            "outcome": "allow" if answer["decision"] else "deny",
            "reason": context.get("reason") or context.get("error", {}).get("message"),
        }
        _LOG.info("%s asks of %s: %s", asker.name, values["resource"], values["outcome"], extra=values)


def _names(said: Mapping[str, Any], name: str) -> list[str]:
    value = said.get(name, [])
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        raise _Failed(400, f"subject.properties.{name} must be a list of names")
    return value


def _failed(status: int, message: str) -> Answer:
    return {"decision": False, "context": {"error": {"status": status, "message": message}}}


def _said(decision: Decision) -> Answer:
    """A decision as an answer."""
    if decision.outcome is Outcome.ALLOW:
        return {"decision": True}
    context: dict[str, Any] = {"reason": decision.reason or "depends"}
    if decision.outcome is Outcome.DEPENDS and decision.remainder is not None:
        context["remainder"] = in_words(decision.remainder)
    answer = decision.answer
    if answer is not None and decision.outcome is not Outcome.DEPENDS:
        context |= {"message": answer.message, "status": answer.status}
        if answer.location is not None:
            context["location"] = answer.location
    place = decision.place
    if place is not None:
        context["line"] = f"{place.source.name.rpartition('/')[2]}:{place.line}"
    return {"decision": False, "context": context}
