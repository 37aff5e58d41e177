"""What is done with every request, whatever the server or framework. No input or output here.

What needs the application (who is calling, the record of a parameter) is called as the driver says, and awaited where
that is needed. A driver that is async awaits the stages; one that is not has `run` drive them.
"""

from __future__ import annotations

import contextlib
import inspect
import time
import types
from collections.abc import Awaitable, Callable, Coroutine, Mapping
from functools import lru_cache
from typing import Any, TypeVar

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.decision import Decision, Outcome
from ..core.fields import FieldsRefused
from ..core.lines import Line
from ..core.question import Question
from ..core.requirements import references_in, rests_on_records
from ..request import Request, query_of
from . import responses
from .access import Access, log, plain
from .audit import id_of_request
from .enforcement import Enforcement, Served
from .errors import Refusal
from .in_test import in_test
from .loaders import Loaders, Loading
from .responses import Response

T = TypeVar("T")
# How a driver calls a function of the application: the function, its arguments, and whether it may keep a thread
# waiting, as a loader that is not async may. What comes back may have to be awaited.
Calls = Callable[[Callable[..., Any], tuple[Any, ...], bool], Any]
Steps = Coroutine[Any, Any, T]


def run(steps: Steps[T]) -> T:
    """Run steps to their end where nothing can be awaited.

    Raises:
        TypeError: something had to be awaited.
    """
    try:
        steps.send(None)
    except StopIteration as done:
        result: T = done.value
        return result
    steps.close()
    raise TypeError("identify or a loader is async, and nothing can be awaited here; make it a plain function")


