"""Who acts, and what they may do: in a request, or in a job on behalf of a caller.

No input or output here: everything in this room shares it and stays thin.
"""

from __future__ import annotations

import inspect
import logging
import sys
from collections.abc import Iterable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, cast

from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome, Step, StepVerdict
from ..core.fields import FieldsRefused
from ..core.question import Question
from . import active_policies, field_values
from .errors import EnforcementError, Refusal, Unsettled

if TYPE_CHECKING:
    from ..core.formulas import Formula
    from ..core.lines import CompiledGuard
    from ..core.policy import Policy

log = logging.getLogger("bloodroot.enforce")


_OF_REQUESTS = frozenset(("decision", "invalid_token", "method", "path", "query", "records", "steps", "unidentified"))


class Acting:
    """The caller on whose behalf code runs: `current()` returns it to handlers, services and templates.

    Attributes:
        policy: what decides.
        caller: who acts; None for a signed-out caller.
        record: the record that a loader found, or that was settled with last; None before.
        refusal: the first thing that was asked for and refused, as a decision. It stays: a handler that passes over a
            refusal does not get its response out.
        observes: whether nothing is refused here, and what would be is only written down.
        fields_refused: the first change of fields that was refused.
    """

    # Defaults are on the class: one is made for every request, and most of this stays as it is.
    record: Any = None
    refusal: Decision | None = None
    observes = False
    fields_refused: FieldsRefused | None = None
    _guards_open: tuple[_Guarding, ...] = ()
    _guards_passed: tuple[CompiledGuard, ...] = ()

    def __init__(self, policy: Policy, caller: Caller | None) -> None:
        if caller is not None and not isinstance(caller, Caller):
            raise TypeError(f"a caller is a bloodroot.Caller or None, not {type(caller).__name__}")
        self.policy = policy
        self.caller = caller

    # What may be asked of it --------------------------------------------------------------------------------

    def may(self, name: str, record: Any = None) -> bool:
        """Whether the caller may do this: a permission, or an endpoint as `flags` takes it.

        Raises:
            UnknownNameError: the policy has no such permission, or no line for such an endpoint.
        """
        return self.policy.flags(self.caller, (name,), record=record)[name]

    def flags(self, names: Iterable[str], record: Any = None) -> dict[str, bool]:
        """Which of these the caller may do: permissions and endpoints, as `Policy.flags` takes them."""
        return self.policy.flags(self.caller, names, record=record)

    def flags_of_each(self, names: Iterable[str], records: Iterable[Any]) -> list[dict[str, bool]]:
        """The same for each of a list of records, in one pass."""
        return self.policy.flags_of_each(self.caller, names, records)

    def readable(self, kind: str, record: Any) -> dict[str, Any]:
        """The fields of a record that the caller may see, with their values.

        Args:
            kind: the kind of record, as in ``fields accession``.
            record: a mapping, a dataclass, a Pydantic model, a mapped or another object.

        Raises:
            UnknownNameError: the policy knows no such kind, but one of nearly the same name.
        """
        names = self.policy.readable(self.caller, kind, record)
        return {name: value for name, value in field_values.values_of(record).items() if name in names}

    def readable_of(self, kind: str, record: Any, names: Iterable[str]) -> frozenset[str]:
        """Those of some fields of a record that the caller may see.

        Raises:
            UnknownNameError: as `readable`.
        """
        return self.policy.readable(self.caller, kind, record, names)

    def change(self, kind: str, record: Any, changes: Any) -> dict[str, Any]:
        """The changes, if the caller may make every one of them.

        Args:
            kind: the kind of record, as in ``fields accession``.
            record: the record as it is, for conditions that ask for it.
            changes: new values by field; of a Pydantic model those that were set.

        Raises:
            FieldsRefused: naming each field that may not be changed. Let it pass: it becomes a 403 that names them.
        """
        wanted = field_values.changes_in(changes)
        try:
            self.policy.changeable(self.caller, kind, wanted, record)
            self._move(kind, record, wanted)
        except FieldsRefused as error:
            self.fields_refused = self.fields_refused or error
            if not self.observes:
                raise
        return wanted

    def _move(self, kind: str, record: Any, changes: Mapping[str, Any]) -> None:
        """See that a record may be moved into another one, where a change does that: all that was asked holds there.

        Raises:
            FieldsRefused: it does not.
        """
        moved = self.policy.moved(kind, record, changes)
        if moved is None:
            return
        question, formulas = self._all_asked()
        for formula in formulas:
            if not self.policy.evaluator.holds_for(question, formula, kind, moved.record):
                raise FieldsRefused(kind, [moved.attribute])

    def _all_asked(self) -> tuple[Question, list[Formula]]:
        """What was asked of the caller before this."""
        return Question(self.caller, "", ""), [guard.requirement.formula for guard in self._guards_passed]

    # Guards and records --------------------------------------------------------------------------------

    def pass_guard(
        self,
        guard: CompiledGuard,
        args: Mapping[str, Any] | None,
        *,
        policy: Policy | None = None,
        of: str = "",
        part: bool = False,
    ) -> None:
        """Ask what a guard asks. What depends on a record that is not at hand stays open until it is settled.

        Args:
            guard: what is asked, as ``policy.guard`` has made it.
            args: the arguments of the call by name, or None where they do not matter.
            policy: the policy that the guard was made by; by default that of the request or the job.
            of: what to call the guard and its function in messages.
            part: whether a refusal is of a part of the answer alone.

        Raises:
            Refusal: the caller may not pass.
        """
        self._pass(_Guarding(guard, args, policy or self.policy, of, part))

    def settle(self, record: Any) -> None:
        """Settle what depended on the record. Call it before anything is read from the record or written to it.

        Raises:
            Refusal: the caller may not have this record. Let it pass: it becomes the answer.
            TypeError: there is no record; answer that it is missing instead of settling.
        """
        if record is None:
            raise TypeError("settle needs the record; where there is none, answer that it is missing")
        self.record = record
        waiting, self._guards_open = self._guards_open, ()
        for guarding in waiting:
            self._pass(guarding)

    def _pass(self, guarding: _Guarding) -> None:
        decision = guarding.policy.evaluator.decide_guard(self._question(guarding))
        if decision.outcome is Outcome.ALLOW:
            if self.policy.roles.things:
                self._guards_passed += (guarding.guard,)
            self._passed()
        elif decision.outcome is Outcome.DEPENDS:
            self._guards_open += (guarding,)
        else:
            self._refuse(decision, guarding.of, part=guarding.part)

    def _question(self, guarding: _Guarding) -> Question:
        question = Question(self.caller, "", "")
        question.record, question.args, question.guard = self.record, guarding.args, guarding.guard
        return question

    def _passed(self) -> None:
        """A guard has let the caller pass."""

    def _refuse(self, decision: Decision, of: str = "", *, part: bool = False) -> None:
        if self.refusal is None and (self.observes or not part):
            self.refusal = decision
        if self.observes:
            return
        if part:
            # What takes the place of the part may be shown to the caller: nothing of the program is in it.
            raise Refusal(decision, decision.answer.message if decision.answer is not None else "access is refused")
        if not of:
            raise Refusal(decision)
        who = f"the caller {plain(self.caller.id)}" if self.caller is not None else "a signed-out caller"
        raise Refusal(decision, f"{of} refused {who}: {decision.reason}")

    @property
    def open_guards(self) -> str:
        """What guards left open, in words; an empty string for nothing."""
        return " and ".join(
            f"{guarding.guard.requirement.words()} ({guarding.guard.place.at})" for guarding in self._guards_open
        )


