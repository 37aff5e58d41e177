"""What is possible for a caller, for pages and APIs to show: permissions, and endpoints such as ``GET /trials/new``."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from ..language.problems import suggestion
from .conditions import MISSING, TRUE, Facts, attribute
from .decision import Outcome

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .caller import Caller
    from .conditions import Formula
    from .policy import Policy

_ENDPOINT = re.compile(r"([A-Z]+) (/.*)")
_FROM_RECORD = re.compile(r"\{([^{}]*)\}")


class Flags:
    """The same questions for one record after another; what rests on the caller alone is worked out once.

    Args:
        policy: what decides.
        caller: who asks; None for a signed-out caller.
        asked: permissions, and endpoints: a method and a path, in which ``{id}`` stands for the record's ``id``.

    Raises:
        LookupError: the policy has no such permission, or no line for such an endpoint.
    """

    def __init__(self, policy: Policy, caller: Caller | None, asked: Iterable[str]) -> None:
        self._policy = policy
        self._caller = caller
        # What is left asks for the record alone, whoever it is left of.
        self._facts = policy.engine.facts_of(policy.engine.counted_as(caller)[0])
        self._permissions: dict[str, Formula] = {}
        self._endpoints: dict[str, tuple[str, str]] = {}
        self._order = list(dict.fromkeys(asked))
        for each in self._order:
            endpoint = _ENDPOINT.fullmatch(each)
            if endpoint is not None:
                self._endpoints[each] = (endpoint[1], endpoint[2])
            else:
                self._permissions[each] = policy.engine.left_of(policy.permission(each), caller)

    def of(self, record: Any = None) -> dict[str, bool]:
        """Which of the questions hold, for this record where it depends on one; by name, in the order asked."""
        facts = self._facts if record is None else replace(self._facts, record=record)
        return {each: self._holds(each, record, facts) for each in self._order}

    def _holds(self, asked: str, record: Any, facts: Facts) -> bool:
        formula = self._permissions.get(asked)
        if formula is not None:
            return formula.fold(facts) is TRUE
        method, path = self._endpoints[asked]
        decision = self._policy.decide(self._caller, method, _filled(path, record, asked), record=record)
        if decision.line is None and decision.reason == "closed":
            # A slip of the pen would otherwise hide a link for good, and nobody would know why.
            known = (f"{m} {line.template.text}" for line in self._policy.endpoints for m in line.methods)
            raise LookupError(f'no line of the policy covers "{asked}"{suggestion(asked, known)}')
        return decision.outcome is Outcome.ALLOW


def _filled(path: str, record: Any, asked: str) -> str:
    """A path with the record's own values in it."""

    def value(match: re.Match[str]) -> str:
        found = attribute(record, match[1]) if record is not None else MISSING
        if found is MISSING or found is None:
            raise LookupError(f'"{asked}" asks for the {match[1]} of a record, and there is none')
        return quote(str(found), safe="")

    return _FROM_RECORD.sub(value, path)
