"""Who acts, and what they may: in a request under a policy, or in a job on somebody's behalf.

No input or output here: everything in this room shares it and stays thin.
"""

from __future__ import annotations

import logging
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any, cast

from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome, Step
from . import fields, in_force

if TYPE_CHECKING:
    from ..core.lines import Line
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


class Unsettled(RuntimeError):
    """Somebody acted while it was left open whether they may: nobody settled what depends on the record."""


class Acting:
    """Somebody who acts: `current()` gives it to handlers, services and templates.

    Attributes:
        policy: what decides.
        caller: who acts; None for a signed-out caller.
        record: the record that a loader found, or that was settled with last; None before.
        refusal: the first thing that was asked for and refused, as a decision. It stays: a handler that passes over a
            refusal does not get its response out.
    """

    # Defaults stand with the class: one is made for every request, and most of this stays as it is.
    record: Any = None
    refusal: Decision | None = None
    _guards_open: tuple[tuple[Line, Mapping[str, Any] | None], ...] = ()

    def __init__(self, policy: Policy, caller: Caller | None) -> None:
        if caller is not None and not isinstance(caller, Caller):
            raise TypeError(f"a caller is a bloodroot.Caller or None, not {type(caller).__name__}")
        self.policy = policy
        self.caller = caller

    # What may be asked of it --------------------------------------------------------------------------------

    def may(self, asked: str, record: Any = None) -> bool:
        """Whether the caller may do this: a permission, or an endpoint as `flags` takes it.

        Raises:
            LookupError: the policy has no such permission, or no line for such an endpoint.
        """
        return self.policy.flags(self.caller, (asked,), record=record)[asked]

    def flags(self, asked: Iterable[str], record: Any = None) -> dict[str, bool]:
        """What of this the caller may do; see `Policy.flags`."""
        return self.policy.flags(self.caller, asked, record=record)

    def flags_of_each(self, asked: Iterable[str], records: Iterable[Any]) -> list[dict[str, bool]]:
        """The same for each of a list of records, in one pass."""
        return self.policy.flags_of_each(self.caller, asked, records)

    def readable(self, kind: str, record: Any) -> dict[str, Any]:
        """The fields of a record that the caller may see, with their values.

        Args:
            kind: the kind of record, as in ``fields accession``.
            record: a mapping, a dataclass, a Pydantic model, a mapped or another object.

        Raises:
            LookupError: the policy knows no such kind, but one of nearly the same name.
        """
        names = self.policy.readable(self.caller, kind, record)
        return {name: value for name, value in fields.values_of(record).items() if name in names}

    def change(self, kind: str, record: Any, changes: Any) -> dict[str, Any]:
        """The changes, if the caller may make every one of them.

        Args:
            kind: the kind of record, as in ``fields accession``.
            record: the record as it is, for conditions that ask for it.
            changes: new values by field; of a Pydantic model those that were set.

        Raises:
            FieldsRefused: naming each field that may not be changed. Let it pass: it becomes a 403 that names them.
        """
        wanted = fields.changes_in(changes)
        self.policy.changeable(self.caller, kind, wanted, record)
        return wanted

    # Guards and records --------------------------------------------------------------------------------

    def pass_guard(self, guard: Line, args: Mapping[str, Any] | None) -> None:
        """Ask what a guard asks. What depends on a record that is not at hand stays open until it is settled.

        Raises:
            Refused: the caller may not pass.
        """
        if self._weigh_guard(guard, args) is Outcome.DEPENDS:
            self._guards_open += ((guard, args),)

    def settle(self, record: Any) -> None:
        """Settle what depended on the record. Call it before anything is read from the record or written to it.

        Raises:
            Refused: the caller may not have this record. Let it pass: it becomes the answer.
            TypeError: there is no record; answer that it is missing instead of settling.
        """
        if record is None:
            raise TypeError("settle needs the record; where there is none, answer that it is missing")
        self.record = record
        waiting, self._guards_open = self._guards_open, ()
        for guard, args in waiting:
            self.pass_guard(guard, args)

    def _weigh_guard(self, guard: Line, args: Mapping[str, Any] | None) -> Outcome:
        decision = self._ask(guard, args)
        if decision.outcome is Outcome.ALLOW:
            self._passed()
        elif decision.outcome is not Outcome.DEPENDS:
            self._refuse(decision)
        return decision.outcome

    def _ask(self, guard: Line, args: Mapping[str, Any] | None) -> Decision:
        return self.policy.check(self.caller, guard, record=self.record, args=args)

    def _passed(self) -> None:
        """A guard has let the caller pass."""

    def _refuse(self, decision: Decision) -> None:
        self.refusal = self.refusal or decision
        raise Refused(decision)

    @property
    def open_guards(self) -> str:
        """What guards left open, in words; an empty text for nothing."""
        return " and ".join(f"{guard.requirement.words()} ({guard.place.at})" for guard, _ in self._guards_open)