class _InJob(Acting):
    """A job on behalf of a caller. What is about a request is not there, and says so."""

    def __getattr__(self, name: str) -> Any:
        if name in _OF_REQUESTS:
            raise EnforcementError(
                f"current().{name} is about a request, and this code runs in a job on behalf of a caller; "
                "ask current() for what both have: caller, policy, record, may, flags, readable, change, settle"
            )
        raise AttributeError(f"current() has no {name}")


@dataclass(frozen=True, slots=True)
class _Guarding:
    """A guard that is asked, with the policy that understands it."""

    guard: CompiledGuard
    args: Mapping[str, Any] | None
    policy: Policy
    of: str
    part: bool = False


_ALLOW = Outcome.ALLOW


class Access(Acting):
    """One request.

    Attributes:
        method: the request method.
        path: the application's own path, percent-encoded.
        query: the parameters of the query by name.
        records: the records that were loaded, by parameter of the path.
        decision: what the policy says, with all that is known so far.
        unidentified: why the credentials of the request were not accepted, or None.
        consulted: whether anything was asked of it, so that what is answered may be for this caller alone.
        public: whether a response has begun to leave that caches may give to anyone.
        withheld: whether the response was withheld, so that nothing more is to be done for this request.
    """

    unidentified: Unidentified | None = None
    records: Mapping[str, Any] = MappingProxyType({})
    consulted = False
    public = False
    withheld = False

    def __init__(self, policy: Policy, question: Question, decision: Decision) -> None:
        self.policy = policy
        self.caller = question.caller
        self.method = question.method
        self.path = question.path
        self.decision = decision
        self._asked = question
        # What is read of every request is set here: that costs less than to look for it in the class.
        self.refusal = self.fields_refused = None
        self._guards_open = ()
        # What depends is decided by each record that is settled with, one as much as the next.
        self._before = decision

    @property
    def query(self) -> Mapping[str, Any]:
        """The parameters of the query by name."""
        return self._asked.query or {}

    @property
    def decided(self) -> Decision:
        """What counts in the end: what was refused first, else the decision."""
        return self.decision if self.refusal is None else self.refusal

    @property
    def steps(self) -> tuple[Step, ...]:
        """How the decision came about, beginning with why credentials were not accepted."""
        decided = self.decided
        if self.unidentified is None:
            return decided.steps
        text = f"the caller is treated as signed out: {self.unidentified.reason}"
        return (Step("caller", StepVerdict.PASSED, text), *decided.steps)

    @property
    def invalid_token(self) -> str | None:
        """Why a token was not accepted, where that is what a refusal has to say; None otherwise."""
        decided = self.decided
        if self.unidentified is None or not self.unidentified.token or decided.reason != "signed-out":
            return None
        return self.unidentified.reason

    @property
    def cleared(self) -> bool:
        """Whether a response may go out: nothing is left to be settled, and nothing was refused."""
        if self.decision.outcome is _ALLOW and not self._guards_open and self.refusal is None:
            return self.fields_refused is None or self.observes
        return self.observes

    @property
    def is_settled(self) -> bool:
        """Whether nothing is left to be settled, and no guard has refused."""
        return self.decision.outcome is Outcome.ALLOW and not self._guards_open and self.refusal is None

    @property
    def open(self) -> bool:
        """Whether something is still to be settled."""
        return self.decision.outcome is Outcome.DEPENDS

    def consult(self) -> None:
        """Note that what is answered may be for this caller alone.

        Raises:
            EnforcementError: the response has begun to leave, and any cache may give it to anyone.
        """
        if self.public:
            raise EnforcementError(
                f"{self.method} {plain(self.path)} asks who the caller is while a response leaves that is open to "
                "anyone and may be cached; call current() before the response begins"
            )
        self.consulted = True

    def settle(self, record: Any) -> None:
        """Settle what depended on the record. Call it before anything is read from the record or written to it.

        Raises:
            Refusal: the caller may not have this record. Let it pass: it becomes the answer.
            TypeError: there is no record; answer that it is missing instead of settling.
        """
        super().settle(record)
        self.decide_with(record, self.records)
        if self.decision.reason is not None:
            self._refuse(self.decision)

    def decide_with(self, record: Any, records: Mapping[str, Any]) -> None:
        """Decide again, now that records are known."""
        self.record, self.records = record, records
        self._asked = self._asked.with_(record=record, records=records)
        if self._before.outcome is Outcome.DEPENDS:
            self.decision = self.policy.evaluator.settle(self._before, self._asked)

    def still_allowed(self, caller: Caller | None, segments: list[str]) -> bool:
        """Whether a caller who was identified again may still have what was allowed."""
        question = self._asked.with_(caller=caller)
        decision = self.policy.evaluator.decide_routed(question, segments)
        if decision.outcome is Outcome.DEPENDS:
            decision = self.policy.evaluator.settle(decision, question)
        return decision.outcome is Outcome.ALLOW and self.refusal is None

    def _all_asked(self) -> tuple[Question, list[Formula]]:
        formulas = super()._all_asked()[1]
        line = self.decision.line
        return self._asked, [*formulas, *([line.requirement.formula] if line is not None else [])]

    def pass_guard(
        self,
        guard: CompiledGuard,
        args: Mapping[str, Any] | None,
        *,
        policy: Policy | None = None,
        of: str = "",
        part: bool = False,
    ) -> None:
        """Ask what a guard asks, within this request; see `Acting.pass_guard`."""
        self.consult()
        if self.withheld:
            log.error(
                "%s was asked after the response of %s %s was withheld; it refuses", of, self.method, plain(self.path)
            )
            raise Refusal(self.decided, f"{of} refuses: the response was withheld")
        super().pass_guard(guard, args, policy=policy, of=of, part=part)

    def _question(self, guarding: _Guarding) -> Question:
        return self._asked.with_(guard=guarding.guard, args=guarding.args, record=self.record)

    def _passed(self) -> None:
        if not self._asked.guarded:
            self._asked = self._asked.with_(guarded=True)
            if self.open:
                self.decision = self.policy.evaluator.settle(self._before, self._asked)


