"""Guards around classes: around what runs first, whichever method of the class is asked for.

| class | what is guarded |
|---|---|
| a view with ``as_view`` (Flask, Django and what is built on it) | the function that ``as_view`` returns |
| an endpoint that is awaited (Starlette) | making one, which is done for each request |
| any other | every public method, property and way to use an object, also of subclasses |

The first two are entered at one place, so that no method gets around the guard: not one that a subclass adds or
overrides, ``dispatch`` and ``dispatch_request`` included, nor one that is set later.
"""

from __future__ import annotations

import abc
import functools
import inspect
import types
import typing
import weakref
from collections.abc import Callable, Iterator
from typing import Any

HANDLERS = ("get", "head", "post", "put", "patch", "delete", "options", "trace", "on_connect", "on_receive")
_BASES = (object, typing.Generic, typing.Protocol, abc.ABC)
# Ways to use an object that are no methods with a name of their own.
_OPERATIONS = frozenset(
    f"__{name}__"
    for name in (
        *("call", "await", "iter", "next", "aiter", "anext", "enter", "exit", "aenter", "aexit", "reversed"),
        *("getitem", "setitem", "delitem", "contains", "len", "bool", "int", "float", "index", "bytes", "format"),
        *("add", "sub", "mul", "truediv", "floordiv", "mod", "pow", "and", "or", "xor", "lshift", "rshift", "matmul"),
        *("lt", "le", "gt", "ge"),
    )
)
_FUNCTIONS = (types.FunctionType, functools._lru_cache_wrapper)

# Puts the guard around a function.
Around = Callable[[Any], Any]


def guard_class(what: type, around: Around, hide_arguments: Callable[[str], None]) -> None:
    """Put a guard around a class.

    Args:
        what: the class, which is changed.
        around: puts the guard around a function.
        hide_arguments: called with the reason where the guard cannot see the arguments of a request.

    Raises:
        TypeError: it is not known what of the class runs first.
    """
    if type(what) not in (type, abc.ABCMeta, type(typing.Protocol)):
        raise TypeError(
            f"the metaclass of {what.__name__} is {type(what).__name__}, and it is not known what runs first of its "
            "classes; put guard around the methods"
        )
    entry = _entry_of(what)
    if entry is None:
        _guard_methods(what, around)
        return
    if entry == "as_view":
        _guard_view(what, around)
    else:
        hide_arguments(f"an object of {what.__name__} is made before its handler is called; write path.NAME")
        _guard_making(what, around)
    # The application may call a handler by itself as well.
    for name in handlers_of(what):
        setattr(what, name, _around(inspect.getattr_static(what, name), around))


def _entry_of(what: type) -> str | None:
    """What runs first of a class that a framework serves requests by; None for any other class."""
    as_view = inspect.getattr_static(what, "as_view", None)
    if as_view is not None:
        if not isinstance(as_view, classmethod):
            raise TypeError(
                f"{what.__name__}.as_view is no class method, and it is not known what it gives; put guard around the "
                "methods"
            )
        return "as_view"
    return "__new__" if hasattr(what, "__await__") and hasattr(what, "dispatch") else None


def _guard_view(what: type, around: Around) -> None:
    inner = inspect.getattr_static(what, "as_view").__func__

    @functools.wraps(inner)
    def as_view(cls: type, *positional: Any, **named: Any) -> Any:
        return around(inner(cls, *positional, **named))

    what.as_view = classmethod(as_view)  # type: ignore[attr-defined]


def _guard_making(what: type, around: Around) -> None:
    inner: Any = what.__new__

    def __new__(cls: type, *positional: Any, **named: Any) -> Any:
        return inner(cls) if inner is object.__new__ else inner(cls, *positional, **named)

    setattr(what, "__new__", staticmethod(around(__new__)))  # noqa: B010 - types say that a class keeps its own


def _guard_methods(what: type, around: Around) -> None:
    for kind in what.__mro__:
        if kind not in _BASES and not isinstance(vars(kind).get("__init__"), types.FunctionType | None):
            raise TypeError(
                f"{what.__name__} is a {kind.__name__}, and it is not known what of it runs; put guard around its "
                "methods"
            )
        for name in ("__getattr__", "__getattribute__"):
            if kind not in _BASES and name in vars(kind):
                raise TypeError(
                    f"{what.__name__} has {name}, and it is not known which methods that gives; put guard around those"
                )
    names = dict.fromkeys(name for kind in what.__mro__ if kind not in _BASES for name in vars(kind))
    guarded = [name for name in names if _guard_attribute(what, name, around)]
    if not guarded:
        raise TypeError(f"{what.__name__} has no public method to guard")
    classes: weakref.WeakSet[type] = weakref.WeakSet([what])
    _guard_subclasses(what, what, around, classes)
    _refuse_unknown(what, classes)


