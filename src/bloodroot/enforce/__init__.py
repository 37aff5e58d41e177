"""Enforcement: the policy between a server and an application, and in front of functions."""

from ..core.finding import Finding
from .access import Access, Acting, current, on_behalf_of
from .active_policies import use
from .audit import Audit, JsonLines
from .audit_file import AuditFile, AuditFullError
from .driver import Driver, Handling
from .enforcement import Identify, Page
from .errors import EnforcementError, Refusal, StartUpError, Unsettled
from .guards import guard
from .loaders import Loader, Records
from .startup import StartUp

__all__ = [
    "Access",
    "Acting",
    "Audit",
    "AuditFile",
    "AuditFullError",
    "Driver",
    "EnforcementError",
    "Finding",
    "Handling",
    "Identify",
    "JsonLines",
    "Loader",
    "Page",
    "Records",
    "Refusal",
    "StartUp",
    "StartUpError",
    "Unsettled",
    "current",
    "guard",
    "on_behalf_of",
    "use",
]
