"""Marks: texts that are in one record alone, who may read that, and pages that no mark would show the records of."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from ..settings import SettingsError

if TYPE_CHECKING:
    from ..core.paths import Template
    from ..settings import Settings
    from .asked_endpoints import AskedEndpoint
    from .facts import Seen
    from .plan import Case, Plan, Secret


def marks_of(settings: Settings) -> Iterator[str]:
    """Every text that the settings say is in one record, or one field, alone; for some personas it is another one."""
    for name, sample in settings.samples.items():
        for example in sample.fails:
            for persona in settings.personas.values() if example.mark is not None else ():
                with contextlib.suppress(SettingsError):  # a persona who has no such record
                    yield settings.fill(example.mark or "", persona, f"samples.{name}")
    for records in settings.things.values():
        yield from (record.mark for record in records.values() if record.mark is not None)
    for fields in settings.probe.fields.values():
        yield from fields.marks.values()


def home_of(template: Template) -> str:
    """Where records of a kind are: the parts of a path before its first parameter."""
    fixed = itertools.takewhile(lambda part: isinstance(part, str), template.segments)
    return "/" + "/".join(map(str, fixed))


_GATHER = {"search", "export", "exports", "report", "reports", "count", "stats", "feed", "all", "list", "index"}
_GATHER_EVERYTHING = {"search", "export", "exports", "feed"}  # wherever they are


def lists_without_marks(
    cases: Collection[Case], secrets: Mapping[str, Collection[Secret]]
) -> dict[tuple[AskedEndpoint, str], tuple[Case, ...]]:
    """Pages that may show a persona records which their own page keeps from it, and that no mark would show.

    A page that lists records is let in for what it is. Only a mark shows what is in it.

    Args:
        cases: the requests.
        secrets: by the name of a persona, what it may not see.

    Returns:
        By page and the name of a persona, the requests for such records.
    """
    readable = readable_records(cases)
    kept: dict[str, dict[tuple[str, str], list[Case]]] = {}
    for case in cases:
        if not case.by_record or not case.is_own_page or may_be_read(case.persona.name, case.values, readable):
            continue
        # Where records of its kind are, and the path that its own is beneath.
        place = home_of(case.asked.template), case.asked.template.text.rpartition("/")[0]
        # A mark of a record is looked for in every answer, that of another area too.
        fails = {name for name, truth in case.known.items() if not truth}
        # One of those that are kept back for the same reason is enough.
        if not any(
            secret.by is None and secret.record.keys() & case.values.keys() and (secret.fails <= fails or not fails)
            for secret in secrets.get(case.persona.name, ())
        ):
            kept.setdefault(case.persona.name, {}).setdefault(place, []).append(case)
    found: dict[tuple[AskedEndpoint, str], tuple[Case, ...]] = {}
    for case in cases:
        if case.method != "GET" or not case.allowed or case.is_own_page:
            continue
        path = case.asked.template.text
        words = {part.partition(".")[0] for part in case.asked.template.segments if isinstance(part, str)}
        for (area, above), records in kept.get(case.persona.name, {}).items():
            inside = path.startswith(f"{area}/") and words & _GATHER
            listed = path in (area, above) or path.startswith((f"{area}.", f"{above}."))
            if listed or inside or words & _GATHER_EVERYTHING:
                key = case.asked, case.persona.name
                found[key] = tuple(dict.fromkeys((*found.get(key, ()), *records)))
    return found


class KeptSecrets:
    """What is kept from whom: for each persona, the marks of records that it may not see."""

    def __init__(self) -> None:
        self._by_persona: dict[str, dict[tuple[str, frozenset[tuple[str, str]]], Secret]] = {}

    def add(self, persona: str, secrets: Iterable[Secret]) -> None:
        """Add what is kept from the persona of a name: a page says it for certain."""
        for secret in secrets:
            known = self._by_persona.setdefault(persona, {})
            key = secret.mark, frozenset(secret.record.items())
            if known.setdefault(key, secret).by is not None and secret.by is None:
                known[key] = secret

    def secrets(self, cases: Collection[Case]) -> dict[str, tuple[Secret, ...]]:
        """All of it, by the name of the persona, as all requests have it."""
        return _kept_from({name: tuple(known.values()) for name, known in self._by_persona.items()}, cases)


def _kept_from(secrets: Mapping[str, tuple[Secret, ...]], cases: Collection[Case]) -> dict[str, tuple[Secret, ...]]:
    """What is kept from each persona at every page of a record; with the endpoint that lets it change that record.

    Args:
        secrets: by the name of a persona, what single endpoints keep from it.
        cases: all requests.
    """
    readable = readable_records(cases)
    deciding = {case.asked for case in cases if case.by_record}
    changed = [case for case in cases if case.allowed and not case.safe and case.asked in deciding]
    found: dict[str, tuple[Secret, ...]] = {}
    for name, several in secrets.items():
        # One mark may be in records of several kinds: it is a secret where each of them is one.
        read = {each.mark for each in several if each.record and may_be_read(name, each.record, readable)}
        left = [secret for secret in several if secret.mark not in read]
        found[name] = tuple(replace(secret, granted=_granted(secret, name, changed)) for secret in left)
    return found


def _granted(secret: Secret, persona: str, changed: Iterable[Case]) -> str:
    """An endpoint that decides by the record and lets a persona change this one; an empty string for none."""
    record = secret.record.items()
    return next(
        (
            case.asked.name
            for case in changed
            if case.persona.name == persona and record and record <= case.values.items()
        ),
        "",
    )


def settled_by_answers(plan: Plan, seen: Mapping[Case, Seen]) -> dict[str, tuple[Secret, ...]]:
    """Of what personas perhaps may not see, that which the answers say is kept from them.

    An endpoint that is asked for by POST is a page of records where those who may use it have changed nothing.
    """
    pages = {secret.by for several in plan.unsure.values() for secret in several if secret.by is not None}
    changes = {case.asked for case, each in seen.items() if case.allowed and each.changed is not False}
    read = {case.asked for case, each in seen.items() if case.asked in pages and case.allowed and each.status < 300}
    read -= changes
    shown = [case for case in plan.cases if case.asked in read and case.allowed]
    return {
        name: tuple(
            secret
            for secret in several
            if secret.by is None
            or (
                secret.by in read
                and not any(
                    case.persona.name == name and secret.record.items() <= case.values.items() for case in shown
                )
            )
        )
        for name, several in plan.unsure.items()
    }


_LONG_ENOUGH = 6  # characters of a text that is no coincidence


def lists_as_loaded(plan: Plan) -> dict[tuple[AskedEndpoint, str], tuple[Case, ...]]:
    """The lists of a plan without the records that, as these themselves say, the persona may read."""
    open_ones = {(case.asked, case.path, case.persona.name) for case in plan.cases if case.allowed and case.is_own_page}
    found = {
        key: tuple(case for case in cases if (case.asked, case.path, case.persona.name) not in open_ones)
        for key, cases in plan.lists.items()
    }
    return {key: cases for key, cases in found.items() if cases}


def texts_for_lists(
    plan: Plan, records: Mapping[tuple[str, str], Any], loader_of: Callable[[str, Case], str]
) -> dict[tuple[AskedEndpoint, str], tuple[tuple[str, ...], ...]]:
    """For lists without marks, the texts of each record that is kept from the persona, which no other record has.

    Args:
        plan: the plan.
        records: what the application loads, by loader and value.
        loader_of: says which loader is for a parameter of a case.
    """
    own = {key: _texts_in(record) for key, record in records.items() if record is not None}
    found: dict[tuple[AskedEndpoint, str], tuple[tuple[str, ...], ...]] = {}
    for key, cases in plan.lists.items():
        # The last parameter of its own page identifies a record.
        kept = dict.fromkeys(
            (loader_of(name, case), case.values[name]) for case in cases for name in case.asked.template.names[-1:]
        )
        texts = [tuple(text for text in own.get(each, ()) if _is_of_one(text, each, own)) for each in kept]
        if all(texts):
            found[key] = tuple(texts)
    return found


def _texts_in(record: Any) -> list[str]:
    slots = (name for kind in type(record).__mro__ for name in vars(kind).get("__slots__", ()))
    names = record if isinstance(record, Mapping) else [*getattr(record, "__dict__", ()), *slots]
    shown = [str(name) for name in names if not str(name).startswith("_")]
    values = [record.get(name) if isinstance(record, Mapping) else getattr(record, name, None) for name in shown]
    texts = [value for value in values if isinstance(value, str)]
    return sorted((text for text in texts if len(text) >= _LONG_ENOUGH), key=len, reverse=True)


def _is_of_one(text: str, key: tuple[str, str], own: Mapping[tuple[str, str], list[str]]) -> bool:
    return not any(text in other for at, texts in own.items() if at != key for other in texts)


Readable = Mapping[str, Collection[frozenset[tuple[str, str]]]]


def readable_records(cases: Iterable[Case]) -> Readable:
    """By the name of a persona, the records of which it may read the page, or the document.

    What is beneath a record, such as a picture of it, may be open to more callers and shows less.
    """
    readable: dict[str, set[frozenset[tuple[str, str]]]] = {}
    for case in cases:
        if case.is_own_page and case.allowed:
            readable.setdefault(case.persona.name, set()).add(frozenset(case.values.items()))
    return readable


def may_be_read(persona: str, values: Mapping[str, str], readable: Readable) -> bool:
    """Whether a persona may read a record: what an edit form of it keeps back is then no secret."""
    return any(set(values.items()) <= record for record in readable.get(persona, ()))
