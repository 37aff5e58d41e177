"""Questions of the Authorization API, read from JSON (OpenID AuthZEN Authorization API 1.0)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from ..language.errors import BloodrootError

MOST = 1000  # evaluations in one request


class BadQuestion(BloodrootError):
    """A question that cannot be read; the message says what is wrong."""


class Semantic(StrEnum):
    """When the answering of several questions ends."""

    ALL = "execute_all"
    FIRST_DENIAL = "deny_on_first_deny"
    FIRST_PERMIT = "permit_on_first_permit"


@dataclass(slots=True)
class Entity:
    """A subject or a resource: its type, its id, and what is said of it."""

    type: str
    id: str
    properties: Mapping[str, Any] = field(default_factory=dict)


@dataclass(slots=True)
class Evaluation:
    """One question.

    Attributes:
        subject: who.
        action: what is to be done.
        resource: with what.
        context: what else is said.
    """

    subject: Entity
    action: str
    resource: Entity
    context: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Evaluations:
    """Several questions; one that is not complete is a sentence that says so.

    Attributes:
        each: the questions.
        semantic: when answering ends.
        alone: whether it was one question, which is answered by one decision.
    """

    each: tuple[Evaluation | BadQuestion, ...]
    semantic: Semantic = Semantic.ALL
    alone: bool = False


def one(body: Any) -> Evaluation:
    """A question.

    Raises:
        BadQuestion: it is not complete, or of the wrong shape.
    """
    if type(body) is not dict:
        raise BadQuestion("the body must be a JSON object")
    return Evaluation(
        entity(body, "subject"), action_in(body), entity(body, "resource"), object_in(body.get("context"), "context")
    )


def several(body: Any) -> Evaluations:
    """Several questions with what they have in common; without a list of them it is one.

    Raises:
        BadQuestion: the whole is of the wrong shape.
    """
    if type(body) is not dict:
        raise BadQuestion("the body must be a JSON object")
    entries = body.get("evaluations")
    if entries is None or entries == []:
        return Evaluations((one(body),), alone=True)
    if not isinstance(entries, list) or not all(type(each) is dict for each in entries):
        raise BadQuestion("evaluations must be a list of objects")
    if len(entries) > MOST:
        raise BadQuestion(f"there are {len(entries)} evaluations, and at most {MOST} are answered at once")
    wanted = object_in(body.get("options"), "options").get("evaluations_semantic", Semantic.ALL)
    if wanted not in list(Semantic):
        raise BadQuestion(f"options.evaluations_semantic is none of {', '.join(Semantic)}")
    common = {name: body[name] for name in ("subject", "action", "resource", "context") if name in body}
    evaluations: list[Evaluation | BadQuestion] = []
    for entry in entries:
        try:
            # A member of an entry takes the place of the common one as a whole.
            evaluations.append(one({**common, **entry}))
        except BadQuestion as error:
            evaluations.append(error)
    return Evaluations(tuple(evaluations), Semantic(wanted))


def entity(body: Mapping[str, Any], name: str, *, with_id: bool = True) -> Entity:
    """A subject or a resource.

    Raises:
        BadQuestion: it is missing, or of the wrong shape.
    """
    value = body.get(name)
    if type(value) is not dict:
        raise BadQuestion(f"{name} is missing, or no object")
    of_type, of_id = value.get("type"), value.get("id", "")
    if not isinstance(of_type, str) or not of_type:
        raise BadQuestion(f"{name}.type is missing, or no string")
    if with_id and (not isinstance(of_id, str) or not of_id):
        raise BadQuestion(f"{name}.id is missing, or no string")
    properties = value.get("properties")
    if properties is not None and type(properties) is not dict:
        raise BadQuestion(f"{name}.properties must be an object")
    return Entity(of_type, of_id if isinstance(of_id, str) else "", properties or {})


def action_in(body: Mapping[str, Any]) -> str:
    """The name of the action.

    Raises:
        BadQuestion: it is missing.
    """
    value = body.get("action")
    name = value.get("name") if type(value) is dict else None
    if not isinstance(name, str) or not name:
        raise BadQuestion("action.name is missing, or no string")
    return name


def object_in(value: Any, where: str) -> Mapping[str, Any]:
    """An object; an empty one in the place of null.

    Raises:
        BadQuestion: it is something else.
    """
    if value is None:
        return {}
    if type(value) is not dict:
        raise BadQuestion(f"{where} must be an object")
    return value
