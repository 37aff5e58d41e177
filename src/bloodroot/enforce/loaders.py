"""What loads records: for a parameter of the path, for a thing, or for a parameter of one action alone."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ..core.binding import Route, template_of

Loader = Callable[..., Any]
# A parameter or a thing; or an action, or what names of actions begin with, and a parameter.
LoaderKey = str | tuple[str, str]
Records = Mapping[str, Loader] | Mapping[tuple[str, str], Loader] | Mapping[LoaderKey, Loader]


class Loading(NamedTuple):
    """A loader, and what it takes.

    Attributes:
        function: the loader.
        takes: what it takes behind the text of the parameter: ``request`` and ``caller``, in its order.
        blocks: whether it may keep a thread waiting.
    """

    function: Loader
    takes: tuple[str, ...]
    blocks: bool

    def arguments(self, text: Any, request: Any, caller: Any) -> tuple[Any, ...]:
        """Its arguments for the text of a parameter."""
        if not self.takes:
            return (text,)
        given = {"request": request, "caller": caller}
        return (text, *(given[name] for name in self.takes))


# For each parameter that has a loader, in the order of the path.
Loaders = tuple[tuple[str, Loading], ...]


def read_loaders(records: Mapping[Any, Loader] | None) -> dict[LoaderKey, Loading]:
    """The loaders of an application, each with what it takes.

    Raises:
        TypeError: a key is neither a name nor a pair of names.
    """
    for key in records or {}:
        pair = isinstance(key, tuple) and len(key) == 2 and all(isinstance(part, str) for part in key)
        if not isinstance(key, str) and not pair:
            raise TypeError(f"records[{key!r}]: a key is a parameter, a thing, or a pair (action, parameter)")
    return {
        key: Loading(function, _takes(function), not inspect.iscoroutinefunction(function))
        for key, function in (records or {}).items()
    }


def _takes(loader: Loader) -> tuple[str, ...]:
    """What a loader takes behind the text: a second argument is the request, one called ``caller`` is the caller."""
    try:
        parameters = [*inspect.signature(loader).parameters.values()][1:]
    except (TypeError, ValueError):
        return ()
    kinds = (inspect.Parameter.POSITIONAL_ONLY, inspect.Parameter.POSITIONAL_OR_KEYWORD)
    needed = [parameter for parameter in parameters if parameter.kind in kinds and parameter.default is parameter.empty]
    return tuple("caller" if each.name == "caller" else "request" for each in needed[:2])


def key_for(
    keys: Collection[LoaderKey], actions: Iterable[str], name: str, thing: str | None, *, alone: bool
) -> LoaderKey | None:
    """The loader for a parameter: that of an action before that of what its name begins with, the parameter, the thing.

    Args:
        keys: what there are loaders for.
        actions: the names of what serves the route, the closest first.
        name: the parameter.
        thing: the thing that the parameter identifies a record of, or None.
        alone: whether it is the only parameter of the path.
    """
    actions = list(actions)
    for action in actions:
        for each in (action, *_beginnings([action])):
            if (each, name) in keys:
                return each, name
    if name in keys:
        return name
    if thing is not None and thing in keys:
        return thing
    # Of one parameter it is plain which record it is, as in ``/pieces/{pk}``, which piece.retrieve serves.
    return next((beginning for beginning in _beginnings(actions) if beginning in keys), None) if alone else None


def _beginnings(actions: Iterable[str]) -> Iterator[str]:
    """What names of actions begin with, the longest first: of ``api.piece.edit`` it is ``api.piece`` and ``api``."""
    for action in actions:
        parts = action.split(".")
        yield from (".".join(parts[:end]) for end in range(len(parts) - 1, 0, -1))


def loaders_of(
    loadings: Mapping[LoaderKey, Loading], actions: Iterable[str], names: Sequence[str], things: Mapping[str, Any]
) -> Loaders:
    """The loaders of the parameters of a path.

    Args:
        loadings: the loaders of the application.
        actions: the names of what serves it.
        names: the parameters.
        things: the things that parameters identify records of, by parameter.
    """
    actions = list(actions)
    keys = (
        (name, key_for(loadings, actions, name, things[name].name if name in things else None, alone=len(names) == 1))
        for name in names
    )
    return tuple((name, loadings[key]) for name, key in keys if key is not None)


def actions_at(route: Route, method: str) -> tuple[str, ...]:
    """The names by which a loader may be for what serves a method of a route, the closest first."""
    return tuple(dict.fromkeys((route.action_for(method), route.action)))


def names_at(keys: Collection[LoaderKey], route: Route, method: str) -> Iterator[str]:
    """Parameters and things that a record is loaded for where a route serves a method."""
    actions, names = actions_at(route, method), parameters_of(route)
    for key in keys:
        if isinstance(key, str):
            yield key
    for name in names:
        if key_for(keys, actions, name, None, alone=len(names) == 1) is not None:
            yield name


def parameters_of(route: Route) -> tuple[str, ...]:
    """The parameters of the path of a route, as the framework names them."""
    return route.names if route.names is not None else template_of(route)[0].names


def words(key: LoaderKey) -> str:
    """A key as it is written in a program."""
    return f'"{key}"' if isinstance(key, str) else f'("{key[0]}", "{key[1]}")'
