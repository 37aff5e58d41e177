"""What is possible for a caller, for pages and APIs to show: permissions, and endpoints such as ``GET /trials/new``."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from ..language.errors import UnknownNameError
from ..language.problems import suggestion
from .decision import Outcome
from .methods import covers
from .paths import Parameter, Template, TemplateError, overlap, parse_template, read_path
from .permissions import permission_named, predicates_of
from .predicates import always
from .question import Question
from .records import MISSING, attribute
from .requirements import PATH, asks_of

if TYPE_CHECKING:
    from collections.abc import Iterable

    from .caller import Caller
    from .evaluate import Evaluator
    from .formulas import Facts
    from .lines import Line
    from .predicates import Predicate

_ENDPOINT = re.compile(r"([A-Z]+) (/.*)")
_FROM_RECORD = re.compile(r"\{([^{}]*)\}")
# Strings that a path holds unencoded, and that can be read in one way only.
_SIMPLE = re.compile(r"[A-Za-z0-9_-][A-Za-z0-9._~-]*").fullmatch


class Flags:
    """The same questions for one record after another; what rests on the caller alone is worked out once.

    Args:
        evaluator: what decides.
        caller: who asks; None for a signed-out caller.
        names: permissions, and endpoints: a method and a path, in which ``{id}`` is replaced by the record's ``id``.

    Raises:
        UnknownNameError: the policy has no such permission.
    """

    def __init__(self, evaluator: Evaluator, caller: Caller | None, names: Iterable[str]) -> None:
        self._flags: dict[str, _Permission | _Endpoint] = {}
        for name in names:
            endpoint = _ENDPOINT.fullmatch(name)
            if endpoint is not None:
                self._flags[name] = _Endpoint(evaluator, caller, endpoint[1], endpoint[2])
            else:
                self._flags[name] = _Permission(
                    predicates_of(evaluator, permission_named(evaluator.resolver, name), caller)
                )

    def of(self, record: Any = None) -> dict[str, bool]:
        """Which of the questions hold, for this record where it depends on one; by name, in the order given.

        Raises:
            UnknownNameError: no line covers an endpoint, or the record does not have what its path requires.
        """
        texts: dict[str, str | None] = {}
        return {name: flag.holds(record, texts) for name, flag in self._flags.items()}


class _Permission:
    """A permission, asked for one record after another."""

    def __init__(self, predicates: list[tuple[Predicate, Facts]]) -> None:
        self._predicates = predicates

    def holds(self, record: Any, texts: dict[str, str | None]) -> bool:  # noqa: ARG002
        for predicate, facts in self._predicates:
            facts.record = record
            if predicate(facts) is not True:
                return False
        return True


@dataclass(frozen=True, slots=True)
class _LinePredicates:
    """What an endpoint's line or a standing rule asks.

    Attributes:
        predicate: what must be true.
        facts: what is known of the caller; the record is put in.
        names: for each parameter of the path that it requires, the segment where it is.
    """

    predicate: Predicate
    facts: Facts
    names: dict[str, int]


class _Endpoint:
    """An endpoint, asked for one record after another.

    Where the same line and rules decide whatever the record has, they are found once. Everything else is decided as a
    request is.
    """

    def __init__(self, evaluator: Evaluator, caller: Caller | None, method: str, path: str) -> None:
        self._evaluator, self._caller, self._method, self._path = evaluator, caller, method, path
        self._segments: list[str | None] = []
        self._from_record: list[tuple[int, str]] = []
        self._asked = self._found_once()

    def holds(self, record: Any, texts: dict[str, str | None]) -> bool:
        """Whether the caller may, for a record.

        Args:
            record: the record.
            texts: what the record has by name, as text of a path, for all endpoints that are asked.
        """
        if self._asked is None:
            return self._decided(record)
        segments = self._segments
        for place, name in self._from_record:
            text = texts[name] if name in texts else self._text(record, name, texts)
            if text is None:
                return self._decided(record)
            segments[place] = text
        for predicates in self._asked:
            facts = predicates.facts
            facts.record = record
            if predicates.names:
                facts.path = {name: segments[place] for name, place in predicates.names.items()}
            if predicates.predicate(facts) is not True:
                return False
        return True

    def _found_once(self) -> list[_LinePredicates] | None:
        """What is asked whatever the record has; None where that cannot be said before."""
        template = self._template()
        line = self._evaluator.lookup.for_all(self._method, template) if template is not None else None
        if line is None or template is None:
            return None
        predicates = []
        for each in (*self._evaluator.lookup.standing, line):
            covered = overlap(each.template, template) if covers(each.methods, self._method) else False
            if covered is None:
                return None
            if covered:
                asked = self._asked_by(each)
                if asked is None:
                    return None
                predicates += asked
        return predicates

    def _asked_by(self, line: Line) -> list[_LinePredicates] | None:
        """What a line or a rule asks of the caller; None where a parameter of its path is a part of a segment."""
        names: dict[str, int] = {}
        if asks_of(line.requirement.formula) & PATH:
            for place, part in enumerate(line.template.segments):
                if isinstance(part, Parameter):
                    if not part.bare:
                        return None
                    names[part.name] = place
        predicates = predicates_of(self._evaluator, line.requirement.formula, self._caller)
        return [_LinePredicates(predicate, facts, names) for predicate, facts in predicates if predicate is not always]

    def _template(self) -> Template | None:
        """The path as a template with a parameter for each of the record's own values; None where it is none."""
        parts = []
        segments = read_path(_FROM_RECORD.sub("x", self._path))
        if segments is None:
            return None
        for place, part in enumerate(self._path.strip("/").split("/") if segments else []):
            whole = _FROM_RECORD.fullmatch(part)
            if whole is not None:
                self._from_record.append((place, whole[1]))
                self._segments.append(None)
                parts.append(f"{{p{place}}}")
            elif part == segments[place]:
                self._segments.append(part)
                parts.append(part)
            else:
                return None
        try:
            return parse_template("/" + "/".join(parts))
        except TemplateError:
            return None

    def _decided(self, record: Any) -> bool:
        """Whether a request to the endpoint is allowed, decided as a request is."""
        path = _FROM_RECORD.sub(lambda match: quote(str(self._value(record, match[1])), safe=""), self._path)
        question = Question(self._caller, self._method, path)
        question.record = record
        decision = self._evaluator.decide(question, read_path(path))
        if decision.line is None and decision.reason == "closed":
            # A misspelled path would otherwise hide a link for good, and no one would know why.
            endpoints = (f"{m} {line.template.text}" for line in self._evaluator.lookup.endpoints for m in line.methods)
            endpoint = f"{self._method} {self._path}"
            raise UnknownNameError(f'no line of the policy covers "{endpoint}"{suggestion(endpoint, endpoints)}')
        return decision.outcome is Outcome.ALLOW

    def _text(self, record: Any, name: str, texts: dict[str, str | None]) -> str | None:
        """What a record has by a name, as text of a path; None where a path would have to encode it."""
        value = self._value(record, name)
        text = str(value)
        texts[name] = found = text if value.__class__ is int or _SIMPLE(text) else None
        return found

    def _value(self, record: Any, name: str) -> Any:
        value = attribute(record, name) if record is not None else MISSING
        if value is MISSING or value is None:
            raise UnknownNameError(f'"{self._method} {self._path}" requires the {name} of a record, and there is none')
        return value
