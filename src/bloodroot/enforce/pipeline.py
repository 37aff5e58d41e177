"""What is done with every request, whatever the server or framework. No input or output here.

The steps that need the application (who is calling, the record of a parameter) are yielded as calls, and a driver makes
them where the application's own code runs. `run` and `run_async` are the two ways to drive them.
"""

from __future__ import annotations

import inspect
from collections.abc import Awaitable, Callable, Generator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple, TypeVar

from ..core.answers import Answer
from ..core.binding import Binding, Route
from ..core.caller import Caller, Unidentified
from ..core.conditions import FAULTY
from ..core.decision import Decision, Outcome
from ..core.fields import FieldsRefused
from ..core.lines import Line
from ..core.policy import Policy
from ..core.question import Question
from ..core.requirements import references_in
from ..request import Request, query_of
from . import answers, in_force
from .access import Access, Refused, log, plain
from .answers import Response
from .audit import Audit

T = TypeVar("T")
Identify = Callable[[Any], Caller | None | Awaitable[Caller | None]]
Loader = Callable[..., Any]
Page = Callable[[Answer, Any], str | bytes | None]


class Call(NamedTuple):
    """What a driver is asked to call.

    Attributes:
        function: an application's own function, sync or async.
        arguments: its arguments.
        blocks: whether it may keep a thread waiting: a loader that is not async. ``identify`` says itself what it does.
    """

    function: Callable[..., Any]
    arguments: tuple[Any, ...]
    blocks: bool = False


Steps = Generator[Call, Any, T]


def run(steps: Steps[T], call: Callable[[Call], Any]) -> T:
    """Drive steps with calls that are made at once."""
    try:
        asked = next(steps)
        while True:
            try:
                found = call(asked)
            except Exception as error:
                asked = steps.throw(error)
            else:
                asked = steps.send(found)
    except StopIteration as done:
        result: T = done.value
        return result


async def run_async(steps: Steps[T], call: Callable[[Call], Any]) -> T:
    """Drive steps with calls whose results are awaited where that is needed."""
    try:
        asked = next(steps)
        while True:
            try:
                found = call(asked)
                if found is not None and type(found) is not Caller and inspect.isawaitable(found):
                    found = await found
            except Exception as error:
                asked = steps.throw(error)
            else:
                asked = steps.send(found)
    except StopIteration as done:
        result: T = done.value
        return result


# For each parameter that has one, in the order of the path: name, loader, whether it takes the request, and blocks.
Loaders = tuple[tuple[str, Loader, bool, bool], ...]


@dataclass(slots=True, eq=False)
class Served:
    """What a framework serves: a route, the lines that may decide for it, and its loaders in the order of the path."""

    binding: Binding
    loaders: Loaders


