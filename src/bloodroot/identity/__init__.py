"""Who is calling: token claims, sessions, trusted headers, and a directory for the present roles."""

from typing import TYPE_CHECKING, Any

from ..settings import Persona, Settings
from .held_in_records import RoleIn
from .identification import Identification, directory_of, load
from .members import Grant, Member
from .stored_keys import KeyRow

if TYPE_CHECKING:
    from .directory import Directory

__all__ = [
    "Directory",
    "Grant",
    "Identification",
    "KeyRow",
    "Member",
    "Persona",
    "RoleIn",
    "Settings",
    "directory_of",
    "load",
]


def __getattr__(name: str) -> Any:
    # SQLAlchemy is loaded only where there is a directory.
    if name == "Directory":
        from .directory import Directory

        return Directory
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
