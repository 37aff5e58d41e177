"""What is different between two policies, as plain data."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING

from ..core.finding import Witness

if TYPE_CHECKING:
    from ..core.lines import ActionLine, Line
    from ..core.policy import Policy


class Change(StrEnum):
    """What becomes of access."""

    GAINED = "gained"  # refused before, let in now, at least sometimes
    LOST = "lost"  # the other way round
    WIDENED = "widened"  # let in whenever it was before, and in other cases too
    NARROWED = "narrowed"  # the other way round
    DIFFERENT = "different"  # let in in other cases than before, neither all of the old nor all of the new
    ANSWER = "answer"  # refused alike, and answered otherwise

    @property
    def opens(self) -> bool:
        """Whether a caller may be let in who was not before."""
        return self in (Change.GAINED, Change.WIDENED, Change.DIFFERENT)


@dataclass(frozen=True, slots=True)
class Shown:
    """A request that shows a change, and what each policy says of it.

    Attributes:
        witness: the caller and the request.
        old: the old outcome, or the old answer where that is what changes.
        new: the new one.
        command: the command that explains it, but for the policy; None where a command line cannot say it.
    """

    witness: Witness
    old: str
    new: str
    command: str | None


@dataclass(frozen=True, slots=True)
class CellChange:
    """What changes for one kind of caller at one endpoint.

    Attributes:
        method: the method; ``any`` for those that nothing names, ``action`` for an action of which no route is known.
        path: the path template, or the name of the action.
        role: ``signed-out``, ``signed-in``, a role, or roles held together as in ``curator with auditor``.
        holding: what else the callers are who see the change, where it is not all who have the role: ``granted
            trial:read``, ``a token for trial:read alone``, ``a token for no permission``; an empty string for all.
        change: what becomes of access.
        old: what it was: ``allow``, ``deny``, ``sign-in``, ``if own-trial``; with the answer where that changes.
        new: what it is.
        proved: whether the change is certain; False where the conditions could not be compared.
        shown: a request that shows it; None where none was found.
        old_line: the line that decided, or None.
        new_line: the line that decides, or None.
    """

    method: str
    path: str
    role: str
    holding: str
    change: Change
    old: str
    new: str
    proved: bool = True
    shown: Shown | None = None
    old_line: Line | ActionLine | None = None
    new_line: Line | ActionLine | None = None


@dataclass(frozen=True, slots=True)
class EndpointChange:
    """A line that one of the policies has not.

    Attributes:
        method: its method.
        path: its template, or the name of the action.
        new: whether it is new; else it is gone.
        line: the line.
        covered: the line of the other policy that decides there; None where it was, or is, closed.
    """

    method: str
    path: str
    new: bool
    line: Line | ActionLine
    covered: Line | None


@dataclass(frozen=True, slots=True)
class NameChange:
    """What changes for one kind of caller at a field, or at a permission or a condition asked in code.

    Attributes:
        name: ``accession.donor_email``, ``trial:edit`` or the name of a condition.
        verb: ``read`` or ``change`` for a field, else an empty string.
        role: the kind of caller, as in `CellChange`; an empty string for a condition.
        change: what becomes of it.
        old: what it was.
        new: what it is.
        proved: whether that is certain.
    """

    name: str
    verb: str
    role: str
    change: Change
    old: str
    new: str
    proved: bool = True


@dataclass(frozen=True, slots=True)
class Declared:
    """Something that is declared otherwise: a role, a group, roles kept apart, a permission.

    Attributes:
        kind: ``role``, ``group``, ``apart``, ``default`` or ``permission``.
        name: its name.
        old: the names that it had; None where it is new.
        new: the names that it has; None where it is gone.
    """

    kind: str
    name: str
    old: tuple[str, ...] | None
    new: tuple[str, ...] | None

    @property
    def opens(self) -> bool:
        """Whether a caller may hold more than before."""
        if self.kind == "apart":
            return self.new is None
        return self.kind != "permission" and bool(set(self.new or ()) - set(self.old or ()))


@dataclass(frozen=True, slots=True)
class Side:
    """One of two policies that are compared.

    Attributes:
        policy: the policy; bound, where it names actions and an application is known.
        name: what it is called, as a command takes it.
        actions: its lines for actions that no known route serves.
    """

    policy: Policy
    name: str
    actions: tuple[ActionLine, ...] = ()


@dataclass(frozen=True, slots=True)
class PolicyComparison:
    """Two policies, and all that is different between them.

    Attributes:
        old: the old policy.
        new: the new one.
        cells: endpoints by kind of caller.
        endpoints: lines that are new or gone.
        fields: fields by kind of caller.
        permissions: permissions that code may ask for, by kind of caller.
        conditions: named conditions that guards in code may ask for.
        declared: roles, groups, roles kept apart and permissions that are declared otherwise.
        left_open: sentences about what could not be compared.
    """

    old: Side
    new: Side
    cells: tuple[CellChange, ...]
    endpoints: tuple[EndpointChange, ...]
    fields: tuple[NameChange, ...]
    permissions: tuple[NameChange, ...]
    conditions: tuple[NameChange, ...]
    declared: tuple[Declared, ...]
    left_open: tuple[str, ...] = field(default=())

    @property
    def same_access(self) -> bool:
        """Whether it is certain that no one's access changes: not at an endpoint, nor in what code may ask for."""
        # A new line may say what a wider one said before.
        return not (self.cells or self.fields or self.permissions or self.conditions or self.declared or self.left_open)

    @property
    def opens(self) -> bool:
        """Whether a caller may be let in, see a field or hold something who was not, or did not, before.

        What could not be compared may be so.
        """
        named = (*self.fields, *self.permissions, *self.conditions)
        return (
            bool(self.left_open)
            or any(cell.change.opens for cell in self.cells)
            or any(change.change.opens for change in named)
            or any(declared.opens for declared in self.declared)
        )

    def counts(self) -> Counter[Change]:
        """How many cells change in which way."""
        return Counter(cell.change for cell in self.cells)
