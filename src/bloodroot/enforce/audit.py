"""One log record a decision: who, what, which line, and what came of it. Never a token, never a body, never a query."""

from __future__ import annotations

import datetime
import json
import logging
import random
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Literal

from .access import plain

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.decision import Decision
    from .access import Access

log = logging.getLogger("bloodroot.audit")
_message = False
_FIELDS = ("caller", "roles", "groups", "method", "path", "line", "outcome", "reason")


class Audit:
    """What is written down of decisions, through ``logging.getLogger("bloodroot.audit")`` at the level INFO.

    Each record has ``caller`` (the id), ``roles`` and ``groups`` as they came (``editor in studio`` for a role that is
    held in a record which the request leads to), ``method``, ``path``, ``line`` (file and line), ``outcome``
    (``allow``, ``deny``, ``sign-in``, ``missing`` or ``withheld``) and ``reason`` as attributes; `JsonLines` writes
    them as JSON.

    Args:
        which: ``all`` decisions, or the ``refused`` ones.
        sample: the share of allowed requests that are written down, from 0 to 1. Refusals always are.

    Attributes:
        allowed: whether allowed requests are written down.
    """

    def __init__(self, which: Literal["all", "refused"] = "refused", *, sample: float = 1.0) -> None:
        if which not in ("all", "refused") or not 0 <= sample <= 1:
            raise ValueError('which must be "all" or "refused", and sample a number from 0 to 1')
        self.allowed = which == "all"
        self._sample = sample

    def log_how_to_see(self) -> None:
        """Say once in a process how to see the records, where nothing is set up to show them."""
        global _message
        if not _message and not log.hasHandlers():
            _message = True
            logging.getLogger("bloodroot.enforce").warning(
                "decisions are written down in the log bloodroot.audit at the level INFO, which has no handler here; "
                "give it one to see them: bloodroot.enforce.JsonLines formats them as JSON"
            )

    def write(self, access: Access, outcome: str, decision: Decision) -> None:
        """Write down what came of a request.

        Args:
            access: the request.
            outcome: in a word.
            decision: what decided: the endpoint's line, or a guard.
        """
        if not log.isEnabledFor(logging.INFO):
            return
        if outcome == "allow" and self._sample < 1 and random.random() >= self._sample:  # noqa: S311
            return
        place, caller = decision.place, access.caller
        values: dict[str, Any] = {
            "caller": caller.id if caller is not None else None,
            "roles": _roles(access, caller) if caller is not None else None,
            "groups": sorted(caller.groups) if caller is not None else None,
            "method": access.method,
            "path": access.path,
            "line": place.at if place is not None else None,
            "outcome": outcome,
            "reason": decision.reason,
        }
        # Where it was written down says nothing, and looking for it costs more than all the rest.
        log.handle(log.makeRecord(log.name, logging.INFO, __file__, 0, _Words(values), (), None, extra=values))


def _roles(access: Access, caller: Caller) -> list[str]:
    """The roles that a caller has: those of things where they are held in the records of the request."""
    roles = sorted(caller.roles)
    if caller.roles_in:
        decision = access.decision
        roles += access.policy.evaluator.kinds_there(decision.question, decision.line)
    return roles


class _Words:
    """A decision in words, made only where somebody reads them."""

    def __init__(self, values: Mapping[str, Any]) -> None:
        self._values = values

    def __str__(self) -> str:
        values = self._values
        # A signed-out caller has no roles, not even none.
        who = plain(values["caller"]) if values["roles"] is not None else "a signed-out caller"
        because = f" ({values['reason']})" if values["reason"] else ""
        return f"{plain(values['method'])} {plain(values['path'])} by {who}: {values['outcome']}{because}"


class JsonLines(logging.Formatter):
    """Each record of the audit log as a line of JSON: time (RFC 3339), caller, roles, groups, method, path, line,
    outcome, reason."""

    def format(self, record: logging.LogRecord) -> str:
        """One line."""
        time = datetime.datetime.fromtimestamp(record.created, datetime.UTC)
        values = {name: getattr(record, name, None) for name in _FIELDS}
        return json.dumps({"time": time.isoformat(timespec="milliseconds"), **values}, default=str)