class Access(Acting):
    """One request.

    Attributes:
        method: the request method.
        path: as the client sent it, still percent-encoded.
        query: the parameters of the query by name.
        decision: what the policy says, with all that is known so far.
        unidentified: why the request's own word on who sent it was not believed, or None.
        consulted: whether anybody has asked for it, so that what is answered may be for this caller alone.
    """

    unidentified: Unidentified | None = None
    consulted = False
    _guarded = False

    def __init__(
        self,
        policy: Policy,
        caller: Caller | None,
        method: str,
        path: str,
        query: Mapping[str, Any],
        unidentified: Unidentified | None = None,
    ) -> None:
        super().__init__(policy, caller)
        self.method = method
        self.path = path
        self.query = query
        if unidentified is not None:
            self.unidentified = unidentified
        self.decision = policy.decide(caller, method, path, query=query)

    @property
    def steps(self) -> tuple[Step, ...]:
        """How the decision came about, beginning with why a caller was not believed to be who it says."""
        decided = self.refusal or self.decision
        if self.unidentified is None:
            return decided.steps
        told = f"the caller counts as signed out: {self.unidentified.reason}"
        return (Step("caller", "passed", told), *decided.steps)

    @property
    def invalid_token(self) -> str | None:
        """Why a token was not believed, where that is what a refusal has to say; None otherwise."""
        decided = self.refusal or self.decision
        if self.unidentified is None or not self.unidentified.token or decided.reason != "signed-out":
            return None
        return self.unidentified.reason

    @property
    def cleared(self) -> bool:
        """Whether a response may go out: nothing is left to be settled, and nothing was refused."""
        return self.decision.outcome is Outcome.ALLOW and not self._guards_open and self.refusal is None

    @property
    def open(self) -> bool:
        """Whether something is still to be settled."""
        return self.decision.outcome is Outcome.DEPENDS

    def settle(self, record: Any) -> None:
        """Settle what depended on the record. Call it before anything is read from the record or written to it.

        Raises:
            Refused: the caller may not have this record. Let it pass: it becomes the answer.
            TypeError: there is no record; answer that it is missing instead of settling.
        """
        super().settle(record)
        self.decide_with(record)
        if self.decision.reason is not None:
            self._refuse(self.decision)

    def decide_with(self, record: Any) -> None:
        """Decide again, now that the record is known."""
        self.record = record
        self.decision = self.policy.decide(
            self.caller, self.method, self.path, record=record, query=self.query, guarded=self._guarded
        )

    def _ask(self, guard: Line, args: Mapping[str, Any] | None) -> Decision:
        return self.policy.check(
            self.caller,
            guard,
            method=self.method,
            path=self.path,
            record=self.record,
            query=self.query,
            args=args,
        )

    def _passed(self) -> None:
        if not self._guarded:
            self._guarded = True
            if self.open:
                self.decide_with(self.record)


_current: ContextVar[Acting] = ContextVar("bloodroot_access")


def current() -> Access:
    """Who acts at the moment: in a request an `Access`, in a job what `on_behalf_of` has set.

    Raises:
        RuntimeError: no middleware is around this code and nobody acts, so nothing has been decided.
    """
    try:
        acting = _current.get()
    except LookupError:
        raise RuntimeError(
            "nobody acts here and nothing is decided: put bloodroot's middleware around the application, or call this "
            "within `with on_behalf_of(caller):`"
        ) from None
    if isinstance(acting, Access):
        acting.consulted = True
    # In a job there is no request; what jobs and requests have in common is `Acting`.
    return cast("Access", acting)


@contextmanager
def on_behalf_of(caller: Caller | None, policy: Policy | None = None) -> Iterator[Acting]:
    """Let a job, or another way into the application, act for somebody: guards inside decide for this caller.

    Args:
        caller: for whom; None for a signed-out caller.
        policy: what decides; by default that of the request at hand, else the one in force in this process.

    Raises:
        RuntimeError: no policy is known; give one, or call `use` first.
        Unsettled: at the end, where a guard depended on a record that nobody settled.
    """
    if policy is None:
        around = _current.get(None)
        policy = around.policy if around is not None else in_force.the_only_one()
    acting = Acting(policy, caller)
    token = _current.set(acting)
    try:
        yield acting
    finally:
        _current.reset(token)
    if acting.open_guards:
        raise Unsettled(f"nobody settled {acting.open_guards}; call current().settle(record) before acting on it")
