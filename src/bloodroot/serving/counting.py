"""Counts of what was answered, as text that monitoring reads."""

from __future__ import annotations

import threading
from collections import Counter


class Counts:
    """How many questions were answered, and how long that took, in this process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._decisions: Counter[tuple[str, bool]] = Counter()
        self._requests, self._seconds = 0, 0.0

    def add(self, kind: str, allowed: bool, count: int = 1) -> None:
        """Count decisions."""
        with self._lock:
            self._decisions[kind, allowed] += count

    def took(self, seconds: float) -> None:
        """Count a request, and the time that it took."""
        with self._lock:
            self._requests += 1
            self._seconds += seconds

    def text(self) -> str:
        """The counts in the open exposition format."""
        with self._lock:
            decisions = sorted(self._decisions.items())
            requests, seconds = self._requests, self._seconds
        lines = ["# TYPE bloodroot_decisions_total counter"]
        lines += [
            f'bloodroot_decisions_total{{kind="{kind}",decision="{"allow" if allowed else "deny"}"}} {count}'
            for (kind, allowed), count in decisions
        ]
        lines += ["# TYPE bloodroot_request_seconds summary", f"bloodroot_request_seconds_sum {seconds:.6f}"]
        lines.append(f"bloodroot_request_seconds_count {requests}")
        return "\n".join(lines) + "\n"
