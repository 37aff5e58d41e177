"""Acting as a caller in an application that is protected, without its sign-in. For tests alone.

While `acted_in` is active, a request that is sent within `acting_as` is one of that caller's: the application's own
``identify`` is not asked. Nothing of this is in the code that enforces; it is put around it here, and taken away again.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from ..core.answers import Answer
from ..core.caller import Caller
from ..enforce.pipeline import Exchange, Steps


@dataclass(frozen=True, slots=True)
class _Acting:
    caller: Caller | None


_acting: ContextVar[_Acting | None] = ContextVar("acting", default=None)


@contextmanager
def acting_as(caller: Caller | None) -> Iterator[None]:
    """Requests within are this caller's; None for a signed-out caller."""
    token = _acting.set(_Acting(caller))
    try:
        yield
    finally:
        _acting.reset(token)


@contextmanager
def acted_in() -> Iterator[None]:
    """Let `acting_as` count, and have every decision written down in the audit log."""
    admit, note = Exchange._admit, Exchange._note

    def admitted(self: Exchange, *asked: Any) -> Steps[Any]:
        steps = admit(self, *asked)
        acting = _acting.get()
        try:
            call = next(steps)
            while True:
                if acting is not None and call.function is self.enforcement.identify:
                    call = steps.send(acting.caller)
                    continue
                try:
                    found = yield call
                except Exception as error:
                    call = steps.throw(error)
                else:
                    call = steps.send(found)
        except StopIteration as done:
            return done.value

    def noted(self: Exchange, answer: Answer | None) -> None:
        note(self, answer)
        audit = self.enforcement.audit
        if answer is None and not audit.allowed:
            audit.write(self.access, "allow", self.access.refusal or self.access.decision)

    Exchange._admit, Exchange._note = admitted, noted  # type: ignore[method-assign,assignment]
    try:
        yield
    finally:
        Exchange._admit, Exchange._note = admit, note  # type: ignore[method-assign]
