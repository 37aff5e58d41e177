"""What serves which methods of a class-based handler: one operation for each function of its own."""

from __future__ import annotations

import inspect
from collections.abc import Mapping, Sequence
from typing import Any

from ..core.binding import Operation


def operations_of(kind: Any, name: str, methods: Sequence[str]) -> tuple[Operation, ...]:
    """The operations of a class whose methods are named after those of requests; none for anything else.

    Args:
        kind: the handler of a route.
        name: the name of its action.
        methods: those that are served, in capitals.
    """
    if not isinstance(kind, type):
        return ()
    return named_after({method: inspect.getattr_static(kind, method.lower(), None) for method in methods}, name)


def named_after(
    functions: Mapping[str, Any], name: str, names: Mapping[str, str] | None = None
) -> tuple[Operation, ...]:
    """The operations of functions that serve methods; none where one function serves all of them.

    Args:
        functions: what serves each method.
        name: the name of the action as a whole.
        names: what to call what serves a method; by default after the method.
    """
    groups: dict[tuple[int, str | None], list[str]] = {}
    for method, function in functions.items():
        groups.setdefault((id(_plain(function)), (names or {}).get(method)), []).append(method)
    if len(groups) < 2 and not names:
        return ()
    return tuple(
        Operation(f"{name}.{given or _spelled(functions[methods[0]], methods)}", tuple(methods), functions[methods[0]])
        for (_, given), methods in groups.items()
    )


def _plain(function: Any) -> Any:
    """A function without what decorators have put around it."""
    function = getattr(function, "__func__", function)
    return inspect.unwrap(function) if callable(function) else function


def _spelled(function: Any, methods: Sequence[str]) -> str:
    """The name of a function where that is one of a method, else the first method."""
    own = str(getattr(_plain(function), "__name__", ""))
    return own if own.upper() in methods else methods[0].lower()
