"""Ways to fill in the path of an endpoint, and what the samples of the settings say of the records they lead to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import parse_qsl, quote, urlencode

from ..core.paths import Parameter
from ..settings import Example, Persona, Settings, SettingsError

if TYPE_CHECKING:
    from .asked_endpoints import AskedEndpoint

_MOST = 64  # records for one endpoint as one persona


class NoValueError(SettingsError):
    """A parameter of a path has no value.

    Attributes:
        name: the parameter.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"no value for {{{name}}}; write {name} = ... under [samples]")


@dataclass(frozen=True, slots=True)
class SampleRecord:
    """One record that an endpoint is asked for.

    Attributes:
        values: the parameters of the path.
        query: the parameters of the query.
        known: by condition, whether it holds for the record, as the samples say.
        marks: by condition that has it in its samples, text that is in this record and in no other.
        settled: by condition, what the policy itself can tell from the path, the query and the caller.
        records: records of things that the path leads to, by parameter, and by thing for those on the way.
        crossed: where the path names records that do not belong together, in words how; else an empty string.
    """

    values: Mapping[str, str] = field(default_factory=dict)
    query: Mapping[str, str] = field(default_factory=dict)
    known: Mapping[str, bool] = field(default_factory=dict)
    marks: Mapping[str, str] = field(default_factory=dict)
    settled: Mapping[str, bool] = field(default_factory=dict)
    records: Mapping[str, Any] = field(default_factory=dict)
    crossed: str = ""

    @property
    def words(self) -> str:
        """What is known of it: ``own-trial holds, draft fails``."""
        known = [f"{name} {'holds' if holds else 'fails'}" for name, holds in self.known.items()]
        return ", ".join([*([f"crossed: {self.crossed}"] if self.crossed else []), *known])


@dataclass(frozen=True, slots=True)
class _Given:
    """An example of a condition, for one persona.

    Attributes:
        name: the condition.
        holds: whether it holds for the record.
        example: the record, with what the persona has.
        own: whether the settings write it with what the persona has.
    """

    name: str
    holds: bool
    example: Example
    own: bool


def records_for(
    settings: Settings,
    names: set[str],
    conditions: Iterable[str],
    persona: Persona,
    examples: Mapping[str, str],
) -> list[SampleRecord]:
    """The records to ask an endpoint for: each combination of the samples that make a difference to it.

    Args:
        settings: with the samples.
        names: the parameters of its path, and what its body takes from samples.
        conditions: what it may depend on.
        persona: who asks. A record that is written with what the persona does not have is left out.
        examples: values for parameters that no sample names.
    """
    given: list[_Given] = []
    for name in conditions:
        sample = settings.samples.get(name)
        for found, holds in ((sample.holds, True), (sample.fails, False)) if sample is not None else ():
            for example in found:
                filled = _filled(settings, example, persona, name)
                if filled is not None and (names & filled.values.keys() or filled.query):
                    own = any("{persona." in text for text in (*example.values.values(), *example.query.values()))
                    given.append(_Given(name, holds, filled, own))
    base = {**examples, **_values(settings, persona, names)}
    records = [SampleRecord()]
    for name in dict.fromkeys(each.name for each in given):
        records = _together(records, [each.example for each in given if each.name == name])[:_MOST]
    return [_told(record, base, given, names) for record in records]


def _filled(settings: Settings, example: Example, persona: Persona, name: str) -> Example | None:
    """An example with what the persona has; None where it lacks something."""
    where = f"samples.{name}"
    try:
        return Example(
            {key: settings.fill(value, persona, where) for key, value in example.values.items()},
            settings.fill(example.mark, persona, where) if example.mark is not None else None,
            {key: settings.fill(value, persona, where) for key, value in example.query.items()},
        )
    except SettingsError:
        return None


def _values(settings: Settings, persona: Persona, names: set[str]) -> dict[str, str]:
    values = {}
    for name in names & settings.values.keys():
        try:
            values[name] = settings.fill(settings.values[name], persona, f"samples.{name}")
        except SettingsError:
            continue
    return values


