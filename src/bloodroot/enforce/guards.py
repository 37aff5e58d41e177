"""Guards: what a function, a method or a class asks of its caller."""

from __future__ import annotations

import contextlib
import functools
import gc
import inspect
import linecache
import sys
import weakref
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from ..core.requirements import references_in
from ..language.problems import Place, PolicyError, Problem, SourceText
from . import active_policies
from .access import _current, log
from .errors import EnforcementError
from .guarded_classes import entries_of, guard_class, handlers_of

if TYPE_CHECKING:
    from ..core.binding import Route
    from ..core.lines import CompiledGuard
    from ..core.policy import Policy

T = TypeVar("T")


class Guard:
    """One guard: its text, where it is, and what it means under each policy.

    Attributes:
        text: what is asked.
        place: file and line of the program.
        policy: the policy to ask, or None for that of the request or the job at hand.
        part: whether a refusal is of a part of the answer alone.
        blind: what hides the arguments of the function from the guard, or an empty string.
        understood: whether some policy has known all that it requires.
        seen: for how many functions it was looked whether a cache is around them.
    """

    blind = ""
    part = False
    understood = False
    seen = 0

    def __init__(self, text: str, place: Place, policy: Policy | None) -> None:
        self.text = text
        self.place = place
        self.policy = policy
        self._compiled_for: weakref.WeakKeyDictionary[Policy, tuple[CompiledGuard, bool]] = weakref.WeakKeyDictionary()
        if policy is not None:
            self.compiled_for(policy)
        else:
            active_policies.add_guard(self)

    def compiled_for(self, policy: Policy) -> CompiledGuard:
        """What is asked, in the words of a policy.

        Raises:
            PolicyError: the policy does not know them, or the guard cannot see the arguments it requires.
        """
        return self._compiled(policy)[0]

    def _compiled(self, policy: Policy) -> tuple[CompiledGuard, bool]:
        compiled = self._compiled_for.get(policy)
        if compiled is None:
            guard = policy.guard(self.text, self.place)
            asks_for_arguments = any(reference.root == "args" for reference in references_in(guard.requirement.formula))
            compiled = self._compiled_for[policy] = (guard, asks_for_arguments)
            self.understood = True
        if compiled[1] and self.blind:
            raise PolicyError([Problem(self.blind, self.place)])
        return compiled

    def hide_arguments(self, message: str) -> None:
        """Note that the arguments of the function cannot be seen; PolicyError where they are asked for."""
        self.blind = message
        if "args." in self.text or any(wants for _, wants in self._compiled_for.values()):
            raise PolicyError([Problem(message, self.place)])

    def ask(self, arguments: Callable[[], Mapping[str, Any]], around: str) -> None:
        """Let the caller who acts pass, or not.

        Args:
            arguments: gives the arguments of the call by name; asked only where they matter.
            around: the name of what the guard is around.

        Raises:
            Refusal: the caller may not pass.
            RuntimeError: no caller acts here, so none may pass.
        """
        acting = _current.get()
        of = f'guard("{self.text}") in {self.place.at} around {around}'
        if acting is None:
            sentence = (
                f"{of} was called where no caller acts, so it refuses: protect the application, or call it within "
                "`with on_behalf_of(caller):`"
            )
            log.error("%s", sentence)
            raise EnforcementError(sentence)
        guard, wants_arguments = self._compiled(self.policy or acting.policy)
        given = arguments() if wants_arguments else None
        acting.pass_guard(guard, given, policy=self.policy, of=of, part=self.part)


def guard(requirement: str, *, policy: Policy | None = None, part: bool = False) -> Callable[[T], T]:
    """Require something of the caller of a function, beside the requirement of the endpoint's line.

    Put it around a handler, a method, a class-based handler or any function of a service, sync or async. Arguments are
    seen by name: ``@guard("registrar or args.member_id == caller.id")``. A call without a caller is refused.

    Args:
        requirement: in the words of the policy; it may contain comparisons.
        policy: what decides; by default the policy of the request or the job at hand.
        part: whether a refusal is of a part of the answer alone, as of a field of GraphQL: it is raised, the handler
            goes on without that part, and the response may leave. What the line requires holds for all of it.

    Raises:
        PolicyError: here or when the policy is put in force: it cannot be read, or names what the policy does not know.
    """
    made = Guard(requirement, place_of_call(requirement), policy)
    made.part = part

    def around(what: T) -> T:
        guarded: T = _guarded(what, made)
        return guarded

    return around


def _guarded(what: Any, guard: Guard) -> Any:
    if isinstance(what, staticmethod | classmethod):
        return type(what)(_guarded(what.__func__, guard))
    if inspect.isclass(what):
        return _guarded_class(what, guard)
    if not callable(what):
        raise TypeError(f"guard goes around a function or a class, not around {type(what).__name__}")
    return _guarded_function(what, guard)


