"""What every kind of server does with a request, before the handler and after it. No input or output here."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from ..core.answers import Answer
from ..core.caller import Caller, Unidentified
from ..core.decision import Decision
from ..core.fields import FieldsRefused
from ..core.policy import Policy
from . import answers, in_force
from .access import Access, Refused, log
from .answers import Response
from .audit import Audit
from .seen import Seen, query_of

Identify = Callable[[Any], Caller | None | Awaitable[Caller | None]]
Loader = Callable[[str], Any]
Page = Callable[[Answer, Seen], str | bytes | None]


class Enforcement:
    """A policy put in front of an application.

    Args:
        policy: what decides. It is put in force: guards are held against it.
        identify: who sends a request? Returns a `Caller`, or None for a signed-out one; raises
            `bloodroot.Unidentified` for one who is not to be believed. What `bloodroot.identity.load` gives will do.
        records: for path parameters, how to load the record one stands for: a function from the parameter's text to
            the record, or to None where there is none.
        page: what people are shown instead of the small page of a refusal: a function from the answer and the request
            to HTML, or to None for the small page. Of a missing page (``hide``) it should give the application's own.
        audit: what is written down of decisions; None for nothing.

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
    ) -> None:
        in_force.use(policy)
        self.policy = policy
        self.identify = identify
        self.records = dict(records or {})
        self.page = page
        self.audit = audit if audit is not None else Audit()
        self.realm = policy.title or "application"

    # Before the handler --------------------------------------------------------------------------------

    def begin(self, request: Seen, caller: Caller | None, unidentified: Unidentified | None) -> Access:
        """A request with its first decision.

        Raises:
            TypeError: ``identify`` has returned something else than a caller.
        """
        text = request.query_string
        if not text:
            return Access(self.policy, caller, request.method, request.path, {}, unidentified)
        query = query_of(text)
        path = request.path if query is not None else ""
        return Access(self.policy, caller, request.method, path, query or {}, unidentified)

    def to_load(self, access: Access) -> tuple[Loader, str] | None:
        """The loader for the record of a request and the text to give it, or None where there is nothing to load.

        It is that of the last parameter of the path that has one. Nothing is loaded for a caller who is refused
        whatever the record: they learn nothing of whether there is one.
        """
        if not self.records or access.decision.reason is not None:
            return None
        values = access.decision.path_values
        name = next((name for name in reversed(tuple(values)) if name in self.records), None)
        return (self.records[name], values[name]) if name is not None else None

    def loaded(self, access: Access, record: Any) -> Answer | None:
        """Decide again with what a loader found; the answer where a record is missing that all depends on."""
        if record is None:
            return answers.MISSING if self._needs_record(access) else None
        access.decide_with(record)
        return None

    def _needs_record(self, access: Access) -> bool:
        line = access.decision.line
        return access.open and line is not None and self.policy.asks_for("record", line, access.method)

    # After the handler --------------------------------------------------------------------------------

    def refusal_after(self, access: Access, status: int) -> Answer | None:
        """What the caller gets instead of the handler's response, or None where that may go out.

        Args:
            access: the request.
            status: the handler's own status, which counts where it says that there is no such record.
        """
        if access.cleared:
            return None
        if access.refusal is not None:
            return access.refusal.answer or answers.UNSETTLED
        if status == 404:
            # A handler that finds no record has nothing to settle. What it says of that is left out.
            return answers.MISSING
        line, remains = access.decision.line, access.decision.remainder
        log.error(
            "%s %s: nobody settled %s, which %s asks for; the response is withheld. Register a loader for the path "
            "parameter, or call current().settle(record)",
            access.method,
            access.path,
            access.open_guards or (remains.words() if remains is not None else "the condition"),
            line.place.at if line is not None else "the policy",
        )
        return answers.UNSETTLED

    def refusal_raised(self, error: Exception) -> Answer | None:
        """What an exception of a handler becomes; None for one that is not a refusal."""
        if isinstance(error, Refused):
            return error.decision.answer or answers.UNSETTLED
        if isinstance(error, FieldsRefused):
            return Answer(403, f"You may not change {', '.join(error.fields)}.")
        return None

    def extra_headers(self, access: Access) -> bool:
        """Whether a response needs ``Vary``, and ``Cache-Control`` where it has none, so that no cache gives it to
        somebody else. What is open to anyone, and was made without asking who it is for, stays as it is.
        """
        line = access.decision.line
        return line is None or not line.open_to_anyone or access.consulted

    # Answers --------------------------------------------------------------------------------

    def respond(self, answer: Answer, request: Seen, access: Access | None) -> Response:
        """A refusal as a response."""
        decided = _decided(access)
        return answers.response(
            answer,
            request.header("accept") or "",
            self.realm,
            # A page for visitors alone is none to come back to.
            request.asked_for if decided is None or decided.reason != "signed-in" else None,
            access.invalid_token if access is not None else None,
            self._lacking_scopes(access, decided) if answer.status == 403 else (),
            lambda: self.page(answer, request) if self.page is not None else None,
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
            # Without a reason of the policy: no record, a change to fields, or something that nobody settled.
            outcome = {404: "missing", 403: "deny"}.get(answer.status, "withheld")
        else:
            outcome = decided.outcome.value
        self.audit.write(access, outcome, decided)

    def failed(self, request: Seen) -> Answer:
        """What the caller gets where ``identify`` itself failed: there is nobody to decide for."""
        log.exception("identify failed for %s %s; the request is refused", request.method, request.path)
        return answers.NO_CALLER


def _decided(access: Access | None) -> Decision | None:
    """What refuses, or what decided."""
    if access is None:
        return None
    return access.refusal or access.decision