class Exchange:
    """One dispatch of a request to its handler, and its response on the way back.

    A driver makes one for each dispatch, asks it at each stage in the order of the methods here, and does what it says.
    A handler that dispatches again makes another one: what was decided for one is never that of another.

    Args:
        enforcement: what decides.
        request: the request. It may be exchanged until it is decided, where the application makes another one of it.
        call: how functions of the application are called.

    Attributes:
        policy: what decides, from the beginning of the request to its end.
        access: the request as it was decided; there once ``decided`` is true.
        decided: whether it was. What nothing serves is never decided, as there is nothing to have or not to have.
        failed: set by a driver where the application itself fails: its own error may go out then.
        refusing: the answer that the caller gets in the place of the application's.
        unserved: whether it is for nothing that is there.
        socket: whether a WebSocket is asked for. What goes over it cannot be withheld, so nothing may be open.
        is_api: whether what is asked for speaks JSON to those who ask for nothing else.
        observes: whether nothing is refused here, and what would be is only written down.
        undo: takes back what the handler has left for the response beside it, such as changes to the session.
    """

    access: Access
    failed = False
    unserved = False
    socket = False
    undo: Callable[[], None] | None = None
    is_api = False
    _reported: Answer | None = None
    _seconds = 0.0
    _identified = 0.0
    _loaders: Loaders = ()
    _lost = False  # whether a record on the way to what a role is held in is missing

    def __init__(self, enforcement: Enforcement, request: Request, call: Calls) -> None:
        self.enforcement = enforcement
        self.request = request
        self.call = call
        following = enforcement.following
        if following is None:
            self.policy = enforcement.started_with
        else:
            following.begin()
            self.policy = following.policy
        # What is read for every request is set here: that costs less than to look for it in the class.
        self.observes = bool(enforcement.report_only) and self._is_observed()
        self.decided = False
        self.refusing: Answer | None = None

    def _is_observed(self) -> bool:
        request = self.request
        return self.enforcement.reports(request.segments if request.readable else None)

    # Before the handler --------------------------------------------------------------------------------

    def decide(
        self,
        own: Any,
        served: Served | None = None,
        values: Mapping[str, Any] | None = None,
        line: Line | None = None,
    ) -> Steps[Answer | None]:
        """Decide the request, with its records: everything before the handler.

        Args:
            own: the request as the application knows it.
            served: the route that the framework has chosen; None where there is none, and the path decides.
            values: the parameters of the path as the framework has read them.
            line: without a route, the line that decides; None for that of the path.

        Returns:
            What the caller gets instead of the handler, or None where the handler is to run.

        Raises:
            Exception: whatever ``identify`` or a loader raises.
        """
        steps = self._decide(own, served, values, line)
        if self.enforcement.report_only:
            self.observes = self._is_observed()  # the request may have been exchanged since
            if self.observes:
                return self._observe(own, steps)
        return steps

    async def _decide(
        self, own: Any, served: Served | None, values: Mapping[str, Any] | None, line: Line | None
    ) -> Answer | None:
        began = time.perf_counter()
        request, policy = self.request, self.policy
        question = Question(None, request.method, request.path)
        question.query = query_of(request.query_string) if request.query_string else _NO_QUERY
        segments = request.segments
        if segments is None or question.query is None or not request.readable:
            access = Access(policy, question, policy.evaluator.decide_unread(question))
        else:
            unidentified = None
            try:
                caller = self._identified_by(own)
                if caller is not None and caller.__class__ is not Caller:
                    caller = await self._checked(caller)
                question.caller = caller
            except Unidentified as error:
                unidentified = error
            except Exception:
                log.error("identify failed for %s %s; the request is refused", request.method, plain(request.path))
                raise
            loaders = self._loaders = self._route(question, segments, served, values, line)
            access = Access(policy, question, policy.evaluator.decide_routed(question, segments))
            if unidentified is not None:
                access.unidentified = unidentified
            # Nothing is loaded for a caller who is refused whatever the record: they learn nothing of whether there
            # is one.
            if (loaders or policy.roles.has_things) and access.decision.reason is None:
                await self._load(access, own, loaders, segments)
        self.access = access
        self.decided = True
        self._seconds = time.perf_counter() - began
        if access.decision.outcome is _ALLOW:
            return None
        answer = self._refusal_before()
        if answer is None and not self.observes and (self.socket or not self._may_be_settled()):
            self._log_unsettled("the handler does not run")
            return responses.UNSETTLED
        return answer

    async def _observe(self, own: Any, steps: Steps[Answer | None]) -> None:
        """Decide as always, and keep what would be refused: nothing comes between the request and its handler."""
        began = time.perf_counter()
        try:
            self._reported = await steps
        except Exception:
            log.exception("%s %s could not be decided, which is only reported", self.request.method, self.request.path)
            policy, question = self.policy, Question(None, self.request.method, self.request.path)
            self.access = Access(policy, question, policy.evaluator.decide(question, self.request.segments))
            self._reported = responses.NO_CALLER
        self.access.observes = True
        self.decided = True
        if self.access.decision.reason is not None and self._loaders:
            # The handler runs all the same, and has what it has for others.
            try:
                await self._load(self.access, own, self._loaders, self.request.segments or [])
            except Exception:
                log.exception("no record of %s could be loaded, which is only reported", plain(self.request.path))
        self._seconds = time.perf_counter() - began

    def _may_be_settled(self) -> bool:
        return self.enforcement.may_settle(self.request.method, self.access.decision.line)

    async def decide_without_route(self, own: Any, *, missing: bool) -> Answer | None:
        """Decide what no route serves, by the line of its path, or of whatever resembles it.

        Args:
            own: the request as the application knows it.
            missing: whether the application is going to say that nothing is there. That is refused by path lines
                alone: without one there is nothing that a caller may have or not, and all callers get it alike.
        """
        policy, request = self.policy, self.request
        line = None
        if request.readable:
            line = policy.lookup.by_path(request.method, request.segments or [])
            if line is None and missing:
                # Who asks makes no difference; but that they were asked for must not show either.
                self.unserved = True
                if self.observes:
                    return None
                with contextlib.suppress(Unidentified):
                    await self._who(own)
                return None
            line = line or policy.lookup.for_request(request.method, request.path)
        return await self.decide(own, line=line)

    def _route(
        self,
        question: Question,
        segments: list[str],
        served: Served | None,
        values: Mapping[str, Any] | None,
        line: Line | None,
    ) -> Loaders:
        """Put the line that decides and the parameters of the path into a question; what loads its records."""
        question.routed = True
        if served is None:
            question.line = line or self.policy.lookup.by_path(question.method, segments)
            return self.enforcement.loaders_at(self.policy, question.line)
        under = served.under
        if under.policy is not self.policy:
            under = self.enforcement.under(self.policy, served)
        # Nearly always the route alone says it.
        settled = under.binding.settled.get(question.method)
        question.line = settled or under.binding.line_for(question.method, segments)
        question.values = _texts_of(values) if values else _NO_VALUES
        return under.by_method.get(question.method, under.loaders) if under.by_method else under.loaders

    async def _who(self, own: Any) -> Caller | None:
        """Who asks: on the path that is decided, whatever the application's own request says."""
        return await self._checked(self._identified_by(own))

    def _identified_by(self, own: Any) -> Any:
        """What ``identify`` says, which may have to be awaited."""
        enforcement = self.enforcement
        if enforcement.identify_again is not None:
            self._identified = time.monotonic()
        test = in_test.get()
        if test is not None and test.acts:
            return test.caller
        arguments = (own, self.request.path) if enforcement.identify_takes_path else (own,)
        return self.call(enforcement.identify, arguments, False)

    async def _checked(self, caller: Any) -> Caller | None:
        if inspect.isawaitable(caller):
            caller = await caller
        if caller is not None and not isinstance(caller, Caller):
            raise TypeError(f"identify returns a bloodroot.Caller or None, not {type(caller).__name__}")
        return caller

    def _located(self, own: Any) -> tuple[Any, ...]:
        return (own, self.request.path) if self.enforcement.identify_takes_path else (own,)

    @property
    def is_due(self) -> bool:
        """Whether the caller of a response that is still being made has to be identified again."""
        if self.observes:
            return False
        every = self.enforcement.identify_again
        return every is not None and self.decided and time.monotonic() - self._identified >= every

    async def again(self, own: Any) -> bool:
        """Identify the caller again, while a response or a WebSocket goes on; whether it may go on."""
        before = self.access
        try:
            caller = await self._who(own)
        except Unidentified:
            caller = None
        if (caller.id if caller else None) != (before.caller.id if before.caller else None):
            return False
        return before.still_allowed(caller, self.request.segments or [])

    async def _load(self, access: Access, own: Any, loaders: Loaders, segments: list[str]) -> None:
        """Load the record of each parameter, in the order of the path, and decide again."""
        decision = access.decision
        values = decision.question.values
        if values is None:
            values = decision.line.template.values(segments) if decision.line is not None else {}
        record, records = None, {}
        for name, loading in loaders:
            if name not in values:
                continue
            record = await self._loaded(access, own, name, values[name], loading)
            if record is not None:
                records[name] = record
        if records:
            _decide_with(access, record, records)
        if self.policy.roles.has_things:
            tried = {name for name, *_ in loaders if name in values}
            await self._load_on_the_way(access, own, record, records, tried)
        if records:
            _log_faults(access)

    async def _loaded(self, access: Access, own: Any, name: str, text: Any, loading: Loading) -> Any:
        """What a loader finds; None for nothing."""
        try:
            found = self.call(loading.function, loading.arguments(text, own, access.caller), loading.blocks)
            return await found if _may_be_awaited(found.__class__) and inspect.isawaitable(found) else found
        except Exception as error:
            if not self.enforcement.is_missing(error):
                log.error("the loader of %s failed for %s %s", name, access.method, plain(access.path))
                raise
            return None

    async def _load_on_the_way(
        self, access: Access, own: Any, record: Any, records: dict[str, Any], tried: set[str]
    ) -> None:
        """Load the records that only other records lead to, each once, as long as they make a difference.

        So are those that a line calls by another name than the route.
        """
        while access.open:
            lacking = access.policy.evaluator.wanted(access.decision.question, access.decision.line)
            wanted = next((each for each in lacking if each.parameter not in tried and each.thing not in records), None)
            loader = self.enforcement.loader_of(self.policy, wanted.thing) if wanted is not None else None
            if wanted is None or loader is None:
                return
            text = wanted.identifier.value
            text = str(text) if type(text).__module__ in _PLAIN else text
            found = await self._loaded(access, own, wanted.thing, text, loader)
            if found is None:
                # A record that belongs to what is not there is in nothing.
                self._lost = True
                return
            records[wanted.thing] = found
            _decide_with(access, record, records)

    def _refusal_before(self) -> Answer | None:
        """What the caller gets of a request that is not allowed; None where it still depends on something."""
        decision = self.access.decision
        if decision.reason is not None:
            return decision.answer
        needs = decision.question.values if decision.question.values is not None else decision.path_values
        if self._lost:
            return responses.MISSING
        lacking = any(name in needs and name not in self.access.records for name, _ in self._loaders)
        # A record that all depends on is missing.
        return responses.MISSING if lacking and self._asks_for_record() else None

    def _asks_for_record(self) -> bool:
        remainder = self.access.decision.remainder
        roots = {reference.root for reference in references_in(remainder)} if remainder is not None else set()
        about_place = remainder is not None and rests_on_records(remainder)
        return about_place or bool(roots & {"record", "records"})

    # After the handler --------------------------------------------------------------------------------

    def raised(self, error: BaseException) -> Answer | None:
        """What an exception of the handler becomes; None for one that is not a refusal.

        A group of exceptions, as groups of tasks raise them, is a refusal if it contains one.
        """
        if isinstance(error, Refusal):
            return error.decision.answer or responses.UNSETTLED
        if isinstance(error, FieldsRefused):
            # The names are the client's.
            names = ", ".join(name[:_LONGEST_NAME] for name in map(str, error.fields[:_MOST_NAMES]))
            more = f" and {len(error.fields) - _MOST_NAMES} more" if len(error.fields) > _MOST_NAMES else ""
            return Answer(403, plain(f"You may not change {names}{more}."))
        if isinstance(error, BaseExceptionGroup):
            return next(
                (answer for exception in error.exceptions if (answer := self.raised(exception)) is not None), None
            )
        return None

    def responded(self, status: int) -> Answer | None:
        """What the caller gets instead of the application's response, or None where that may go out.

        Args:
            status: the response's own status. It stays where it says what is wrong with the request itself.
        """
        access = self.access
        if access.cleared or (self.failed and status >= 500):
            return None
        if access.fields_refused is not None and status >= 500:
            # A framework inside makes an error of its own of what it does not know.
            access.withheld = True
            return self.raised(access.fields_refused)
        if access.is_settled:
            return None
        access.withheld = True
        if access.refusal is not None:
            return access.refusal.answer or responses.UNSETTLED
        if status in responses.OF_THE_REQUEST:
            # A handler that finds no record, or cannot read the body, has nothing to settle. What it says is left out.
            return responses.OF_THE_REQUEST[status]
        self._log_unsettled("the response is withheld")
        return responses.UNSETTLED

    def _log_unsettled(self, what: str) -> None:
        access = self.access
        line, remains = access.decision.line, access.decision.remainder
        log.error(
            "%s %s: nothing settled %s, which %s requires; %s. Register a loader for the path parameter, or call "
            "current().settle(record); without a known framework, name the line in settles",
            access.method,
            plain(access.path),
            access.open_guards or (remains.words() if remains is not None else "the condition"),
            line.place.at if line is not None else "the policy",
            what,
        )

    # What leaves --------------------------------------------------------------------------------

    def refuse(self, answer: Answer) -> None:
        """Write down that the caller gets this instead, before it is sent, and take back what goes with it."""
        first = self.refusing is None
        self.refusing = answer
        if self.undo is not None:
            self.undo()
        if self.decided and first:
            self.access.withheld = True
            self._note(answer)

    def response(self, answer: Answer, own: Any) -> Response:
        """A refusal as a response of our own."""
        enforcement, request = self.enforcement, self.request
        access = self.access if self.decided else None
        decided = access.decided if access is not None else None
        asked = responses.RefusedRequest(
            enforcement.realm,
            responses.is_program(request, self.is_api or enforcement.by_token(*self._located(own))),
            # A page for signed-out callers alone is none to come back to.
            request.asked_for if decided is None or decided.reason != "signed-in" else None,
            access.invalid_token if access is not None else None,
            self._lacking_scopes(decided) if answer.status == 403 else (),
            request.safe_prefix,
            enforcement.vary,
            enforcement.challenge(own) if answer.status == 401 or answer.otherwise == 401 else None,
        )
        page = enforcement.page
        return responses.response(answer, asked, lambda: page(answer, own) if page is not None else None)

    def _lacking_scopes(self, decided: Decision | None) -> tuple[str, ...]:
        """The permissions a token would have to name, where it was made for less than its owner may do."""
        return self.policy.evaluator.scopes_missing(decided) if decided is not None else ()

    def let_out(self, *, streams: bool, sized: Callable[[], bool]) -> bool:
        """Write down that what was allowed leaves; whether it may be for this caller alone, so that no cache keeps it.

        What is open to anyone, and was made without asking who it is for, stays as it is. A response that is made
        while it leaves may still ask, unless its length is known: then it is too late, which is an error.
        """
        access = self.access
        if self.observes:
            self._note(self._would_be())
            return False
        audit = self.enforcement.audit
        if audit.allowed or audit.counts or in_test.get() is not None:
            self._note(None)
        line = access.decision.line
        if access.consulted or line is None or not line.requirement.open_to_anyone or (streams and not sized()):
            return True
        if any(not rule.open_to_anyone for rule in self.policy.lookup.rules_for(access.method, access.path)):
            return True
        access.public = streams
        return False

    def _would_be(self) -> Answer | None:
        """What the caller would get instead of what leaves; None where it is allowed."""
        access = self.access
        if self._reported is not None or (access.is_settled and access.fields_refused is None):
            return self._reported
        if access.fields_refused is not None:
            return self.raised(access.fields_refused)
        return access.refusal.answer or responses.UNSETTLED if access.refusal is not None else responses.UNSETTLED

    def _note(self, answer: Answer | None) -> None:
        """Write down what came of the request."""
        access, audit = self.access, self.enforcement.audit
        decided = access.decided
        if answer is None:
            outcome = "allow"
        elif decided.reason is None or answer is responses.NO_CALLER:
            # Without a reason of the policy: no record, a change to fields, or something that was not settled.
            outcome = {404: "missing", 403: "deny"}.get(answer.status, "withheld")
        else:
            outcome = decided.outcome.value
        if audit.counts:
            audit.count(access, outcome, self._seconds)
        if answer is not None or audit.allowed or in_test.get() is not None:
            named, enforced = id_of_request(self.request.headers.get(audit.request_id)), not self.observes
            audit.write(access, outcome, decided, request=named, enforced=enforced, seconds=self._seconds)


