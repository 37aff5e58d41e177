"""What is possible for a caller, for pages and APIs to show: permissions, and endpoints such as ``GET /trials/new``."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import quote

from ..language.errors import UnknownNameError
from ..language.problems import suggestion
from .decision import Outcome
from .formulas import CAN_BE_TRUE, TRUE
from .methods import covers
from .paths import Parameter, Template, TemplateError, parse_template, read_path
from .permissions import permission_named, remaining
from .question import Question
from .records import MISSING, attribute
from .request_facts import counted_as, facts_of
from .requirements import PATH, asks_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from .caller import Caller
    from .evaluate import Evaluator
    from .formulas import Facts, Formula
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
        endpoints: what was found of endpoints before, by name; more is put there.
        caller: who asks; None for a signed-out caller.
        names: permissions, and endpoints: a method and a path, in which ``{id}`` is replaced by the record's ``id``.

    Raises:
        UnknownNameError: the policy has no such permission.
    """

    def __init__(
        self, evaluator: Evaluator, endpoints: dict[str, FlaggedEndpoint], caller: Caller | None, names: Iterable[str]
    ) -> None:
        self._caller = caller
        # A token for less opens lines and not what standing rules ask: each endpoint is decided as a whole.
        self._is_closed = is_closed = (
            caller is not None and caller.scopes is not None and caller.scoped_roles is not None
        )
        self._tests = _Tests(evaluator, caller)
        self._flags: list[tuple[str, list[int], FlaggedEndpoint | None]] = []
        # The names that paths take from a record, each with an endpoint that does.
        self._taken: dict[str, FlaggedEndpoint] = {}
        for name in names:
            written = _ENDPOINT.fullmatch(name)
            if written is None:
                tests = self._tests.of(permission_named(evaluator.resolver, name))
                self._flags.append((name, tests, None))
            else:
                endpoint = _endpoint(evaluator, endpoints, name, written)
                asks = endpoint.asks if not is_closed else None
                tests = [number for asked in asks or () for number in self._tests.of_line(asked)]
                self._flags.append((name, tests, endpoint if asks is None or endpoint.taken else None))
                if asks is not None:
                    self._taken.update(dict.fromkeys(endpoint.taken.values(), endpoint))

    def of(self, record: Any = None) -> dict[str, bool]:
        """Which of the questions hold, for this record where it depends on one; by name, in the order given.

        Raises:
            UnknownNameError: no line covers an endpoint, or the record does not have what its path requires.
        """
        texts = {name: endpoint.text(record, name) for name, endpoint in self._taken.items()}
        tests, is_odd = self._tests, None in texts.values()
        tests.take(record, texts)
        flags = {}
        for name, numbers, endpoint in self._flags:
            decides = endpoint is not None and (is_odd or endpoint.asks is None or self._is_closed)
            if endpoint is not None and decides and (self._is_closed or not endpoint.is_covered(texts)):
                flags[name] = endpoint.decided(self._caller, record)
            else:
                flags[name] = not numbers or tests.hold(numbers)
        return flags


class _Test(NamedTuple):
    """What must be true of a caller and a record.

    Attributes:
        predicate: what must be true.
        facts: what is known of the caller; the record is put in.
        names: where the parameters of the path are from; None where it does not rest on the path.
    """

    predicate: Predicate
    facts: Facts
    names: _Asked | None


class _Tests:
    """What is asked of one caller: each remaining requirement once, however many endpoints and permissions ask it."""

    def __init__(self, evaluator: Evaluator, caller: Caller | None) -> None:
        self._evaluator = evaluator
        self._callers = [(each, facts_of(evaluator.roles, each)) for each in counted_as(evaluator.roles, caller)]
        self._facts = [facts for _, facts in self._callers]
        self._tests: list[_Test] = []
        self._numbers: dict[tuple[Formula, int], int] = {}
        self._results: list[bool | None] = []
        self._texts: Mapping[str, str | None] = {}

    def of(self, formula: Formula) -> list[int]:
        """The tests that all must hold for a requirement, by number."""
        numbers = []
        for place, (counted, facts) in enumerate(self._callers):
            left = remaining(self._evaluator, formula, counted, facts)
            if left.formula is not TRUE:
                key = left.formula, place
                if key not in self._numbers:
                    self._numbers[key] = self._add(_Test(left.predicate, facts, None))
                numbers.append(self._numbers[key])
        return numbers

    def of_line(self, asked: _Asked) -> list[int]:
        """The same for a line of an endpoint, or a rule, which may rest on the path as well."""
        if not asked.given and not asked.taken:
            return self.of(asked.formula)
        numbers = []
        for counted, facts in self._callers:
            left = remaining(self._evaluator, asked.formula, counted, facts)
            if left.formula is not TRUE:
                own = facts.with_()
                self._facts.append(own)
                numbers.append(self._add(_Test(left.predicate, own, asked)))
        return numbers

    def _add(self, test: _Test) -> int:
        self._tests.append(test)
        return len(self._tests) - 1

    def take(self, record: Any, texts: Mapping[str, str | None]) -> None:
        """Go on to a record, and to what it has by name as text of a path."""
        for facts in self._facts:
            facts.record = record
            if facts.there is not None:
                facts.there = replace(facts.there, record=record)
        self._texts = texts
        self._results = [None] * len(self._tests)

    def hold(self, numbers: list[int]) -> bool:
        """Whether all of these tests hold; each is made once, and only when it is asked for."""
        results = self._results
        for number in numbers:
            result = results[number]
            if result is None:
                predicate, facts, names = self._tests[number]
                if names is not None:
                    texts = {name: self._texts[source] for name, source in names.taken.items()}
                    facts.path = {**names.given, **texts}
                result = results[number] = predicate(facts) == CAN_BE_TRUE
            if not result:
                return False
        return True