def _together(records: list[SampleRecord], examples: list[Example]) -> list[SampleRecord]:
    """Records and the examples of one more condition: each pair that is of one record, and what is in no pair."""
    sample_records: list[SampleRecord] = []
    for record in records:
        sample_records += [both for example in examples if (both := _with(record, example)) is not None] or [record]
    sample_records += [
        SampleRecord(example.values, example.query)
        for example in examples
        if all(_with(record, example) is None for record in records)
    ]
    alike = {(tuple(record.values.items()), tuple(record.query.items())): record for record in sample_records}
    return list(alike.values())


def _with(record: SampleRecord, example: Example) -> SampleRecord | None:
    """A record that is that of an example as well; None where the two lead to different ones."""
    for one, other in ((record.values, example.values), (record.query, example.query)):
        if any(one.get(name, value) != value for name, value in other.items()):
            return None
    return SampleRecord({**record.values, **example.values}, {**record.query, **example.query})


def _told(record: SampleRecord, base: Mapping[str, str], given: list[_Given], names: set[str]) -> SampleRecord:
    """A record with all that the samples say of it."""
    values = {**base, **{name: value for name, value in record.values.items() if name in names}}
    said: dict[str, list[_Given]] = {}
    marks: dict[str, str] = {}
    for each in given:
        own = {key: value for key, value in each.example.values.items() if key in names}
        if own.items() <= values.items() and each.example.query.items() <= record.query.items():
            said.setdefault(each.name, []).append(each)
            if each.example.mark is not None:
                marks[each.name] = each.example.mark
    truths: dict[str, bool] = {}
    for name, givens in said.items():
        # What is another's for most personas is this one's own, where the settings say so of the persona.
        counts = [given.holds for given in givens if given.own] or [each.holds for each in givens]
        if len(set(counts)) == 1:
            truths[name] = counts[0]
    return SampleRecord(values, record.query, truths, marks)


class RequestTarget(NamedTuple):
    """Where a request goes.

    Attributes:
        path: the path, as the route spells it.
        query: the query, encoded.
    """

    path: str
    query: str


def target(settings: Settings, endpoint: AskedEndpoint, record: SampleRecord, persona: Persona) -> RequestTarget:
    """The path to a record, as the route spells it, and the query.

    Raises:
        NoValueError: a parameter has no value.
        SettingsError: a value requires something that the persona does not have.
    """
    template = endpoint.template
    # What serves a path may be known by name alone: several routes may be one template, where that is made wider.
    names = (f"action {endpoint.action}", template.text)
    name = next((name for name in names if name in settings.values), None)
    if name is not None:
        path, _, query = settings.fill(settings.values[name], persona, f'samples."{name}"').partition("?")
        return RequestTarget(path, urlencode([*parse_qsl(query, keep_blank_values=True), *record.query.items()]))
    for part in template.segments:
        if isinstance(part, Parameter) and part.name not in record.values:
            if part.name in settings.values:
                settings.fill(settings.values[part.name], persona, f"samples.{part.name}")
            if part.name in settings.candidates:
                raise SettingsError(
                    f"{{{part.name}}} has several records under [samples]; write the one that belongs to the others"
                )
            if part.name in settings.probe.values:
                raise SettingsError(f"the value for {{{part.name}}} is taken from a list of the application")
            raise NoValueError(part.name)
        if not isinstance(part, Parameter | str):
            # Whatever fills a wildcard is a page of its own: only the project knows one.
            text = f"action {endpoint.action}" if endpoint.action is not None else template.text
            raise SettingsError(f'no value for {part.value}; write "{text}" = "/..." under [samples]')
    return RequestTarget(filled_path(endpoint, record.values), urlencode(record.query) if record.query else "")


def filled_path(endpoint: AskedEndpoint, values: Mapping[str, str]) -> str:
    """The path of an endpoint with these values for its parameters, as the route spells it."""
    path = endpoint.template.fill(values)
    if endpoint.slash and not path.endswith("/"):
        path += "/"
    return quote(path, safe="/%-._~!$&'()*+,=:@")
