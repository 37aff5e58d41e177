"""What a test says of the requests that it sends: whose they are, and that each decision is to be written down.

It is a context variable: nothing that comes with a request can set it, and without a test there is nothing in it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ..core.caller import Caller


@dataclass(frozen=True, slots=True)
class InTest:
    """What holds for the requests of a test.

    Attributes:
        acts: whether they are taken for those of ``caller``, and the application's own ``identify`` is not asked.
        caller: whose they are; None for a signed-out caller.
    """

    acts: bool = False
    caller: Caller | None = None


in_test: ContextVar[InTest | None] = ContextVar("in_test", default=None)


@contextmanager
def requests_of_test(requests: InTest) -> Iterator[None]:
    """Requests that are sent within are a test's."""
    token = in_test.set(requests)
    try:
        yield
    finally:
        in_test.reset(token)
