"""Enforcement: the policy between a server and an application."""

from .access import Access, Refused, current

__all__ = ["Access", "Refused", "current"]
