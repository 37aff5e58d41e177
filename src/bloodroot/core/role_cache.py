"""What is kept of requirements: for each set of roles what is left to ask, and the predicate that asks it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .formulas import Facts, Formula
from .predicates import Predicate, compiled
from .records import UNKNOWN
from .requirements import asks_of
from .roles import SIGNED_OUT

if TYPE_CHECKING:
    from .caller import Caller
    from .locating import There

_MOST = 8192


class Remaining:
    """What is left of a requirement for a caller of whom only some is known, mostly the roles.

    Attributes:
        formula: what is left.
        asks: whether that rests on the path and on the time, as `requirements.asks_of` says.
    """

    __slots__ = ("_predicate", "_requirement", "asks", "formula")

    def __init__(self, requirement: Formula, facts: Facts) -> None:
        # With the requirement itself, so that an id of one is never that of another.
        self._requirement = requirement
        self.formula = requirement.fold(facts)
        self.asks = asks_of(self.formula)
        self._predicate: Predicate | None = None

    @property
    def predicate(self) -> Predicate:
        """The predicate of what is left, compiled when it is asked for."""
        if self._predicate is None:
            self._predicate = compiled(self.formula)
        return self._predicate


class RoleCache:
    """What is kept for each requirement and set of roles that was asked for; no more than a bounded number.

    Args:
        somewhere: what a caller of whom only that is known holds in things.
    """

    def __init__(self, somewhere: There) -> None:
        self._somewhere = somewhere
        self._kept: dict[tuple[int, int], Remaining] = {}

    def get(self, requirement: Formula, bits: int) -> Remaining:
        """What is left of a requirement for these roles."""
        cached = self._kept.get((id(requirement), bits))
        if cached is None:
            if len(self._kept) >= _MOST:
                # Roles come from tokens: without a limit they could fill the memory.
                self._kept.clear()
            cached = self._kept[id(requirement), bits] = Remaining(requirement, self._facts_of_roles(bits))
        return cached

    def _facts_of_roles(self, bits: int) -> Facts:
        if bits & SIGNED_OUT:
            return Facts(bits, bits)
        return Facts(bits, bits, caller=UNKNOWN, there=self._somewhere)


def is_plain(caller: Caller | None) -> bool:
    """Whether the roles of a caller are all that gives permissions: no scopes take away, and no directory adds."""
    return caller is None or (caller.scopes is None and not caller.granted)
