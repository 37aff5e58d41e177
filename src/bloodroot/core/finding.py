"""A finding: a mistake or a risk that a check saw; and the kinds of findings there are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from ..language.problems import Place


class Severity(StrEnum):
    """How bad a finding is."""

    ERROR = "error"  # a caller gets in who should not, or something can never take effect
    WARNING = "warning"  # most likely a mistake
    NOTE = "note"  # right or wrong, worth a look

    @property
    def rank(self) -> int:
        """0 for the worst."""
        return list(Severity).index(self)


class Needs(StrEnum):
    """What a check has to know beside the policy."""

    POLICY = "policy"
    ENDPOINTS = "endpoints"
    ROUTES = "routes"
    SETTINGS = "settings"


@dataclass(frozen=True, slots=True)
class Witness:
    """A caller and a request that show a finding.

    Attributes:
        roles: the roles of the caller; None for a signed-out one.
        caller: attributes of the caller, ``id`` among them.
        record: attributes of the record that the endpoint acts on; None where it does not matter.
        others: what else is known, by its words in the policy, such as ``query.year``.
        method: the method of the request.
        path: its path, or an empty string where the finding is not about one request.
        outcome: what the policy says of it.
    """

    roles: tuple[str, ...] | None
    caller: Mapping[str, Any] = field(default_factory=dict)
    record: Mapping[str, Any] | None = None
    others: Mapping[str, Any] = field(default_factory=dict)
    method: str = ""
    path: str = ""
    outcome: str = ""


@dataclass(frozen=True, slots=True)
class FindingKind:
    """A kind of finding.

    Attributes:
        name: what it is called in results, in ``accept`` and in the documentation.
        severity: how bad it is, unless a finding says otherwise.
        summary: one sentence about it.
        remedy: what to do about it.
        needs: what has to be known to find it.
        at_start: whether it is looked for as well where an application starts.
    """

    name: str
    severity: Severity
    summary: str
    remedy: str
    needs: Needs = Needs.POLICY
    at_start: bool = False

    def at(
        self,
        place: Place,
        message: str,
        *,
        remedy: str = "",
        severity: Severity | None = None,
        witness: Witness | None = None,
        related: tuple[Place, ...] = (),
    ) -> Finding:
        """A finding of this kind."""
        return Finding(self, severity or self.severity, place, message, remedy or self.remedy, witness, related)


@dataclass(frozen=True, slots=True)
class Finding:
    """One mistake or risk.

    Attributes:
        kind: what kind it is.
        severity: how bad it is.
        place: where it is: in the policy, in the application, or in what describes it.
        message: what is wrong, in one or two sentences.
        remedy: what to do.
        witness: a caller and a request that show it, where that helps.
        related: other places that it has to do with.
    """

    kind: FindingKind
    severity: Severity
    place: Place
    message: str
    remedy: str
    witness: Witness | None = None
    related: tuple[Place, ...] = ()

    @property
    def name(self) -> str:
        """The name of its kind."""
        return self.kind.name

    @property
    def text(self) -> str:
        """The line that it is about, blanks squeezed; an empty string where the source is not a policy."""
        return " ".join(self.place.text.split(" #")[0].split())