class Enforcement:
    """A policy put in front of an application.

    Args:
        policy: what decides. It is put in force: guards are held against it.
        identify: who sends a request? Returns a `Caller`, or None for a signed-out one; raises
            `bloodroot.Unidentified` for credentials that are not accepted. What `bloodroot.identity.load` gives will
            do. It gets the framework's own request; without a framework, a `Request`.
        records: for path parameters, how to load the record one stands for: a function from the parameter's text to
            the record, or to None where there is none. It gets the request too, where it takes a second argument.
        page: what people are shown instead of the small page of a refusal: a function from the answer and the request
            to HTML, or to None for the small page.
        audit: what is written down of decisions; None for refusals.
        missing: whether an exception of a loader says that there is no such record.

    Raises:
        PolicyError: a guard asks for a role or a permission that the policy does not know.
    """

    def __init__(
        self,
        policy: Policy,
        *,
        identify: Identify,
        records: Mapping[str, Loader] | None = None,
        page: Page | None = None,
        audit: Audit | None = None,
        missing: Callable[[Exception], bool] = lambda error: False,  # noqa: ARG005
    ) -> None:
        in_force.use(policy)
        self.policy = policy
        self.identify = identify
        self.records = {
            name: (loader, _takes_request(loader), not inspect.iscoroutinefunction(loader))
            for name, loader in (records or {}).items()
        }
        self.page = page
        self.audit = audit if audit is not None else Audit()
        self.audit.tell_once()
        self.realm = policy.title or "application"
        self._missing = missing
        self._by_token: Callable[[Any], bool] = getattr(identify, "by_token", _never)
        self._loaders: dict[Line, Loaders] = {}

    def serve(self, route: Route) -> Served:
        """What is known of a route before its first request."""
        binding = self.policy.binding(route)
        names = route.names
        if names is None:
            names = tuple(binding.action.template.names) if binding.action else ()
        return Served(binding, self._loaders_of(names))

    def _loaders_of(self, names: tuple[str, ...]) -> Loaders:
        return tuple((name, *self.records[name]) for name in names if name in self.records)

    # Before the handler --------------------------------------------------------------------------------

    def admit(
        self,
        request: Request,
        own: Any,
        served: Served | None = None,
        values: Mapping[str, Any] | None = None,
        line: Line | None = None,
    ) -> Steps[Access]:
        """Decide a request, with its records: everything before the handler.

        Args:
            request: the request.
            own: the same request as the application knows it.
            served: the route that the framework has chosen; None where there is none, and the path decides.
            values: the parameters of the path as the framework has read them.
            line: without a route, the line that decides; None for that of the path.

        Returns:
            The request, decided. Its `refusal_before` is what the caller gets instead of the handler, if anything.

        Raises:
            Exception: whatever ``identify`` or a loader raises.
        """
        question = Question(None, request.method, request.path)
        segments = request.segments
        if segments is None or not request.readable:
            return Access(self.policy, question, self.policy.decide_unread(question))
        unidentified = None
        try:
            question.caller = yield Call(self.identify, (own,))
        except Unidentified as error:
            unidentified = error
        except Exception:
            log.error("identify failed for %s %s; the request is refused", request.method, plain(request.path))
            raise
        if question.caller is not None and not isinstance(question.caller, Caller):
            raise TypeError(f"identify returns a bloodroot.Caller or None, not {type(question.caller).__name__}")
        if request.query_string:
            question.query = query_of(request.query_string)
            if question.query is None:
                return Access(self.policy, question, self.policy.decide_unread(question))
        else:
            question.query = _NO_QUERY
        question.routed = True
        if served is None:
            question.line = line or self.policy.line_by_path(request.method, segments)
            loaders = self._loaders_at(question.line) if self.records else ()
        else:
            binding = served.binding
            # Nearly always the route alone says it.
            settled = binding.settled.get(request.method)
            question.line = settled or self.policy.line_served(binding, request.method, segments)
            question.values = _texts_of(values) if values else _NO_VALUES
            loaders = served.loaders
        access = Access(self.policy, question, self.policy.decide_routed(question, segments))
        if unidentified is not None:
            access.unidentified = unidentified
        # Nothing is loaded for a caller who is refused whatever the record: they learn nothing of whether there is one.
        if loaders and access.decision.reason is None:
            yield from self._load(access, own, loaders, segments)
        return access

    def _loaders_at(self, line: Line | None) -> Loaders:
        """The loaders of a path line, worked out once."""
        if line is None:
            return ()
        found = self._loaders.get(line)
        if found is None:
            found = self._loaders[line] = self._loaders_of(line.template.names)
        return found

    def _load(self, access: Access, own: Any, loaders: Loaders, segments: list[str]) -> Steps[None]:
        """Load the record of each parameter, in the order of the path, and decide again."""
        decision = access.decision
        values = decision.question.values
        if values is None:
            values = decision.line.template.values(segments) if decision.line is not None else {}
        record, records = None, {}
        for name, loader, takes_request, blocks in loaders:
            if name not in values:
                continue
            text = values[name]
            try:
                record = yield Call(loader, (text, own) if takes_request else (text,), blocks)
            except Exception as error:
                if not self._missing(error):
                    log.error("the loader of %s failed for %s %s", name, access.method, plain(access.path))
                    raise
                record = None
            if record is not None:
                records[name] = record
        if records:
            access.decide_with(record, records)
            self._tell_faults(access)

    def _tell_faults(self, access: Access) -> None:
        """A record without an attribute that a condition asks for is a mistake of the program, and logged as such."""
        decision = access.decision
        if decision.reason is None or decision.reason in ("role", "signed-in", "signed-out", "closed", "apart"):
            return
        step = decision.steps[-1]
        if f" is {FAULTY.name}: " in step.text:
            log.warning("%s %s is refused: %s (%s)", access.method, plain(access.path), plain(step.text), step.where)

    # The caller's answer, before the handler and after it ---------------------------------------------------------

    def refusal_before(self, access: Access) -> Answer | None:
        """What the caller gets instead of the handler, or None where the handler is to run."""
        decision = access.decision
        if decision.outcome is Outcome.ALLOW:
            return None
        if decision.reason is not None:
            return decision.answer
        needs = decision.question.values if decision.question.values is not None else decision.path_values
        lacking = self.records and any(name in self.records and name not in access.records for name in needs)
        # A record that all depends on is missing.
        return answers.MISSING if lacking and self._asks_for_record(access) else None

    def _asks_for_record(self, access: Access) -> bool:
        remainder = access.decision.remainder
        roots = {each.root for each in references_in(remainder)} if remainder is not None else set()
        return bool(roots & {"record", "records"})

    def refusal_after(self, access: Access, status: int) -> Answer | None:
        """What the caller gets instead of the handler's response, or None where that may go out.

        Args:
            access: the request.
            status: the handler's own status. It stays where it says what is wrong with the request itself.
        """
        if access.cleared:
            return None
        access.withheld = True
        if access.refusal is not None:
            return access.refusal.answer or answers.UNSETTLED
        if status in answers.OF_THE_REQUEST:
            # A handler that finds no record, or cannot read the body, has nothing to settle. What it says is left out.
            return answers.OF_THE_REQUEST[status]
        self._tell_unsettled(access)
        return answers.UNSETTLED

    def refusal_of_socket(self, access: Access) -> Answer | None:
        """What a WebSocket handshake gets. What goes over a WebSocket cannot be withheld, so nothing may be open."""
        answer = self.refusal_before(access)
        if answer is None and access.open:
            self._tell_unsettled(access)
            return answers.UNSETTLED
        return answer

    def _tell_unsettled(self, access: Access) -> None:
        line, remains = access.decision.line, access.decision.remainder
        log.error(
            "%s %s: nothing settled %s, which %s asks for; the response is withheld. Register a loader for the path "
            "parameter, or call current().settle(record)",
            access.method,
            plain(access.path),
            access.open_guards or (remains.words() if remains is not None else "the condition"),
            line.place.at if line is not None else "the policy",
        )

    def refusal_raised(self, error: BaseException) -> Answer | None:
        """What an exception of a handler becomes; None for one that is not a refusal."""
        if isinstance(error, Refused):
            return error.decision.answer or answers.UNSETTLED
        if isinstance(error, FieldsRefused):
            return Answer(403, plain(f"You may not change {', '.join(error.fields)}."))
        return None

    # What leaves --------------------------------------------------------------------------------

    def is_private(self, access: Access, *, streamed: bool) -> bool:
        """Whether a response may be for this caller alone, so that no cache may give it to another.

        What is open to anyone, and was made without asking who it is for, stays as it is. A response that is made
        while it leaves may still ask.
        """
        line = access.decision.line
        if streamed or access.consulted or line is None or not line.open_to_anyone:
            return True
        return any(not rule.open_to_anyone for rule in self.policy.rules_for(access.method, access.path))

    def respond(self, answer: Answer, request: Request, access: Access | None, own: Any) -> Response:
        """A refusal as a response."""
        decided = _decided(access)
        return answers.response(
            answer,
            answers.is_program(request, self._by_token(own)),
            self.realm,
            # A page for signed-out callers alone is none to come back to.
            request.asked_for if decided is None or decided.reason != "signed-in" else None,
            access.invalid_token if access is not None else None,
            self._lacking_scopes(access, decided) if answer.status == 403 else (),
            lambda: self.page(answer, own) if self.page is not None else None,
            request.safe_prefix,
        )

    def _lacking_scopes(self, access: Access | None, decided: Decision | None) -> tuple[str, ...]:
        """The permissions a token would have to name, where it was made for less than its owner may do."""
        if access is None or decided is None or access.caller is None or access.caller.scopes is None:
            return ()
        return self.policy.scopes_missing(decided)

    def note(self, access: Access, answer: Answer | None) -> None:
        """Write down what came of a request."""
        decided = access.refusal or access.decision
        if answer is None:
            if self.audit.allowed:
                self.audit.write(access, "allow", decided)
            return
        if decided.reason is None:
            # Without a reason of the policy: no record, a change to fields, or something that was not settled.
            outcome = {404: "missing", 403: "deny"}.get(answer.status, "withheld")
        else:
            outcome = decided.outcome.value
        self.audit.write(access, outcome, decided)


def _never(request: Any) -> bool:  # noqa: ARG001
    return False


_NO_QUERY: dict[str, Any] = {}
_NO_VALUES: dict[str, Any] = {}


def _texts_of(values: Mapping[str, Any]) -> Mapping[str, Any]:
    """The parameters of a path as text, whatever plain types a framework has made of them."""
    if all(type(value) is str for value in values.values()):
        return values
    return {name: str(value) if type(value).__module__ in _PLAIN else value for name, value in values.items()}


_PLAIN = ("builtins", "uuid", "datetime", "decimal")


def _takes_request(loader: Loader) -> bool:
    """Whether a loader takes the request beside the text of the parameter."""
    try:
        parameters = inspect.signature(loader).parameters.values()
    except (TypeError, ValueError):
        return False
    needed = [each for each in parameters if each.kind in (each.POSITIONAL_ONLY, each.POSITIONAL_OR_KEYWORD)]
    return len([each for each in needed if each.default is each.empty]) >= 2


def _decided(access: Access | None) -> Decision | None:
    """What refuses, or what decided."""
    return None if access is None else access.refusal or access.decision
