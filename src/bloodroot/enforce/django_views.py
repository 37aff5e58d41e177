"""What Django's views say of themselves: classes, view sets and path views of libraries that are built on it."""

from __future__ import annotations

import contextlib
import inspect
import types
from collections.abc import Iterator
from typing import Any

from django.middleware.cache import CacheMiddleware
from django.views.generic.base import RedirectView
from django.views.generic.edit import DeletionMixin, ProcessFormView

from ..core.binding import Operation, RouteKind
from .guarded_classes import handlers_of
from .operations import named_after, operations_of

_MOST_CELLS = 200


def handler_of(callback: Any) -> Any:
    """What serves a route: the class of a class-based view, else the function that Django calls."""
    kind = getattr(callback, "view_class", None)
    if kind is None and actions_of(callback) is not None:
        kind = getattr(callback, "cls", None)
    return callback if kind is None else kind


def actions_of(callback: Any) -> dict[str, str] | None:
    """Of a view set, the method of its class for each method of requests; None for any other view."""
    actions = getattr(callback, "actions", None)
    return actions if isinstance(actions, dict) and isinstance(getattr(callback, "cls", None), type) else None


def methods_of(callback: Any) -> tuple[str, ...]:
    """The methods that a view serves, in capitals; empty for a function that does not say."""
    kind = handler_of(callback)
    if kind_of(kind) is RouteKind.REDIRECT:
        return ()  # every method, all of them by one function
    if not isinstance(kind, type):
        named = [method for operation in _of_path_view(callback) for method in operation.methods]
        return tuple(sorted(set(named or _required(callback))))
    allowed = {str(name).lower() for name in getattr(kind, "http_method_names", ())}
    served = {*handlers_of(kind), *(actions_of(callback) or ())} & allowed
    # The answer to OPTIONS that every view has is Django's own, and so is that to HEAD by what serves GET.
    own = {name for name in ("options",) if name in vars(kind)}
    if _is_form(kind):
        served -= {"put", "delete"}  # other ways to send the form, which no page uses
    if "get" in served and _function(callback, "head") in (None, _function(callback, "get")):
        served.discard("head")
    return tuple(sorted(name.upper() for name in served - {"options"} | own))


def _function(callback: Any, method: str) -> Any:
    """What serves a method of a class-based view: a function, or None."""
    kind = handler_of(callback)
    return inspect.getattr_static(kind, (actions_of(callback) or {}).get(method, method), None)


def operations(callback: Any, name: str, names: list[str]) -> tuple[Operation, ...]:
    """What serves which methods of a view, where that is not one function.

    Args:
        callback: what Django calls.
        name: the name of the action as a whole.
        names: of a path view, the names of the routes that lead to it, one for each of its operations.
    """
    kind = handler_of(callback)
    if not isinstance(kind, type):
        namespace = name.rpartition(".")[0]
        found = [*_of_path_view(callback)]
        if len(names) != len(found):
            names = [operation.name for operation in found]
        return tuple(
            Operation(f"{namespace}.{own}" if namespace else own, operation.methods, operation.function)
            for own, operation in zip(names, found, strict=True)
        )
    methods = methods_of(callback)
    actions = actions_of(callback)
    if actions is None:
        return () if _is_form(kind) else operations_of(kind, name, methods)
    base = str(getattr(callback, "initkwargs", {}).get("basename") or kind.__name__)
    namespace = name.rpartition(".")[0]
    functions = {method: _function(callback, method.lower()) for method in methods}
    called = {method: actions.get(method.lower(), method.lower()) for method in methods}
    return named_after(functions, f"{namespace}.{base}" if namespace else base, called)


def _is_form(kind: type) -> bool:
    """Whether a view is a form and what becomes of it: one of Django's own, that has no further methods."""
    if not issubclass(kind, ProcessFormView | DeletionMixin):
        return False
    return all(
        getattr(inspect.getattr_static(kind, name), "__module__", "").startswith("django.views.generic")
        for name in handlers_of(kind)
        if name in ("put", "patch", "delete")
    )


def is_rest_view(view: Any) -> bool:
    """Whether a view is one of the REST framework's classes."""
    return isinstance(view, type) and any(kind.__module__.startswith("rest_framework.") for kind in view.__mro__)


def is_api(callback: Any) -> bool:
    """Whether a view is of an API, which answers in JSON where nothing else is asked for."""
    return is_rest_view(handler_of(callback)) or path_view_of(callback) is not None


def path_view_of(callback: Any) -> Any:
    """The path view behind a function, which has several operations; None for any other view."""
    within = (value for function in _chain(callback) for value in _cells(function))
    values = (getattr(callback, "__self__", None), *within)
    return next((value for value in values if _has_operations(value)), None)


def _has_operations(value: Any) -> bool:
    listed = getattr(value, "operations", None)
    return isinstance(listed, list) and bool(listed) and all(hasattr(each, "view_func") for each in listed)


def _of_path_view(callback: Any) -> Iterator[Operation]:
    for each in getattr(path_view_of(callback), "operations", ()):
        function = each.view_func
        own = getattr(each, "url_name", None) or getattr(function, "__name__", "operation")
        yield Operation(str(own), tuple(method.upper() for method in each.methods), function)


def _required(callback: Any) -> list[str]:
    """The methods that a decorator of Django's around a function lets in; none where there is no such decorator."""
    found: list[str] = []
    for function in _chain(callback):
        names, module = function.__code__.co_freevars, str(function.__globals__.get("__name__"))
        if not module.startswith("django."):
            break  # it may answer other methods by itself
        if "request_method_list" in names and module == "django.views.decorators.http":
            cell = (function.__closure__ or ())[names.index("request_method_list")]
            listed = [str(method).upper() for method in cell.cell_contents]
            found = [method for method in found if method in listed] if found else listed
    return [method for method in found if method != "HEAD" or "GET" not in found]


def is_cached(callback: Any) -> bool:
    """Whether a view, or one that a decorator is around, is within ``cache_page``."""
    return any(isinstance(value, CacheMiddleware) for value in _within(callback))


def kind_of(view: Any) -> RouteKind:
    """What a view is: static files, a redirect, or an endpoint like others."""
    if getattr(getattr(view, "func", None), "__module__", "").endswith(".openapi.views"):
        return RouteKind.DOCUMENTATION
    if getattr(view, "__module__", "") in ("django.views.static", "django.contrib.staticfiles.views"):
        return RouteKind.STATIC
    return RouteKind.REDIRECT if isinstance(view, type) and issubclass(view, RedirectView) else RouteKind.ENDPOINT


def _chain(callback: Any) -> Iterator[types.FunctionType]:
    """A view, and the functions that its decorators say they are around, the outermost first."""
    while isinstance(callback, types.FunctionType):
        yield callback
        callback = getattr(callback, "__wrapped__", None)


def _cells(function: types.FunctionType) -> Iterator[Any]:
    for cell in function.__closure__ or ():
        with contextlib.suppress(ValueError):  # it is empty
            yield cell.cell_contents


def _within(callback: Any) -> Iterator[Any]:
    """A view, and what the functions of decorators around it have at hand."""
    waiting: list[Any] = [callback]
    seen: set[int] = set()
    while waiting and len(seen) < _MOST_CELLS:
        value = waiting.pop()
        if id(value) in seen:
            continue
        seen.add(id(value))
        yield value
        if isinstance(value, types.FunctionType):
            waiting += _cells(value)
