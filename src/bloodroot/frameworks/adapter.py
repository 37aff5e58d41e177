"""What is asked of a web framework beside the requests that it serves."""

from __future__ import annotations

import functools
import inspect
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

if TYPE_CHECKING:
    import unittest

    from ..core.binding import Resolved, Route

Around = Callable[[], AbstractContextManager[None]]


class Watcher(Protocol):
    """What takes note of the handlers that a framework calls."""

    def serves(self, handler: Any, *, begins: bool = True) -> None:
        """The framework has chosen a handler, and calls it; ``begins`` is false where something may refuse before."""
        ...

    def replace(self, owner: Any, name: str, value: Any) -> None:
        """Put something in the place of an attribute, until nothing is watched any more."""
        ...

    def later(self, undo: Callable[[], None]) -> None:
        """Do something once nothing is watched any more."""
        ...


class Adapter(ABC):
    """One framework.

    Attributes:
        name: the name of its module.
        title: its name in messages.
        serves_itself: whether only its own server can call an application.
        protection: what puts a policy in front of an application, for messages.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    serves_itself: ClassVar[bool] = False

    @property
    def protection(self) -> str:
        """What puts a policy in front of an application, for messages."""
        return f"bloodroot.enforce.{self.name}.protect(app, ...)"

    @abstractmethod
    def detect(self, layer: Any) -> bool:
        """Whether an object is an application of this framework, and not middleware around one."""

    @abstractmethod
    def routes(self, app: Any) -> list[Route]:
        """Every route of an application."""

    def resolver(self, app: Any) -> Callable[[str], Resolved | None] | None:  # noqa: ARG002
        """What says which route serves a path; None where the order of the routes does not count."""
        return None

    @abstractmethod
    def watch(self, watcher: Watcher) -> None:
        """Tell a watcher of each handler that is called in this process; nothing where the framework is not loaded."""

    def document(self, app: Any) -> Mapping[str, Any] | None:  # noqa: ARG002
        """The OpenAPI document that an application makes of itself; None for a framework that makes none."""
        return None

    def around_loaders(self, app: Any) -> AbstractContextManager[Any]:  # noqa: ARG002
        """What the application's own code has to run within, where there is no request."""
        return nullcontext()

    @property
    def rows_of_table(self) -> Callable[[str], list[Any]] | None:
        """What reads the rows of a table in the framework's own databases; None for a framework that has none."""
        return None

    def rollback(self) -> Around | None:
        """What a request is made within so that no database keeps what it changes; None where that is not known."""
        return None

    def rollback_in(self, test: unittest.TestCase) -> Around | None:  # noqa: ARG002
        """The same within a transaction that a test is in; None for a test that is in none."""
        return None


def made_with(layer: Any, package: str) -> bool:
    """Whether the class of an object, or one that it derives from, is a package's."""
    return any(kind.__module__.split(".")[0] == package for kind in type(layer).__mro__)


def before(function: Callable[..., Any], note: Callable[[], None]) -> Callable[..., Any]:
    """A function that notes each call first; it stays async where it was."""
    if inspect.iscoroutinefunction(function):

        @functools.wraps(function)
        async def seen_async(*args: Any, **values: Any) -> Any:
            note()
            return await function(*args, **values)

        return seen_async

    @functools.wraps(function)
    def seen(*args: Any, **values: Any) -> Any:
        note()
        return function(*args, **values)

    return seen
