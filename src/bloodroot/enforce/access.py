"""One request under a policy: who asks, what was decided, and whether what was left open has been settled.

No input or output here: the ASGI and WSGI layers share this and stay thin.
"""

from __future__ import annotations

import logging
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any

from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome, Step

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ..core.policy import Policy

log = logging.getLogger("bloodroot.enforce")


class Refused(Exception):
    """The caller may not have this. Raised in a handler, it becomes the answer that the policy gives.

    Attributes:
        decision: why.
    """

    def __init__(self, decision: Decision) -> None:
        self.decision = decision
        super().__init__(decision.reason or "unsettled")


class Access:
    """One request: `current()` gives it to the handler.

    Attributes:
        caller: who asks; None for a signed-out caller.
        decision: what the policy says, with all that is known so far.
        record: the record that a loader found, or that the handler settled with; None before.
        unidentified: why the request's own word on who sent it was not believed, or None.
        refusal: the first record that the handler asked for and was refused, as a decision. It stays: a handler that
            passes over a refusal does not get its response out.
    """

    __slots__ = ("caller", "decision", "method", "path", "policy", "query", "record", "refusal", "unidentified")

    def __init__(
        self,
        policy: Policy,
        caller: Caller | None,
        method: str,
        path: str,
        query: Mapping[str, Any],
        unidentified: Unidentified | None = None,
    ) -> None:
        if caller is not None and not isinstance(caller, Caller):
            raise TypeError(f"identify must return a bloodroot.Caller or None, not {type(caller).__name__}")
        self.policy = policy
        self.caller = caller
        self.method = method
        self.path = path
        self.query = query
        self.record: Any = None
        self.refusal: Decision | None = None
        self.unidentified = unidentified
        self.decision = policy.decide(caller, method, path, query=query)

    @property
    def steps(self) -> tuple[Step, ...]:
        """How the decision came about, beginning with why a caller was not believed to be who it says."""
        if self.unidentified is None:
            return self.decision.steps
        told = f"the caller counts as signed out: {self.unidentified.reason}"
        return (Step("caller", "passed", told), *self.decision.steps)

    @property
    def invalid_token(self) -> str | None:
        """Why a token was not believed, where that is what a refusal has to say; None otherwise."""
        if self.unidentified is None or not self.unidentified.token or self.decision.reason != "signed-out":
            return None
        return self.unidentified.reason

    @property
    def cleared(self) -> bool:
        """Whether a response may go out: nothing is left to be settled, and nothing was refused."""
        return self.decision.outcome is Outcome.ALLOW and self.refusal is None

    @property
    def open(self) -> bool:
        """Whether something is still to be settled."""
        return self.decision.outcome is Outcome.DEPENDS

    def parameter_with(self, loaders: Mapping[str, Any]) -> str | None:
        """The parameter of the path, the last one first, that has a loader; None where the record is not asked for."""
        line = self.decision.line
        if line is None or not self.policy.asks_for("record", line, self.method):
            return None
        return next((name for name in reversed(line.template.names) if name in loaders), None)

    def decide_with(self, record: Any) -> Decision:
        """Decide again, now that the record is known."""
        self.record = record
        self.decision = self.policy.decide(self.caller, self.method, self.path, record=record, query=self.query)
        return self.decision

    def settle(self, record: Any) -> None:
        """Settle what depended on the record. Call it before anything is read from the record or written to it.

        Raises:
            Refused: the caller may not have this record. Let it pass: it becomes the answer.
            TypeError: there is no record; answer that it is missing instead of settling.
        """
        if record is None:
            raise TypeError("settle needs the record; where there is none, answer that it is missing")
        if self.decide_with(record).outcome is not Outcome.ALLOW:
            self.refusal = self.refusal or self.decision
            raise Refused(self.decision)

    def may(self, permission: str, record: Any = None) -> bool:
        """Whether this caller has a permission, for this record where it depends on one.

        Raises:
            LookupError: the policy has no such permission.
        """
        return self.policy.may(self.caller, permission, record=record)


_current: ContextVar[Access] = ContextVar("bloodroot_access")


def current() -> Access:
    """The request at hand: its caller, its decision, and `Access.settle`.

    Raises:
        RuntimeError: no middleware is around this code, so nothing has been decided.
    """
    try:
        return _current.get()
    except LookupError:
        raise RuntimeError(
            "no request is being decided here; put bloodroot.enforce.asgi.AccessMiddleware around the application"
        ) from None
