"""Guards: what a function, a method or a class asks of whoever calls it."""

from __future__ import annotations

import functools
import inspect
import linecache
import sys
import weakref
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from ..core.requirements import references_in
from ..language.problems import Place, Source
from . import in_force
from .access import _current, log

if TYPE_CHECKING:
    from ..core.lines import Line
    from ..core.policy import Policy

T = TypeVar("T")
_HANDLERS = ("get", "head", "post", "put", "patch", "delete", "options", "trace")


class Guard:
    """One guard: its text, where it stands, and what it means under each policy.

    Attributes:
        text: what is asked.
        place: file and line of the program.
        policy: the policy to ask, or None for that of the request or the job at hand.
    """

    def __init__(self, text: str, place: Place, policy: Policy | None) -> None:
        self.text = text
        self.place = place
        self.policy = policy
        self._lines: weakref.WeakKeyDictionary[Policy, tuple[Line, bool]] = weakref.WeakKeyDictionary()
        if policy is not None:
            self.line_for(policy)
        else:
            in_force.add_guard(self)

    def line_for(self, policy: Policy) -> Line:
        """What is asked, in the words of a policy.

        Raises:
            PolicyError: the policy does not know them.
        """
        return self._line(policy)[0]

    def _line(self, policy: Policy) -> tuple[Line, bool]:
        found = self._lines.get(policy)
        if found is None:
            line = policy.guard(self.text, self.place)
            asks_for_arguments = any(each.root == "args" for each in references_in(line.requirement))
            found = self._lines[policy] = (line, asks_for_arguments)
        return found

    def ask(self, arguments: Callable[[], Mapping[str, Any]]) -> None:
        """Let whoever acts pass, or not.

        Args:
            arguments: gives the arguments of the call by name; asked only where they matter.

        Raises:
            Refused: the caller may not pass.
            RuntimeError: nobody acts here, so nobody may pass.
        """
        acting = _current.get(None)
        if acting is None:
            told = (
                f'guard("{self.text}") in {self.place.at} was called where nobody acts, so it refuses: put '
                "bloodroot's middleware around the application, or call it within `with on_behalf_of(caller):`"
            )
            log.error("%s", told)
            raise RuntimeError(told)
        line, wants_arguments = self._line(self.policy or acting.policy)
        acting.pass_guard(line, arguments() if wants_arguments else None)


def guard(asked: str, *, policy: Policy | None = None) -> Callable[[T], T]:
    """Ask something of whoever calls a function, beside what the endpoint's line asks.

    Put it around a handler, a method, a class-based handler or any function of a service, sync or async. Arguments are
    seen by name: ``@guard("registrar or args.member_id == caller.id")``. A call where nobody acts is refused.

    Args:
        asked: a requirement as in the policy, which may hold comparisons.
        policy: what decides; by default the policy of the request or the job at hand.

    Raises:
        PolicyError: here or when the policy is put in force: it cannot be read, or names what the policy does not know.
    """
    made = Guard(asked, place_of_call(asked), policy)

    def around(what: T) -> T:
        found: T = _guarded(what, made)
        return found

    return around


def _guarded(what: Any, asks: Guard) -> Any:
    if isinstance(what, staticmethod | classmethod):
        return type(what)(_guarded(what.__func__, asks))
    if inspect.isclass(what):
        return _guarded_class(what, asks)
    if not callable(what):
        raise TypeError(f"guard goes around a function or a class, not around {type(what).__name__}")
    return _guarded_function(what, asks)


def _guarded_class(what: type, asks: Guard) -> type:
    """A class-based handler: each of its methods that serves requests, inherited ones too, or its ``__call__``."""
    names = [name for name in _HANDLERS if callable(getattr(what, name, None))]
    if not names and "__call__" in vars(what):
        names = ["__call__"]
    if not names:
        raise TypeError(
            f"{what.__name__} has no method such as get or post to guard; put guard around the methods of a service"
        )
    for name in names:
        setattr(what, name, _guarded(inspect.getattr_static(what, name), asks))
    what.__bloodroot_guards__ = (*getattr(what, "__bloodroot_guards__", ()), asks)  # type: ignore[attr-defined]
    return what


def _guarded_function(function: Callable[..., Any], asks: Guard) -> Callable[..., Any]:
    signature = inspect.signature(function)

    def ask(positional: tuple[Any, ...], named: dict[str, Any]) -> None:
        def arguments() -> Mapping[str, Any]:
            bound = signature.bind(*positional, **named)
            bound.apply_defaults()
            found = dict(bound.arguments)
            for name, parameter in signature.parameters.items():
                if parameter.kind is parameter.VAR_KEYWORD:
                    found |= found.pop(name, {})
            return found

        asks.ask(arguments)

    wrapper: Any
    if inspect.isasyncgenfunction(function):

        @functools.wraps(function)
        async def in_steps_async(*positional: Any, **named: Any) -> AsyncIterator[Any]:
            ask(positional, named)
            async for each in function(*positional, **named):
                yield each

        wrapper = in_steps_async
    elif inspect.iscoroutinefunction(function):

        @functools.wraps(function)
        async def later(*positional: Any, **named: Any) -> Any:
            ask(positional, named)
            return await function(*positional, **named)

        wrapper = later
    elif inspect.isgeneratorfunction(function):

        @functools.wraps(function)
        def in_steps(*positional: Any, **named: Any) -> Iterator[Any]:
            ask(positional, named)
            yield from function(*positional, **named)

        wrapper = in_steps
    else:

        @functools.wraps(function)
        def at_once(*positional: Any, **named: Any) -> Any:
            ask(positional, named)
            return function(*positional, **named)

        wrapper = at_once
    wrapper.__bloodroot_guards__ = (*getattr(function, "__bloodroot_guards__", ()), asks)
    guarded: Callable[..., Any] = wrapper
    return guarded


def guards_of(handler: Any) -> tuple[Guard, ...]:
    """The guards around a handler: a function, a bound method or a class."""
    found: tuple[Guard, ...] = getattr(handler, "__bloodroot_guards__", ())
    return found or getattr(getattr(handler, "__func__", None), "__bloodroot_guards__", ())


def place_of_call(asked: str) -> Place:
    """Where the program says ``guard("...")``: the text itself, where it stands on one line."""
    frame = sys._getframe(2)
    name, number = frame.f_code.co_filename, frame.f_lineno
    lines = tuple(line.rstrip("\n") for line in linecache.getlines(name, frame.f_globals))
    source = Source(_short(name), lines)
    for line in range(number, min(number + 20, len(lines) + 1)):
        column = lines[line - 1].find(asked)
        if column >= 0:
            return Place(source, line, column + 1, len(asked))
    return Place(Source(f"{_short(name)}:{number}", (asked,)), 1, 1, len(asked))


def _short(name: str) -> str:
    """A file's name as short as it can be told from here."""
    try:
        return str(Path(name).relative_to(Path.cwd()))
    except (ValueError, OSError):
        return name