def _guarded_class(what: type, guard: Guard) -> type:
    """A class with a guard around what runs first of it."""
    guard_class(what, lambda function: _guarded_function(function, guard), guard.hide_arguments)
    what.__bloodroot_guards__ = (*getattr(what, "__bloodroot_guards__", ()), guard)  # type: ignore[attr-defined]
    return what


def misplaced(route: Route) -> Iterator[tuple[Guard, str]]:
    """Guards around the handler of a route that the framework would not run, each with the reason."""
    handler = route.handler
    if not isinstance(handler, type):
        with_guards = guards_of(handler)
        for reference in _around.get(getattr(handler, "__func__", handler), ()) if _can_be_noted(handler) else ():
            guard = reference()
            if guard is not None and guard not in with_guards:
                yield (
                    guard,
                    (
                        f"this guard is never run: {_name(handler)} was given to the framework without it; put the "
                        "guard below the decorator of the route"
                    ),
                )
        return
    for guard in getattr(handler, "__bloodroot_guards__", ()):
        if guard not in route.guards_of_all:
            yield (
                guard,
                (
                    f"this guard is not run for {handler.__name__}, which has another way in than the class it is "
                    f"around; put the guard around {handler.__name__} as well"
                ),
            )


_around: weakref.WeakKeyDictionary[Any, list[weakref.ref[Guard]]] = weakref.WeakKeyDictionary()


_ENOUGH = 5
unchecked: weakref.WeakSet[Any] = weakref.WeakSet()  # guarded functions, until it is seen that no cache is around one


def refuse_caches(function: Any = None) -> None:
    """See that no cache is around a guard: it would give to one caller what another one was let in to see.

    Args:
        function: a guarded function; by default all that were not seen yet.

    Raises:
        EnforcementError: there is one.
    """
    if function is None and not unchecked:
        return
    for holder in gc.get_objects() if function is None else gc.get_referrers(function):
        # A cache takes over what is noted at the function that it is around.
        if type(holder) is functools._lru_cache_wrapper:
            guards = vars(holder).get("__bloodroot_guards__", ())
        elif type(holder).__name__ == "cached_property":
            guards = guards_of(getattr(holder, "func", None))
        else:
            continue
        if guards:
            where = " and ".join(f'guard("{guard.text}") in {guard.place.at}' for guard in guards)
            raise EnforcementError(
                f"{where}: a cache is around the guard of {_name(getattr(holder, 'func', holder))}, and would give to "
                "every caller what one was let in to see; put the guard above the decorator of the cache"
            )
    if function is None:
        unchecked.clear()


def _can_be_noted(value: Any) -> bool:
    """Whether a weak dictionary takes it as a key."""
    try:
        hash(weakref.ref(value))
    except TypeError:
        return False
    return True


def _name(function: Any) -> str:
    return str(getattr(function, "__qualname__", None) or type(function).__name__)


Ask = Callable[[tuple[Any, ...], dict[str, Any]], None]  # of a call, by its arguments, before it is made


def _guarded_function(function: Callable[..., Any], asks: Guard) -> Callable[..., Any]:
    if _can_be_noted(function):
        _around.setdefault(function, []).append(weakref.ref(asks))
    signature = _signature_seen(function, asks)
    around = _name(function)

    def ask(positional: tuple[Any, ...], named: dict[str, Any]) -> None:
        if wrapper in unchecked:
            # One that was made after the last start. Some decorators make one for each call: a few are enough to see.
            if asks.seen < _ENOUGH:
                refuse_caches(wrapper)
                asks.seen += 1
            unchecked.discard(wrapper)
        asks.ask(lambda: _arguments(signature, positional, named), around)

    wrapper: Any = _asking_first(function, ask)
    wrapper.__bloodroot_guards__ = (*getattr(function, "__bloodroot_guards__", ()), asks)
    wrapper.__bloodroot_within__ = function
    # Frameworks that read the arguments without following wrappers see those of the function.
    with contextlib.suppress(ValueError, TypeError):  # a built-in one says nothing of its arguments
        wrapper.__signature__ = inspect.signature(function)
    unchecked.add(wrapper)
    guarded: Callable[..., Any] = wrapper
    return guarded


def _signature_seen(function: Callable[..., Any], asks: Guard) -> inspect.Signature:
    """The signature by which arguments have names: that of the very call, as decorators below may call with others."""
    signature = _signature(function)
    within = function
    while getattr(within, "__bloodroot_within__", None) is not None:
        within = within.__bloodroot_within__  # type: ignore[attr-defined]
    if within is not function:
        signature = _signature(within)
    kinds = {parameter.kind for parameter in signature.parameters.values()}
    if "__signature__" in getattr(within, "__dict__", {}):
        asks.hide_arguments(
            f"{_name(function)} has a signature that was set, and may get other arguments; put the guard directly "
            "around the function"
        )
    if hasattr(within, "__wrapped__") and inspect.Parameter.VAR_POSITIONAL in kinds:
        asks.hide_arguments(
            f"a decorator below this guard hides the arguments of {_name(function)}; put the guard directly around the "
            "function"
        )
    return signature