_current: ContextVar[Acting | None] = ContextVar("bloodroot_access", default=None)


def current() -> Access:
    """Who acts at the moment: in a request an `Access`, in a job what `on_behalf_of` has set.

    Raises:
        EnforcementError: no middleware is around this code and no caller acts, so nothing has been decided; or a
            response has begun to leave that may be cached. In a job, attributes that are about a request raise it too.
    """
    acting = _current.get()
    if acting is None:
        raise EnforcementError(
            "no caller acts here and nothing is decided: protect the application, or call this within "
            "`with on_behalf_of(caller):`"
        )
    if isinstance(acting, Access):
        acting.consult()
    # In a job there is no request; what jobs and requests have in common is `Acting`.
    return cast("Access", acting)


class on_behalf_of:
    """Let a job, or another way into the application, act for a caller: guards inside decide for this caller.

    ``with on_behalf_of(caller): ...``

    Args:
        caller: for whom; None for a signed-out caller.
        policy: what decides; by default that of the request at hand, else the one in force in this process.
        actor: who acts for the caller, as `Caller.actor`; by default whom the caller names.

    Raises:
        EnforcementError: no policy is in force, or several are; give one. Or it is used in a generator, where the
            caller would go on to act in the code that the generator gives its values to.
        Unsettled: at the end, where a guard depended on a record that was not settled.
    """

    def __init__(self, caller: Caller | None, policy: Policy | None = None, *, actor: Any = None) -> None:
        self._caller = replace(caller, actor=actor) if caller is not None and actor is not None else caller
        self._policy = policy

    def __enter__(self) -> Acting:
        _refuse_in_generators()
        around = _current.get()
        policy = self._policy
        if policy is None:
            policy = around.policy if around is not None else active_policies.only_policy()
        self._acting = _InJob(policy, self._caller)
        self._acting.observes = around is not None and around.observes
        self._token = _current.set(self._acting)
        return self._acting

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        _current.reset(self._token)
        if error is None and self._acting.open_guards and not self._acting.observes:
            raise Unsettled(
                f"nothing settled {self._acting.open_guards}; call current().settle(record) before acting on it"
            )


def _refuse_in_generators() -> None:
    frame = sys._getframe(2)
    while frame.f_globals.get("__name__") == "contextlib" and frame.f_back is not None:
        frame = frame.f_back
    if frame.f_code.co_flags & (inspect.CO_GENERATOR | inspect.CO_ASYNC_GENERATOR):
        raise EnforcementError(
            f"on_behalf_of is used in the generator {frame.f_code.co_name}, and the caller would go on to act in "
            "the code between its steps; put it around the code that runs through the generator"
        )


def plain(value: object) -> str:
    """A value as a log shows it: what cannot be printed, or would begin another line, becomes a question mark."""
    return "".join(character if character.isprintable() else "?" for character in str(value))
