"""One log record a decision: who, what, which line, and what came of it. Never a token, never a body, never a query."""

from __future__ import annotations

import datetime
import json
import logging
import random
import re
import secrets
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, Literal

from .access import plain

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.decision import Decision
    from ..core.policy import Policy
    from .access import Access

log = logging.getLogger("bloodroot.audit")
_message = False
_FIELDS = (
    *("request", "caller", "actor", "roles", "groups", "scopes", "scoped_roles", "granted"),
    *("method", "path", "things", "line", "outcome", "reason", "enforced", "seconds"),
)
# What a client may call its request: anything else is not written down.
_ID = re.compile(r"[\w.:/+=@-]{1,200}", re.ASCII).fullmatch


class Audit:
    """What is written down of decisions, through ``logging.getLogger("bloodroot.audit")`` at the level INFO.

    Each record has as attributes ``request`` (an id of it), ``caller`` (the id), ``actor`` (who acts for the
    caller), ``roles`` and ``groups`` as they came (``editor in studio`` for a role that is held in a record which
    the request leads to), ``scopes`` and ``scoped_roles`` (what a token for less counts for), ``granted`` (the
    permissions that the directory gives), ``method``, ``path``, ``things`` (the records that it leads to, by thing),
    ``line`` (file and line), ``outcome`` (``allow``, ``deny``, ``sign-in``, ``missing`` or ``withheld``),
    ``reason``, ``enforced`` (false for what is only reported) and ``seconds`` (that deciding took, with what was
    loaded for it). `JsonLines` writes them as JSON.

    Args:
        which: ``all`` decisions, or the ``refused`` ones.
        sample: the share of allowed requests that are written down, from 0 to 1. Refusals always are.
        request_id: the header that has the id of a request; where it is missing, or has more than letters, digits and
            ``_.:/+=@-``, one is made.
        count: called for every decision, written down or not: with the request, the outcome in a word, and the seconds
            that deciding took. It must not wait for anything.

    Attributes:
        allowed: whether allowed requests are written down.
        counts: whether every decision is to be counted.
        request_id: the header that has the id of a request, in lower case.
    """

    def __init__(
        self,
        which: Literal["all", "refused"] = "refused",
        *,
        sample: float = 1.0,
        request_id: str = "X-Request-Id",
        count: Callable[[Access, str, float], None] | None = None,
    ) -> None:
        if which not in ("all", "refused") or not 0 <= sample <= 1:
            raise ValueError('which must be "all" or "refused", and sample a number from 0 to 1')
        self.allowed = which == "all"
        self._sample = sample
        self.request_id = request_id.lower()
        self._count = count
        self.counts = count is not None

    def log_how_to_see(self) -> None:
        """Say once in a process how to see the records, where nothing is set up to show them."""
        global _message
        if not _message and not log.hasHandlers():
            _message = True
            logging.getLogger("bloodroot.enforce").warning(
                "decisions are written down in the log bloodroot.audit at the level INFO, which has no handler here; "
                "give it one to see them: bloodroot.enforce.JsonLines formats them as JSON"
            )

    def count(self, access: Access, outcome: str, seconds: float) -> None:
        """Count what came of a request, whether it is written down or not."""
        if self._count is not None:
            try:
                self._count(access, outcome, seconds)
            except Exception:
                logging.getLogger("bloodroot.enforce").exception("a decision could not be counted")

    def write(
        self,
        access: Access,
        outcome: str,
        decision: Decision,
        *,
        request: str | None = None,
        enforced: bool = True,
        seconds: float | None = None,
    ) -> None:
        """Write down what came of a request.

        Args:
            access: the request as it was decided.
            outcome: in a word.
            decision: what decided: the endpoint's line, or a guard.
            request: an id of the request.
            enforced: whether the outcome is what the caller gets, and not only what would be.
            seconds: what deciding took.
        """
        if not log.isEnabledFor(logging.INFO):
            return
        if outcome == "allow" and self._sample < 1 and random.random() >= self._sample:  # noqa: S311
            return
        place = decision.place
        values: dict[str, Any] = {
            "request": request,
            **who_asks(access.caller, access.policy, access.decision),
            "method": access.method,
            "path": access.path,
            "things": _things(access),
            "line": place.at if place is not None else None,
            "outcome": outcome,
            "reason": decision.reason,
            "enforced": enforced,
            "seconds": round(seconds, 6) if seconds is not None else None,
        }
        # Where it was written down says nothing, and looking for it costs more than all the rest.
        log.handle(log.makeRecord(log.name, logging.INFO, __file__, 0, _Words(values), (), None, extra=values))


def id_of_request(given: str | None) -> str:
    """The id of a request: what the client or a proxy calls it, else one of our own."""
    return given if given is not None and _ID(given) else secrets.token_hex(16)


def _things(access: Access) -> dict[str, Any]:
    """The records that a request leads to, by thing."""
    decision = access.decision
    return access.policy.evaluator.things_there(decision.question, decision.line) if access.policy.roles.things else {}


_WHO = ("caller", "actor", "roles", "groups", "scopes", "scoped_roles", "granted")


def who_asks(caller: Caller | None, policy: Policy, decision: Decision | None) -> dict[str, Any]:
    """What is written down of a caller: all by which the same decision can be made again.

    Args:
        caller: the caller; None for a signed-out one, who has no roles, not even none.
        policy: what decided.
        decision: what was decided: roles of things are written where they are held in the records of the request.
    """
    if caller is None:
        return dict.fromkeys(_WHO)
    roles = sorted(caller.roles)
    if caller.roles_in and decision is not None:
        roles += policy.evaluator.kinds_there(decision.question, decision.line)
    return {
        "caller": caller.id,
        "actor": caller.actor,
        "roles": roles,
        "groups": sorted(caller.groups),
        "scopes": sorted(caller.scopes) if caller.scopes is not None else None,
        "scoped_roles": sorted(caller.scoped_roles) if caller.scoped_roles is not None else None,
        "granted": sorted(caller.granted),
    }


class _Words:
    """A decision in words, made only where they are read."""

    def __init__(self, values: Mapping[str, Any]) -> None:
        self._values = values

    def __str__(self) -> str:
        values = self._values
        # A signed-out caller has no roles, not even none.
        who = plain(values["caller"]) if values["roles"] is not None else "a signed-out caller"
        if values["actor"] is not None:
            who += f", for whom {plain(values['actor'])} acts,"
        because = f" ({values['reason']})" if values["reason"] else ""
        only = "" if values["enforced"] else ", which is only reported"
        return f"{plain(values['method'])} {plain(values['path'])} by {who}: {values['outcome']}{because}{only}"


class JsonLines(logging.Formatter):
    """Each record of the audit log as a line of JSON: the time (RFC 3339), and what `Audit` says."""

    def format(self, record: logging.LogRecord) -> str:
        """One line."""
        time = datetime.datetime.fromtimestamp(record.created, datetime.UTC)
        values = {name: getattr(record, name, None) for name in _FIELDS}
        # What the decision service was asked, and by which service.
        values |= {name: getattr(record, name) for name in ("asker", "resource") if hasattr(record, name)}
        return json.dumps({"time": time.isoformat(timespec="milliseconds"), **values}, default=str)
