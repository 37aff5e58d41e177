"""What the settings say for the probe, as plain data: samples, bodies, ``[probe]`` and ``[probe.sign_in]``."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.paths import Template, read_path


@dataclass(frozen=True, slots=True)
class Example:
    """A record for which a condition is known to hold or to fail.

    Attributes:
        values: parameters of the path that lead to it.
        mark: text that is in this record and in no other, or None.
        query: parameters of the query.
    """

    values: Mapping[str, str]
    mark: str | None = None
    query: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Sample:
    """For one condition, records where it holds and records where it fails."""

    holds: tuple[Example, ...] = ()
    fails: tuple[Example, ...] = ()


@dataclass(frozen=True, slots=True)
class ThingSample:
    """One record of a thing.

    Attributes:
        parents: what it belongs to, by thing: the identifier of that record.
        mark: text that is in this record and in no other, or None.
    """

    parents: Mapping[str, str] = field(default_factory=dict)
    mark: str | None = None


@dataclass(frozen=True, slots=True, eq=False)
class SignIn:
    """How a persona signs in.

    Attributes:
        how: ``form``, ``json``, ``bearer``, ``basic`` or ``header``.
        path: where to; empty where nothing is sent to sign in.
        fields: what is sent, with ``{persona.NAME}`` and ``{env.NAME}`` to be filled in.
        token: where a JSON answer has the bearer token, names with dots between them; None for cookies.
        covers: the paths that this way of signing in is for; None for all.
        lands: the page that signing in leads to, or None where that is not checked.
        csrf: the name of the field, the cookie or the meta element that has the token against forged requests, where
            that is no usual name, or None.
    """

    how: str
    path: str
    fields: Mapping[str, str]
    token: str | None = None
    covers: Template | None = None
    lands: str | None = None
    csrf: str | None = None

    @property
    def elsewhere(self) -> bool:
        """Whether another machine than the application signs in: a provider, which gives a token."""
        return "://" in self.path or self.path.startswith("{env.")


@dataclass(frozen=True, slots=True)
class ActingSettings:
    """``[probe.acting]``: how one who has signed in begins to act for another.

    Attributes:
        path: where a form, or JSON, is sent to, with ``{persona.NAME}`` of the persona that is acted for.
        page: the page with that form; None for the one that signing in leads to.
        fields: what is sent.
        token: where a JSON answer has the bearer token to act with; None for cookies.
    """

    path: str
    page: str | None = None
    fields: Mapping[str, str] = field(default_factory=dict)
    token: str | None = None


@dataclass(frozen=True, slots=True)
class Body:
    """What is sent along with a request: a form or JSON."""

    kind: str
    content: Any


@dataclass(frozen=True, slots=True)
class KnownAnswer:
    """What a response of this application means.

    Attributes:
        means: ``refused``, ``sign-in`` or ``done``.
        status: the HTTP status code.
        text: for a redirect, a path template of where it leads; else text that is in the body; empty for any.
        leads: the same as a template, for a redirect.
    """

    means: str
    status: int
    text: str = ""
    leads: Template | None = None

    def matches(self, status: int, location: str, body: str) -> bool:
        """Whether a response is of this kind.

        Args:
            status: its status.
            location: the path that it redirects to, or an empty string.
            body: its body, as text.
        """
        if status != self.status:
            return False
        if self.leads is not None:
            segments = read_path(location)
            return segments is not None and self.leads.covers(segments)
        return self.text in body


@dataclass(frozen=True, slots=True)
class FieldSamples:
    """``[probe.fields.KIND]``: the fields of one kind of record.

    Attributes:
        marks: for each field, the text that it has in some record, and that nothing else has.
        change: endpoints that change such a record, by method and path template.
        values: for each field, a value that is sent to change it.
    """

    marks: Mapping[str, str] = field(default_factory=dict)
    change: tuple[str, ...] = ()
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ListedValue:
    """``[probe.values]``: a value for a parameter, taken from a list that the application itself gives.

    Attributes:
        path: the path of the list, asked for by GET.
        at: where the answer has the value: names and numbers with dots between them, such as ``items.0.id``.
        persona: who asks.
    """

    path: str
    at: str
    persona: str


@dataclass(frozen=True, slots=True)
class ProbeRules:
    """``[probe]``: how an application is asked.

    Attributes:
        sign_ins: ways to sign in, in the order of the file.
        reset: a command, ``module:function`` or ``rollback``: what puts the data back; None where there is none.
        answers: what responses of this application mean, where their status does not say it.
        state: ``module:function`` for a value that changes when the data does, or the names of files and tables that
            hold the data; None where the data is not looked at.
        engine: ``module:name`` of the engine of SQLAlchemy whose changes are rolled back, or None.
        take_away: ``module:function`` that takes the roles of a persona away, or None.
        fields: by kind of record, what is known of its fields.
        values: by parameter, where a value for it is found.
        at_once: how many requests that change nothing are under way at a time.
        rate: the most requests a second, or None.
        timeout: seconds to wait for a response.
        journal: the file that requests are written down in.
        exclude: patterns of endpoints that are not asked for, such as ``/admin/*``.
        accept: patterns of endpoints at which what is not judged is accepted, each with the reason.
        recorded: HAR files, whose parameters of queries are varied.
        personas: those to ask as; empty for all.
        copies: what the environment of each copy of the application has, by name, with ``{copy}`` for its number.
        acting: how one who has signed in begins to act for another, or None.
    """

    sign_ins: tuple[SignIn, ...] = ()
    reset: str | None = None
    answers: tuple[KnownAnswer, ...] = ()
    state: str | tuple[str, ...] | None = None
    engine: str | None = None
    take_away: str | None = None
    fields: Mapping[str, FieldSamples] = field(default_factory=dict)
    values: Mapping[str, ListedValue] = field(default_factory=dict)
    at_once: int = 8
    rate: float | None = None
    timeout: float = 30
    journal: Path | None = None
    exclude: tuple[str, ...] = ()
    accept: Mapping[str, str] = field(default_factory=dict)
    recorded: tuple[Path, ...] = ()
    personas: tuple[str, ...] = ()
    copies: Mapping[str, str] = field(default_factory=dict)
    acting: ActingSettings | None = None
