"""What every source of endpoints gives: the same plain data, whatever it was read from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ..core.binding import Route, RouteKind
from ..language.errors import BloodrootError
from ..language.problems import Place


class SurveyError(BloodrootError):
    """A source of endpoints that cannot be read. The message names it, the place in it and the way out."""


def printable(text: str) -> str:
    """A text with question marks in the place of characters that cannot be shown."""
    return "".join(character if character.isprintable() else "?" for character in text)


@dataclass(frozen=True, slots=True)
class HandlerGuard:
    """A guard around a handler.

    Attributes:
        text: what it requires, as written.
        place: where it is in the program.
    """

    text: str
    place: Place


@dataclass(frozen=True, slots=True)
class Endpoint:
    """One endpoint, as one source knows it.

    Attributes:
        methods: in capitals; empty where the source declares none, so that it may serve any.
        template: the path as a policy writes it.
        source: what it was found in: a file, or ``module:name``.
        place: where in that, such as ``paths./trials.get``; an empty string where there is no better place.
        exact: whether the template covers exactly the paths of the endpoint.
        spelling: the path as the source writes it.
        action: the name by which a framework knows what serves it, or None.
        operation: what a document calls it, or None.
        kind: ``endpoint``, ``websocket``, ``static``, ``redirect``, ``mount`` or ``documentation``.
        summary: one sentence about it, or an empty string.
        tags: what the source files it under.
        guards: the guards around its handler.
        security: what the source says is needed, such as ``bearer read``; empty for nothing, None where it is silent.
        statuses: for what was observed, how often each status was answered; empty for what is only declared.
        route: the route of an application, which the line of its action may decide for; None for other sources.
    """

    methods: tuple[str, ...]
    template: str
    source: str
    place: str = ""
    exact: bool = True
    spelling: str = ""
    action: str | None = None
    operation: str | None = None
    kind: RouteKind = RouteKind.ENDPOINT
    summary: str = ""
    tags: tuple[str, ...] = ()
    guards: tuple[HandlerGuard, ...] = ()
    security: tuple[str, ...] | None = None
    statuses: Mapping[int, int] = field(default_factory=dict)
    route: Route | None = field(default=None, compare=False, repr=False)

    def __post_init__(self) -> None:
        # Documents and logs are written by others: nothing of them may reach a terminal as a command.
        for name in ("spelling", "place", "action", "operation", "summary"):
            value = getattr(self, name)
            if value and not value.isprintable():
                object.__setattr__(self, name, printable(value))
        for name in ("tags", "security"):
            value = getattr(self, name)
            if value and not all(map(str.isprintable, value)):
                object.__setattr__(self, name, tuple(map(printable, value)))

    @property
    def is_operation(self) -> bool:
        """Whether a document describes it, as an operation of its own."""
        return self.place.startswith("paths.")

    @property
    def count(self) -> int:
        """How often it was asked for, as far as that was observed."""
        return sum(self.statuses.values())


@dataclass(frozen=True, slots=True)
class Found:
    """What a source gave.

    Attributes:
        source: what was read.
        endpoints: its endpoints, in its order.
        notes: what was left out, and why.
        unread: how many lines of a log could not be read.
    """

    source: str
    endpoints: tuple[Endpoint, ...]
    notes: tuple[str, ...] = ()
    unread: int = 0
