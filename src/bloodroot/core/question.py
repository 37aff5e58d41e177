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

    # Most questions are about caller, method and path alone: defaults on the class cost nothing to set.
    record: Any = None
    records: Mapping[str, Any] | None = None
    query: Mapping[str, Any] | None = None
    args: Mapping[str, Any] | None = None
    now: datetime.datetime | None = None
    guarded: bool = False
    assume: Mapping[str, bool] | None = None
    values: Mapping[str, Any] | None = None
    line: Line | None = None
    routed: bool = False
    segments: list[str] | None = None
    guard: CompiledGuard | None = None
    unreadable: bool = False

    def __init__(self, caller: Caller | None, method: str, path: str) -> None:
        self.caller = caller
        self.method = method
        self.path = path

    def with_(self, **changes: Any) -> Question:
        """The same question with some of it changed."""
        other = Question(self.caller, self.method, self.path)
        other.__dict__.update(self.__dict__)
        other.__dict__.update(changes)
        return other