@lru_cache(maxsize=1024)
def _may_be_awaited(kind: Any) -> bool:
    """Whether objects of a type may be awaited: generators may, where they are coroutines."""
    return issubclass(kind, Awaitable | types.GeneratorType)


_ALLOW = Outcome.ALLOW  # a name of its own is found faster
_MOST_NAMES, _LONGEST_NAME = 20, 100
_NO_QUERY: dict[str, Any] = {}
_NO_VALUES: dict[str, Any] = {}


def _decide_with(access: Access, record: Any, records: Mapping[str, Any]) -> None:
    try:
        access.decide_with(record, records)
    except Exception:
        # Not an answer: whether the record has what a condition asks for could not be read.
        log.exception("a record could not be read for %s %s", access.method, plain(access.path))
        raise


def _log_faults(access: Access) -> None:
    """A record without an attribute that a condition requires is a mistake of the program, and logged as such."""
    decision = access.decision
    faults = access.policy.evaluator.faults(decision) if decision.reason is not None else ()
    if faults:
        # Values may be secret, and the sender of the request chooses when they are written down.
        log.warning(
            "%s %s is refused: %s cannot be decided: %s (%s)",
            access.method,
            plain(access.path),
            decision.reason,
            plain(", ".join(faults)),
            decision.place.at if decision.place is not None else "the policy",
        )


def _texts_of(values: Mapping[str, Any]) -> Mapping[str, Any]:
    """The parameters of a path as text, whatever plain types a framework has made of them."""
    for value in values.values():
        if value.__class__ is not str:
            break
    else:
        return values
    return {name: str(value) if type(value).__module__ in _PLAIN else value for name, value in values.items()}


_PLAIN = ("builtins", "uuid", "datetime", "decimal")
