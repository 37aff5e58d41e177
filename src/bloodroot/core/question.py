"""The question that a policy answers: one caller, one request, and what is known beside."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import datetime
    from collections.abc import Mapping

    from .caller import Caller
    from .lines import CompiledGuard, Line


class Question:
    """All that a decision rests on.

    Attributes:
        caller: who asks; None for a signed-out caller.
        method: the request method.
        path: the path, still percent-encoded, without a query.
        record: the record that the endpoint acts on; None where it is not known.
        records: the records that parameters of the path identify, by parameter; None where none is known.
        query: the parameters of the query by name; None where they are not known.
        args: the arguments of a guarded call by name; None where they are not known.
        now: the time of the decision; None for the present.
        guarded: whether a guard in the handler has let the caller pass.
        assume: conditions whose value is given, by name.
        values: the parameters of the path as the framework has read them; None where there is no framework.
        line: the line of the route that the framework serves; None where the path decides.
        routed: whether a framework has chosen the route, so that ``line`` counts.
        segments: the path as `core.paths.read_path` reads it, where that was done already.
        guard: the guard that is asked, or None for a request.
        unreadable: whether the client's own spelling of the path can be read in more than one way.
    """

    __slots__ = (
        *("args", "assume", "caller", "guard", "guarded", "line", "method", "now", "path", "query"),
        *("record", "records", "routed", "segments", "unreadable", "values"),
    )

    def __init__(self, caller: Caller | None, method: str, path: str) -> None:
        self.caller = caller
        self.method = method
        self.path = path
        self.record: Any = None
        self.records: Mapping[str, Any] | None = None
        self.query: Mapping[str, Any] | None = None
        self.args: Mapping[str, Any] | None = None
        self.now: datetime.datetime | None = None
        self.guarded = False
        self.assume: Mapping[str, bool] | None = None
        self.values: Mapping[str, Any] | None = None
        self.line: Line | None = None
        self.routed = False
        self.segments: list[str] | None = None
        self.guard: CompiledGuard | None = None
        self.unreadable = False

    def with_(self, **changes: Any) -> Question:
        """The same question with some of it changed."""
        other = Question.__new__(Question)
        other.caller, other.method, other.path = self.caller, self.method, self.path
        other.record, other.records, other.query, other.args = self.record, self.records, self.query, self.args
        other.now, other.guarded, other.assume, other.values = self.now, self.guarded, self.assume, self.values
        other.line, other.routed, other.segments = self.line, self.routed, self.segments
        other.guard, other.unreadable = self.guard, self.unreadable
        for name, value in changes.items():
            setattr(other, name, value)
        return other
