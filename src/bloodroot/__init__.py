"""Declare who may do what in a web application, enforce it, see it, and prove it on the running application."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .core.answers import Answer
    from .core.binding import Operation, Route, RouteKind
    from .core.caller import Caller, Unidentified
    from .core.compiler import parse
    from .core.decision import Decision, Outcome, Step, StepVerdict
    from .core.fields import FieldsRefused
    from .core.lines import CompiledGuard, Line
    from .core.moving import Moved
    from .core.paths import Template
    from .core.policy import Policy
    from .core.question import Question
    from .core.requirements import Requirement
    from .core.whereabouts import EVERYWHERE
    from .file_changes import Watched, watched
    from .files import load
    from .language.errors import BloodrootError, UnknownNameError
    from .language.problems import Place, PolicyError, Problem

__version__ = "0.1.0"

__all__ = [
    "EVERYWHERE",
    "Answer",
    "BloodrootError",
    "Caller",
    "CompiledGuard",
    "Decision",
    "FieldsRefused",
    "Line",
    "Moved",
    "Operation",
    "Outcome",
    "Place",
    "Policy",
    "PolicyError",
    "Problem",
    "Question",
    "Requirement",
    "Route",
    "RouteKind",
    "Step",
    "StepVerdict",
    "Template",
    "Unidentified",
    "UnknownNameError",
    "Watched",
    "load",
    "parse",
    "watched",
]

# Loaded when they are first asked for, so that `bloodroot --help` does not wait for what it does not need.
_ROOMS = {
    "core.answers": ("Answer",),
    "core.binding": ("Operation", "Route", "RouteKind"),
    "core.caller": ("Caller", "Unidentified"),
    "core.compiler": ("parse",),
    "core.decision": ("Decision", "Outcome", "Step", "StepVerdict"),
    "core.fields": ("FieldsRefused",),
    "core.lines": ("CompiledGuard", "Line"),
    "core.moving": ("Moved",),
    "core.paths": ("Template",),
    "core.policy": ("Policy",),
    "core.question": ("Question",),
    "core.requirements": ("Requirement",),
    "core.whereabouts": ("EVERYWHERE",),
    "files": ("load",),
    "language.errors": ("BloodrootError", "UnknownNameError"),
    "language.problems": ("Place", "PolicyError", "Problem"),
    "file_changes": ("Watched", "watched"),
}
_ROOM_OF = {name: room for room, names in _ROOMS.items() for name in names}


def __getattr__(name: str) -> Any:
    room = _ROOM_OF.get(name)
    if room is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found = globals()[name] = getattr(import_module(f".{room}", __name__), name)
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
