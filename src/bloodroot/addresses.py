"""Addresses of other machines, and of this one."""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit


def is_protected(url: str) -> bool:
    """Whether an address is one of HTTPS, or of this machine: others may be answered by anyone on the way."""
    parts = urlsplit(url)
    if parts.scheme == "https":
        return bool(parts.hostname)
    return parts.scheme == "http" and is_here(parts.hostname or "")


def is_here(host: str) -> bool:
    """Whether a host name is that of this machine."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
