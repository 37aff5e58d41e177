"""Enforcement: the policy between a server and an application, and in front of functions."""

from .access import Access, Acting, Refused, Unsettled, current, on_behalf_of
from .audit import Audit, JsonLines
from .guards import guard
from .in_force import use

__all__ = [
    "Access",
    "Acting",
    "Audit",
    "JsonLines",
    "Refused",
    "Unsettled",
    "current",
    "guard",
    "on_behalf_of",
    "use",
]
