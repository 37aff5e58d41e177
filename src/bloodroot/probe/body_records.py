"""Records that a body names: ``"{sample.own-piece.piece_id}"`` becomes the identifier of each record of a sample."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..core.decision import Outcome
from ..settings import Body
from .plan import Case

_MOST_OTHERS = 3  # records of others that a persona's own is sent with
_NAMED = re.compile(r"\{sample\.([^{}.]+)\.([^{}.]+)\}")


@dataclass(frozen=True, slots=True)
class NamedInBody:
    """What a body takes from samples.

    Attributes:
        conditions: the conditions whose samples it names.
        parameters: the values that it takes from them.
    """

    conditions: tuple[str, ...] = ()
    parameters: tuple[str, ...] = ()


def named_in(body: Body | None) -> NamedInBody:
    """What a body takes from samples."""
    found = list(_named(body.content)) if body is not None else []
    conditions, parameters = (tuple(dict.fromkeys(pair[number] for pair in found)) for number in (0, 1))
    return NamedInBody(conditions, parameters)


def _named(value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, str):
        yield from ((match[1], match[2]) for match in _NAMED.finditer(value))
    elif isinstance(value, Mapping):
        for item in value.values():
            yield from _named(item)
    elif isinstance(value, list):
        for item in value:
            yield from _named(item)


def filled_body(body: Body, values: Mapping[str, str]) -> Body:
    """A body with the values of a record. One that is a number in JSON stays one."""
    return Body(body.kind, _filled(body.content, values, is_json=body.kind == "json"))


def _filled(value: Any, values: Mapping[str, str], *, is_json: bool) -> Any:
    if isinstance(value, str):
        whole = _NAMED.fullmatch(value)
        if whole is not None and is_json and values[whole[2]].isdecimal():
            return int(values[whole[2]])
        return _NAMED.sub(lambda match: values[match[2]], value)
    if isinstance(value, Mapping):
        return {name: _filled(item, values, is_json=is_json) for name, item in value.items()}
    return [_filled(item, values, is_json=is_json) for item in value] if isinstance(value, list) else value


def mixed_body(body: Body, own: Mapping[str, str], other: Mapping[str, str]) -> Body | None:
    """A body whose lists name a record of one's own and one of others; None where it has no such list."""
    mixed = _mixed(body.content, own, other, is_json=body.kind == "json")
    return Body(body.kind, mixed) if mixed != filled_body(body, own).content else None


def _mixed(value: Any, own: Mapping[str, str], other: Mapping[str, str], *, is_json: bool) -> Any:
    if isinstance(value, list) and any(True for _ in _named(value)):
        return [_filled(item, values, is_json=is_json) for values in (own, other) for item in value]
    if isinstance(value, Mapping):
        return {name: _mixed(item, own, other, is_json=is_json) for name, item in value.items()}
    return _filled(value, own, is_json=is_json)


def with_others(body: Body, named: NamedInBody, cases: list[Case]) -> list[Case]:
    """Requests whose body names records of others beside one's own.

    Where it has a list of them, both are in it. Where the path names a record too, it is one's own, and the body names
    another.

    Args:
        body: the body, with the names of samples in it.
        named: these names.
        cases: the requests for one endpoint as one persona.
    """
    asked = [case for case in cases if case.in_body]
    own = next((case for case in asked if case.allowed), None)
    others = sorted((case for case in asked if case.by_record and not case.allowed), key=lambda case: not case.owned)
    if own is None:
        return []
    found: list[Case] = []
    for other in others[:_MOST_OTHERS]:
        mixed = mixed_body(body, own.values, other.values)
        if mixed is not None:
            words = f"in one list with one's own: {other.in_body}"
            found.append(replace(other, body=mixed, in_body=words, spelled=words, changes=words, plain=own))
        shared = {name: other.values[name] for name in named.parameters if name in own.asked.template.names}
        if shared:
            words = f"at the address of one's own: {other.in_body}"
            sent = filled_body(body, {**own.values, **shared})
            there = replace(own, declared=Outcome.DENY, answer=other.answer, sample=other.sample, body=sent)
            found.append(replace(there, in_body=words, spelled=words, changes=words, plain=own))
    return found


def with_names(body: Body, parameters: Mapping[str, str]) -> Body:
    """A body whose fields are called as parameters of samples take their values from these.

    Args:
        body: a body from a document, whose values are of no record.
        parameters: by the name of a field, the condition whose samples have a value for it.
    """
    return Body(body.kind, _renamed(body.content, parameters))


def _renamed(value: Any, parameters: Mapping[str, str]) -> Any:
    if isinstance(value, Mapping):
        return {
            name: f"{{sample.{parameters[name]}.{name}}}"
            if name in parameters and isinstance(item, str | int)
            else _renamed(item, parameters)
            for name, item in value.items()
        }
    return [_renamed(item, parameters) for item in value] if isinstance(value, list) else value