def _guard_subclasses(what: type, guarded: type, around: Around, classes: weakref.WeakSet[type]) -> None:
    """Have subclasses of a class guarded when they are made, as ``guarded`` is, and noted as known."""
    own = vars(what).get("__init_subclass__")

    def of_subclass(cls: Any, /, **named: Any) -> None:
        if own is not None:
            own.__func__(cls, **named)
        else:
            super(what, cls).__init_subclass__(**named)  # type: ignore[arg-type]
        if cls not in classes:
            classes.add(cls)
            _guard_subclass(cls, guarded, around)
            if "__init_subclass__" in vars(cls):
                _guard_subclasses(cls, guarded, around, classes)

    setattr(what, "__init_subclass__", classmethod(of_subclass))  # noqa: B010


def _guard_subclass(cls: type, guarded: type, around: Around) -> None:
    """Put the guard around what a subclass does in other ways than the class that is guarded.

    That is what it overrides or adds itself, and what a class beside the guarded one brings.
    """
    inherited = [kind for kind in cls.__mro__ if kind not in guarded.__mro__]
    for kind in inherited[1:]:
        for name in ("__getattr__", "__getattribute__"):
            if name in vars(kind):
                raise TypeError(
                    f"{cls.__name__} inherits {name} from {kind.__name__}, and it is not known which methods that "
                    "gives; put guard around those"
                )
    for name in dict.fromkeys(name for kind in inherited for name in vars(kind)):
        _guard_attribute(cls, name, around)


def _refuse_unknown(what: type, classes: weakref.WeakSet[type]) -> None:
    """Make no object of a subclass whose making was not noticed: nothing of it is guarded."""
    inner: Any = what.__new__

    def __new__(cls: type, *positional: Any, **named: Any) -> Any:
        if cls not in classes:
            raise TypeError(
                f"{cls.__name__} is a {what.__name__}, which is guarded, and another __init_subclass__ keeps "
                "its methods from being guarded; let that call super().__init_subclass__()"
            )
        return inner(cls) if inner is object.__new__ else inner(cls, *positional, **named)

    setattr(what, "__new__", staticmethod(__new__))  # noqa: B010


def _guard_attribute(what: type, name: str, around: Around) -> bool:
    """Put a guard around one attribute of a class, if it is one to be called; return whether it was."""
    if name.startswith("_") and name not in _OPERATIONS:
        return False
    value = inspect.getattr_static(what, name)
    if isinstance(value, (*_FUNCTIONS, staticmethod, classmethod, property)):
        setattr(what, name, _around(value, around))
        return True
    data = (type, types.MemberDescriptorType, types.GetSetDescriptorType, types.GenericAlias)
    if not isinstance(value, data) and (callable(value) or hasattr(type(value), "__get__")):
        raise TypeError(
            f"{what.__name__}.{name} is a {type(value).__name__}, and it is not known what it runs; put guard around "
            f"the methods of {what.__name__}"
        )
    return False


def _around(value: Any, around: Around) -> Any:
    if isinstance(value, staticmethod | classmethod):
        return type(value)(around(value.__func__))
    if isinstance(value, property):
        read, write, remove = (accessor and around(accessor) for accessor in (value.fget, value.fset, value.fdel))
        return property(read, write, remove, value.__doc__)
    return around(value)


def handlers_of(what: type) -> list[str]:
    """The methods of a class by which a framework serves requests."""
    declared: set[str] = set()
    for attribute in ("http_method_names", "methods"):
        listed = getattr(what, attribute, None) or ()
        declared |= (
            {str(method).lower() for method in listed} if isinstance(listed, list | tuple | set | frozenset) else set()
        )
    names = [name for name in (*HANDLERS, *sorted(declared - set(HANDLERS))) if callable(getattr(what, name, None))]
    for whole in ("dispatch_request", "__call__"):
        if not names and whole in vars(what):
            names = [whole]
    return names


def entries_of(what: type) -> Iterator[Any]:
    """What runs of a class for every request, whatever its method: functions that guards may be around."""
    for name in ("__new__", "dispatch", "dispatch_request", "__call__"):
        attribute = inspect.getattr_static(what, name, None)
        if attribute is not None:
            yield attribute
