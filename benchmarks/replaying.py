"""Recorded requests decided again, against the least that can be done with their lines."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from bloodroot.replay.partitions import Recipe
from bloodroot.replay.recorded import Reader

Work = Callable[[], object]


def works(policy: str, roles: int) -> Iterator[tuple[str, Work, Work, float]]:
    """For each kind of log what it is, the floor, replaying it, and what the ratio may be at most.

    Args:
        policy: a policy of 1,200 endpoints.
        roles: how many roles it has.
    """
    audited: list[bytes] = []
    accessed: list[bytes] = []
    for number in range(100_000):
        place = number * 7919 % 1200
        path = f"/area{place % 40}/things{place}/{number % 20}/part"
        held = {"caller": number % 5000, "actor": None, "roles": [f"role{place % roles}"], "groups": [], "scopes": None}
        asked: dict[str, Any] = {
            "scoped_roles": None,
            "granted": [],
            "method": "GET",
            "path": path,
            "things": {},
            "line": "x:1",
        }
        ends = {"outcome": "allow", "reason": None, "enforced": True, "seconds": 0.000123}
        time = f"2026-10-01T10:{number // 60 % 60:02}:{number % 60:02}.000+00:00"
        values = {"time": time, "request": f"{number:032x}", **held, **asked, **ends}
        audited.append(json.dumps(values).encode() + b"\n")
        line = f'10.0.0.1 - - [04/Oct/2026:12:00:00 +0000] "GET {path}?x={number} HTTP/1.1" 200 512 "-" "agent"\n'
        accessed.append(line.encode())
    recipe = Recipe("/access.bloodroot", "/", {"/access.bloodroot": policy}, "/")
    match = re.compile(rb'\S+ \S+ \S+ \[([^\]]+)\] "(\S+) (\S+) \S+" (\d+) ').match
    yield (
        "an audit log, against json.loads of them",
        lambda: [json.loads(line) for line in audited],
        partial(recipe.redecider().count, audited, Reader()),
        1,
    )
    yield (
        "an access log, against a bare pattern",
        lambda: [*map(match, accessed)],
        partial(recipe.redecider().count, accessed, Reader()),
        5,
    )
