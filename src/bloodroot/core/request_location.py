"""Where a request is: by its route, the lines that decide, and the records at hand."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .formulas import FAULTY
from .locating import locate
from .values import Value, compare

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from .lines import Line
    from .locating import Location
    from .question import Question
    from .things import Things


def location_at(
    things: Things, question: Question, segments: list[str] | None, lines: Sequence[Line]
) -> Location | None:
    """Where a request is, by the parameters of the route that is served and those of the lines that decide.

    Args:
        things: those of the policy.
        question: what is asked.
        segments: the path; None where there is none.
        lines: the endpoint line, if there is one, and the standing rules that concern the request.

    Returns:
        None where none of them identifies a thing.
    """
    values: dict[str, Any] = {}
    agree = True
    for found in _values_at(question, segments, lines):
        for name, value in found.items():
            if name not in things.by_parameter:
                continue
            known = values.setdefault(name, value)
            # One name for two parts of the path, or for one that is read in two ways.
            agree = agree and (known is value or compare(Value(known, True), "==", Value(value, True)) is True)
    if not values:
        return None
    location = locate(things, things.named(values), values, _records_at(question, segments, lines))
    if not agree:
        location.together = FAULTY
        location.steps.append("the route and the policy read the path in two ways")
    return location


def _values_at(question: Question, segments: list[str] | None, lines: Sequence[Line]) -> Iterator[Mapping[str, Any]]:
    if question.values is not None:
        yield question.values
    for line in lines if segments is not None else ():
        if line.template.names and not (line.action is not None and question.values is not None):
            assert segments is not None
            if line.template.covers(segments):
                yield line.template.values(segments)


def _records_at(question: Question, segments: list[str] | None, lines: Sequence[Line]) -> Mapping[str, Any]:
    """The records at hand by parameter, with the one that the endpoint acts on for the last parameter."""
    records = question.records or {}
    added = {name: question.record for name in names_of_record(question, segments, lines) if records.get(name) is None}
    return {**records, **added} if added else records


def names_of_record(question: Question, segments: list[str] | None, lines: Sequence[Line]) -> list[str]:
    """The parameters that identify the record at hand: the last one of the path, as route and line call it."""
    record, records = question.record, question.records or {}
    if record is None:
        return []
    names = list(question.values)[-1:] if question.values else []
    line = lines[0] if lines else None
    if line is not None and line.template.names and segments is not None and line.template.covers(segments):
        last = line.template.names[-1]
        text = line.template.values(segments)[last]
        if not names or (question.values is not None and str(question.values[names[0]]) == text):
            names.append(last)
    of_another = any(record is other for name, other in records.items() if name not in names)
    return [] if of_another else names
