"""A plan as plain data: the requests, what cannot be asked, and what personas may not see."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..core.decision import Outcome
from ..core.methods import SAFE, WEBSOCKET
from ..core.paths import Parameter
from ..settings import Body, Persona

if TYPE_CHECKING:
    from ..core.answers import Answer
    from .asked_endpoints import AskedEndpoint


@dataclass(slots=True, eq=False)
class Case:
    """One request as one persona. Never changed once made; freezing would double what it costs.

    Attributes:
        asked: the endpoint.
        path: with every parameter filled in, as the route spells it.
        query: the query, encoded.
        persona: who asks.
        declared: what the policy says: allow, deny or sign-in.
        answer: what a refused caller is to get; None where access is declared.
        sample: which record it is for, such as ``own-trial holds``; empty where that makes no difference.
        values: the parameters of the path.
        known: by condition, whether it holds for the record, as far as that is known.
        body: what is sent along, or None.
        raw: for a request that is spelled in another way, the target as it is sent; else None.
        headers: headers of such a request.
        method: the method that is sent, in capitals.
        spelled: in words, how such a request is spelled.
        changes: the field that such a request tries to change, where that is what it is about.
        plain: for such a request, a twin and a crossed address, what it was made of.
        twin: whether it is another request of its own with methods, headers and parameters that any client may send.
        crossed: whether the path names records that do not belong together.
        hides: text of this very record that the persona may not see in it.
        perhaps: text of fields of which it is not known whether the persona may see them in this record.
        by_record: whether it is the record that decides: with another one the persona would be let in.
        owned: whether it is so because of whose record it is: a condition fails that asks for the caller.
        in_body: which record the body names, in words; an empty string where it names none.
        missing: whether nothing is there, so that the answer shows what a record that is missing looks like.
    """

    asked: AskedEndpoint
    path: str
    query: str
    persona: Persona
    declared: Outcome
    answer: Answer | None = None
    sample: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    known: Mapping[str, bool] = field(default_factory=dict)
    body: Body | None = None
    raw: str | None = None
    headers: Mapping[str, str] = field(default_factory=dict)
    method: str = ""
    spelled: str = ""
    changes: str = ""
    plain: Case | None = None
    twin: bool = False
    crossed: bool = False
    hides: tuple[Secret, ...] = ()
    perhaps: tuple[Secret, ...] = ()
    by_record: bool = False
    owned: bool = False
    in_body: str = ""
    missing: bool = False

    def __post_init__(self) -> None:
        if not self.method:
            object.__setattr__(self, "method", self.asked.method)

    @property
    def safe(self) -> bool:
        """Whether the method promises to change nothing (RFC 9110, section 9.2.1); a handshake is a GET (RFC 6455)."""
        return self.method in (*SAFE, WEBSOCKET) and self.asked.method in (*SAFE, WEBSOCKET)

    @property
    def is_own_page(self) -> bool:
        """Whether it reads one record: its page, or its document."""
        last = self.asked.template.segments[-1:]
        return self.method == "GET" and bool(last) and isinstance(last[0], Parameter)

    @property
    def of_others(self) -> bool:
        """Whether its body names a record of others beside one's own."""
        return bool(self.changes) and self.changes == self.in_body

    @property
    def target(self) -> str:
        """Path and query."""
        return f"{self.path}?{self.query}" if self.query else self.path

    @property
    def key(self) -> tuple[str, ...]:
        """What makes it a request of its own, equal in every run of the same plan."""
        record = self.in_body or self.asked.template.text
        return self.method, self.raw or self.target, self.persona.name, record, self.spelled

    @property
    def where(self) -> str:
        """Path and query, and the record that the body names: equal for what is asked of one record."""
        return f"{self.target} {self.in_body}" if self.in_body else self.target

    @property
    def allowed(self) -> bool:
        """Whether access is declared."""
        return self.declared is Outcome.ALLOW


@dataclass(frozen=True, slots=True)
class SkippedRequest:
    """A request that could not be made, and why."""

    asked: AskedEndpoint
    persona: Persona
    why: str


@dataclass(frozen=True, slots=True)
class Secret:
    """Text of a record that a persona may not see, wherever it turns up.

    Attributes:
        mark: the text.
        words: what it is, and what keeps it from the persona.
        record: the parameters of the path of its record.
        fails: the conditions that fail for it.
        by: the endpoint that keeps it from them, where that is no page. It may be one that is asked for by POST.
        granted: an endpoint that lets them change this very record, so that they may well know of it; else empty.
    """

    mark: str
    words: str
    record: Mapping[str, str] = field(default_factory=dict, compare=False)
    fails: frozenset[str] = frozenset()
    by: AskedEndpoint | None = None
    granted: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class Plan:
    """All that a probe is going to ask.

    Attributes:
        cases: the requests.
        untried: what it cannot ask.
        secrets: by the name of a persona, texts that it may not see.
        unsure: the same, where only the answers say whether the persona may see them.
        marks: texts of marked records, no matter who may see them.
        lists: by endpoint and the name of a persona, requests for records that may be listed there although their own
            page keeps them from the persona, and that no mark would show.
        texts: for such a page, what each of such records itself says, and no other of them.
        whole: whether it is all that there is to ask.
        notes: what is asked as it is, and not varied.
        doubts: what is wrong with the samples.
    """

    cases: tuple[Case, ...]
    untried: tuple[SkippedRequest, ...]
    secrets: Mapping[str, tuple[Secret, ...]]
    unsure: Mapping[str, tuple[Secret, ...]] = field(default_factory=dict)
    marks: tuple[str, ...] = ()
    lists: Mapping[tuple[AskedEndpoint, str], tuple[Case, ...]] = field(default_factory=dict)
    texts: Mapping[tuple[AskedEndpoint, str], tuple[tuple[str, ...], ...]] = field(default_factory=dict)
    whole: bool = True
    notes: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()

    @property
    def looked_for(self) -> tuple[str, ...]:
        """Texts that are looked for in every answer."""
        return tuple(
            dict.fromkeys(
                (*self.marks, *(text for records in self.texts.values() for texts in records for text in texts))
            )
        )


@dataclass(frozen=True, slots=True)
class PlanFilter:
    """Which part of a plan is wanted.

    Attributes:
        endpoint: whether an endpoint is.
        persona: whether a persona is.
        patterns: what the endpoints were chosen with, each of which must be for some.
        whole: whether nothing of it is left out.
    """

    endpoint: Callable[[AskedEndpoint], bool] = lambda endpoints: True  # noqa: ARG005
    persona: Callable[[Persona], bool] = lambda persona: True  # noqa: ARG005
    patterns: tuple[str, ...] = ()
    whole: bool = True


@dataclass(frozen=True, slots=True)
class KnownValues:
    """What is known of an application beside its settings.

    Attributes:
        body: what to send to an endpoint that no settings have a body for, or None.
        examples: values for the parameters of an endpoint's path.
    """

    body: Callable[[AskedEndpoint], Body | None] = lambda values: None  # noqa: ARG005
    examples: Callable[[AskedEndpoint], Mapping[str, str]] = lambda values: {}  # noqa: ARG005