def _asking_first(function: Callable[..., Any], ask: Ask) -> Callable[..., Any]:
    """A function of the same kind (plain, async, or a generator) that asks before anything of its own runs."""
    if inspect.isasyncgenfunction(function):
        return _asking_in_steps(function, ask)
    if inspect.iscoroutinefunction(function):

        @functools.wraps(function)
        async def later(*positional: Any, **named: Any) -> Any:
            ask(positional, named)
            return await function(*positional, **named)

        return later
    if inspect.isgeneratorfunction(function):

        @functools.wraps(function)
        def in_steps(*positional: Any, **named: Any) -> Iterator[Any]:
            ask(positional, named)
            yield from function(*positional, **named)

        return in_steps

    @functools.wraps(function)
    def at_once(*positional: Any, **named: Any) -> Any:
        ask(positional, named)
        return function(*positional, **named)

    return at_once


def _asking_in_steps(function: Callable[..., Any], ask: Ask) -> Callable[..., Any]:
    @functools.wraps(function)
    async def in_steps(*positional: Any, **named: Any) -> AsyncIterator[Any]:
        ask(positional, named)
        steps = function(*positional, **named)
        try:
            given = await anext(steps)
            while True:
                try:
                    answer = yield given
                except GeneratorExit:
                    raise
                except BaseException as error:
                    given = await steps.athrow(error)
                else:
                    given = await steps.asend(answer)
        except StopAsyncIteration:
            return
        finally:
            await steps.aclose()

    return in_steps


def _signature(function: Any) -> inspect.Signature:
    # A cache calls its function with the arguments that it gets, and has no signature of its own.
    return inspect.signature(function, follow_wrapped=isinstance(function, functools._lru_cache_wrapper))


def _arguments(signature: inspect.Signature, positional: tuple[Any, ...], named: dict[str, Any]) -> dict[str, Any]:
    """The arguments of a call by name. One name for two values is left out: neither is the one that was meant."""
    bound = signature.bind(*positional, **named)
    bound.apply_defaults()
    arguments = dict(bound.arguments)
    for name, parameter in signature.parameters.items():
        if parameter.kind is parameter.VAR_KEYWORD:
            more = arguments.pop(name, {})
            twice = set(more) & set(arguments)
            arguments = {key: value for key, value in {**arguments, **more}.items() if key not in twice}
    return arguments


def guards_of(handler: Any) -> tuple[Guard, ...]:
    """The guards around a handler: a function, a bound method, or a class as a whole."""
    if isinstance(handler, type):
        return tuple(dict.fromkeys(guard for entry in entries_of(handler) for guard in guards_of(entry)))
    if isinstance(handler, staticmethod | classmethod):
        handler = handler.__func__
    guards: tuple[Guard, ...] = getattr(handler, "__bloodroot_guards__", ())
    return guards or getattr(getattr(handler, "__func__", None), "__bloodroot_guards__", ())


def with_guards(route: Route, guards: tuple[Guard, ...], handler: Any) -> Route:
    """A route with the guards around what serves it.

    Args:
        route: the route.
        guards: those around its handler as a whole.
        handler: a function, or a class with what serves each method.
    """
    by_method: dict[str, tuple[Guard, ...]] = {}
    whole = dict.fromkeys(guards)
    for operation in route.operations:
        own = tuple(dict.fromkeys((*whole, *guards_of(operation.function))))
        by_method.update(dict.fromkeys(operation.methods, own))
    if isinstance(handler, type):
        names = handlers_of(handler)
        # What serves a WebSocket (``on_connect``) is named after no method: there, all guards count together.
        for name in names:
            if name.startswith("on_"):
                whole.update(dict.fromkeys(guards_of(getattr(handler, name))))
        by_method = {
            name.upper(): tuple(dict.fromkeys((*whole, *guards_of(inspect.getattr_static(handler, name)))))
            for name in names
            if not name.startswith(("on_", "dispatch", "__"))
        } | by_method
    every = dict.fromkeys((*whole, *(guard for found in by_method.values() for guard in found)))
    whole_alone = tuple(whole)
    return replace(
        route, guarded=bool(every), guards=tuple(every), by_method=by_method or None, guards_of_all=whole_alone
    )


def place_of_call(asked: str) -> Place:
    """Where the program says ``guard("...")``: the text itself, where it is on one line."""
    frame = sys._getframe(2)
    name, number = frame.f_code.co_filename, frame.f_lineno
    lines = tuple(line.rstrip("\n") for line in linecache.getlines(name, frame.f_globals))
    source = SourceText(_short(name), lines)
    for line in range(number, min(number + 20, len(lines) + 1)):
        column = lines[line - 1].find(asked)
        if column >= 0:
            return Place(source, line, column + 1, len(asked))
    return Place(SourceText(f"{_short(name)}:{number}", (asked,)), 1, 1, len(asked))


def _short(name: str) -> str:
    """A file's name as short as it can be written from here."""
    try:
        return str(Path(name).relative_to(Path.cwd()))
    except (ValueError, OSError):
        return name
