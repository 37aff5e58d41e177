"""``[replay]``, as plain data and read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from .checked import SettingsTable

PARTS = ("method", "path", "status", "time", "user", "roles", "request")


@dataclass(frozen=True, slots=True)
class ReplayRules:
    """How logs are read.

    Attributes:
        scheduler: the address of the scheduler of a Dask cluster, or None.
        fields: where JSON access logs have each part, as names with dots between them.
    """

    scheduler: str | None = None
    fields: Mapping[str, str] = field(default_factory=dict)


def read_replay(table: SettingsTable) -> ReplayRules:
    """``[replay]``."""
    table.known()
    fields = table.table("fields")
    found = fields.each_value()
    for name in found:
        if name not in PARTS:
            fields.problem(name, f"this is none of {', '.join(PARTS)}")
    scheduler = table.text("scheduler")
    if scheduler is not None and "://" not in scheduler:
        table.problem("scheduler", 'this must be an address, such as "tcp://127.0.0.1:8786"')
    return ReplayRules(scheduler, found)
