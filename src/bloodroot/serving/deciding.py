"""Questions of the Authorization API answered by a policy."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError

from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome
from ..core.permissions import knows
from ..core.requirements import in_words
from ..enforce.asgi import call_async
from ..enforce.audit import who_asks
from ..enforce.loaders import read_loaders
from ..request import PlainRequest, query_of
from .in_force import InForce, Known
from .questions import BadQuestion, Entity, Evaluation, Evaluations, Semantic
from .subjects import Subjects, Unanswered, Unavailable

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..enforce.loaders import Records
    from ..settings import Asker, ServeRules
    from .known_records import Model

_LOG = logging.getLogger("bloodroot.audit")

Answer = dict[str, Any]
PERMITTED: Answer = {"decision": True}  # the one answer of this kind


class Decider:
    """Answers questions.

    Args:
        in_force: the policy, with what loads records at endpoints; its callers are what it is given.
        rules: what actions are called.
        subjects: finds callers.
        records: what loads records, for things.
        models: the mapped classes of things.
    """

    def __init__(
        self,
        in_force: InForce,
        rules: ServeRules,
        subjects: Subjects,
        records: Records,
        models: Mapping[str, Model],
    ) -> None:
        self._in_force = in_force
        self.rules = rules
        self.subjects = subjects
        self._loadings = read_loaders(records)
        self.models = models

    @property
    def policy(self) -> Policy:
        """What decides at the moment."""
        return self._in_force.policy

    async def all_of(self, questions: Evaluations, asker: Asker, request: str) -> Answer:
        """The answer to several questions, or to one.

        Raises:
            Unavailable: the directory cannot be asked.
        """
        ends = {Semantic.FIRST_DENIAL: False, Semantic.FIRST_PERMIT: True}.get(questions.semantic)
        answers: list[Answer] = []
        policy = self.policy  # one for all, though its file changes meanwhile
        for each in questions.each:
            answers.append(
                _failed(400, str(each))
                if isinstance(each, BadQuestion)
                else await self.one(each, asker, request, policy)
            )
            if ends is not None and answers[-1]["decision"] is ends:
                break
        return answers[0] if questions.alone else {"evaluations": answers}

    async def one(self, question: Evaluation, asker: Asker, request: str, policy: Policy | None = None) -> Answer:
        """The answer to one question, by the policy in force or a given one.

        Raises:
            Unavailable: the directory cannot be asked.
        """
        policy = policy or self.policy
        caller, decision = None, None
        try:
            caller = await self.subjects.caller_of(question.subject, asker)
            decision = await self.decision(question, caller, asker, policy)
        except Unanswered as error:
            answer = _failed(error.status, str(error))
        except Unidentified as error:
            answer = {"decision": False, "context": {"reason": "signed-out", "message": error.reason}}
        else:
            answer = _said(decision)
        if _LOG.isEnabledFor(logging.INFO):
            held = who_asks(caller, policy, decision)
            _write_down(question, {"request": request, "asker": asker.name, **held}, answer, decision)
        return answer

    async def decision(self, question: Evaluation, caller: Caller | None, asker: Asker, policy: Policy) -> Decision:
        """What is decided of a question.

        Raises:
            Unanswered: it has no meaning here, or there is no such record.
            Unavailable: a record cannot be loaded.
        """
        resource = question.resource
        action = self.action(question.action)
        record = dict(resource.properties) if "records" in asker.believed and resource.properties else None
        if resource.type == "endpoint":
            return await self._at_endpoint(policy, caller, action, resource.id, record, question.context)
        return await self._of_thing(policy, caller, self.permission(policy, resource.type, action), resource, record)

    def action(self, name: str) -> str:
        """An action, as the policy calls it."""
        return self.rules.actions.get(name, name)

    def permission(self, policy: Policy, thing: str, action: str) -> str:
        """The permission to do something with a thing.

        Raises:
            Unanswered: the policy has no such permission.
        """
        name = f"{thing}:{action}"
        if not knows(policy.resolver, name) or name.endswith("*"):
            raise Unanswered(404, f'the policy knows no permission "{name}"')
        return name

    async def _of_thing(
        self, policy: Policy, caller: Caller | None, permission: str, thing: Entity, record: Mapping[str, Any] | None
    ) -> Decision:
        guard = policy.guard(permission)
        decision = policy.check(caller, guard, record=record)
        if decision.outcome is not Outcome.DEPENDS or record is not None:
            return decision
        if (model := self.models.get(thing.type)) is not None:

            def decided() -> Decision:
                with model.opened(thing.id) as found:
                    checked = policy.check(caller, guard, record=_existing(found, thing))
                    _said(checked)  # all of it is worked out while what belongs to the record can be read
                    return checked

            try:
                return await to_thread.run_sync(decided)
            except SQLAlchemyError as error:
                raise Unavailable(f"the records of {thing.type} cannot be asked at present") from error
        if (loading := self._loadings.get(thing.type)) is not None:
            sent = PlainRequest("GET", "/", ())
            loaded = call_async(loading.function, loading.arguments(thing.id, sent, caller), loading.blocks)
            found = await loaded if loading.blocks or hasattr(loaded, "__await__") else loaded
            return policy.check(caller, guard, record=_existing(found, thing))
        return decision

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
            raise Unanswered(400, "the id of an endpoint is its path, as it is sent: it begins with /")
        query = context.get("query")
        if query is not None and not (
            isinstance(query, Mapping) and all(isinstance(each, str) for pair in query.items() for each in pair)
        ):
            raise Unanswered(400, "context.query must be an object of strings")
        # One query, so that both decisions read the same; what is given twice is a list, and equals nothing.
        whole = "&".join(part for part in (sent, urlencode(query)) if part) if query else sent
        values = query_of(whole)
        if values is None:
            raise Unanswered(400, "the query has more parameters than any page sends")
        decision = policy.decide(caller, method, path, record=record, query=values)
        if decision.outcome is not Outcome.DEPENDS or record is not None:
            return decision
        request = PlainRequest(method, path, (), query_string=whole)
        with self._in_force.handling(request, own=Known(caller)) as handling:
            refused = await handling.enter_async()
            found = decision if handling.decision is None else handling.decision
            if refused is not None and found.outcome is Outcome.ALLOW:
                raise Unanswered(refused.status, "what the request is about cannot be loaded")
            return found


def _write_down(question: Evaluation, asked: dict[str, Any], answer: Answer, decision: Decision | None) -> None:
    """Write down what was asked and answered; what could not be decided is no decision."""
    context, at_endpoint = answer.get("context", {}), question.resource.type == "endpoint"
    line = decision.line if decision is not None else None
    values = {
        **asked,
        "method": question.action,
        "path": question.resource.id.partition("?")[0] if at_endpoint else None,
        "resource": None if at_endpoint else f"{question.resource.type} {question.resource.id}",
        "line": line.place.at if line is not None else None,
        "outcome": "unanswered" if decision is None else "allow" if answer["decision"] else "deny",
        "reason": context.get("reason") or context.get("error", {}).get("message"),
    }
    _LOG.info(
        "%s asks of %s: %s", asked["asker"], values["path"] or values["resource"], values["outcome"], extra=values
    )


def _existing(record: Any, thing: Entity) -> Any:
    if record is None:
        raise Unanswered(404, f'there is no {thing.type} "{thing.id}"')
    return record


def _failed(status: int, message: str) -> Answer:
    return {"decision": False, "context": {"error": {"status": status, "message": message}}}


def _said(decision: Decision) -> Answer:
    """A decision as an answer."""
    if decision.outcome is Outcome.ALLOW:
        return PERMITTED
    context: dict[str, Any] = {"reason": decision.reason or "depends"}
    if decision.outcome is Outcome.DEPENDS and decision.remainder is not None:
        context["remainder"] = in_words(decision.remainder)
    answer = decision.answer
    if answer is not None and decision.outcome is not Outcome.DEPENDS:
        context |= {"message": answer.message, "status": answer.status}
        if answer.location is not None:
            context["location"] = answer.location
    place = decision.line.place if decision.line is not None else None
    if place is not None:
        context["line"] = f"{place.source.name.rpartition('/')[2]}:{place.line}"
    return {"decision": False, "context": context}