class _Asked(NamedTuple):
    """What a line or a rule asks.

    Attributes:
        formula: what has to hold.
        given: the parameters of the path that it rests on and that are the same for each record.
        taken: for the others, what the record has as their text.
    """

    formula: Formula
    given: dict[str, str]
    taken: dict[str, str]


class FlaggedEndpoint:
    """An endpoint, asked for one record after another.

    Where the same line and rules decide whatever the record has, they are found once. Everything else is decided as a
    request is.

    Attributes:
        taken: for each segment of the path that is a value of the record, by place, its name.
        asks: what the line and the rules ask, whatever the record has; None where that cannot be said before.
    """

    def __init__(self, evaluator: Evaluator, method: str, path: str) -> None:
        self._evaluator, self._method, self._path = evaluator, method, path
        self._segments: list[str] = []
        self.taken: dict[int, str] = {}
        self.asks = self._found_once()

    def is_covered(self, texts: Mapping[str, str | None]) -> bool:
        """Whether the tests are all that is asked for a record that has these texts."""
        return self.asks is not None and all(texts[name] is not None for name in self.taken.values())

    def _found_once(self) -> list[_Asked] | None:
        template = self._template()
        line = self._evaluator.lookup.for_all(self._method, template) if template is not None else None
        if line is None or template is None:
            return None
        asks = []
        for each in (*self._evaluator.lookup.standing, line):
            covered = each.overlaps(template) if covers(each.methods, self._method) else False
            asked = self._asked_by(each) if covered else None
            if covered is None or (covered and asked is None):
                return None
            if asked is not None:
                asks.append(asked)
        return asks

    def _asked_by(self, line: Line) -> _Asked | None:
        """What a line or a rule asks; None where a parameter of its path is a part of a segment, or names a record."""
        if self._evaluator.names_things(line):
            return None
        formula = line.requirement.formula
        asked = _Asked(formula, {}, {})
        if not asks_of(formula) & PATH:
            return asked
        for place, part in enumerate(line.template.segments):
            if isinstance(part, Parameter):
                if not part.bare:
                    return None
                if place in self.taken:
                    asked.taken[part.name] = self.taken[place]
                else:
                    asked.given[part.name] = self._segments[place]
        return asked

    def _template(self) -> Template | None:
        """The path as a template with a parameter for each of the record's own values; None where it is none."""
        parts = []
        segments = read_path(_FROM_RECORD.sub("x", self._path))
        if segments is None:
            return None
        for place, part in enumerate(self._path.strip("/").split("/") if segments else []):
            whole = _FROM_RECORD.fullmatch(part)
            if whole is not None:
                self.taken[place] = whole[1]
                self._segments.append("")
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

    def decided(self, caller: Caller | None, record: Any) -> bool:
        """Whether a request to the endpoint is allowed, decided as a request is."""
        path = _FROM_RECORD.sub(lambda match: quote(str(self._value(record, match[1])), safe=""), self._path)
        question = Question(caller, self._method, path)
        question.record = record
        decision = self._evaluator.decide(question, read_path(path))
        if decision.line is None and decision.reason == "closed":
            # A misspelled path would otherwise hide a link for good, and no one would know why.
            endpoints = (f"{m} {line.template.text}" for line in self._evaluator.lookup.endpoints for m in line.methods)
            endpoint = f"{self._method} {self._path}"
            raise UnknownNameError(f'no line of the policy covers "{endpoint}"{suggestion(endpoint, endpoints)}')
        return decision.outcome is Outcome.ALLOW

    def text(self, record: Any, name: str) -> str | None:
        """What a record has by a name, as text of a path; None where a path would have to encode it."""
        value = self._value(record, name)
        if value.__class__ is int:
            return str(value)
        text = str(value)
        return text if _SIMPLE(text) else None

    def _value(self, record: Any, name: str) -> Any:
        value = attribute(record, name) if record is not None else MISSING
        if value is MISSING or value is None:
            raise UnknownNameError(f'"{self._method} {self._path}" requires the {name} of a record, and there is none')
        return value


def _endpoint(
    evaluator: Evaluator, endpoints: dict[str, FlaggedEndpoint], name: str, written: re.Match[str]
) -> FlaggedEndpoint:
    """An endpoint, which is looked for once in a policy: the same ones are asked for with each page."""
    endpoint = endpoints.get(name)
    if endpoint is None:
        if len(endpoints) >= _MOST:
            endpoints.clear()
        endpoint = endpoints[name] = FlaggedEndpoint(evaluator, written[1], written[2])
    return endpoint


_MOST = 1024  # names may be made from anything
