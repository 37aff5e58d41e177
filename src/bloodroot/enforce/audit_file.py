"""The audit log in a file, written by a thread: a request puts its decision into a queue, and goes on."""

from __future__ import annotations

import logging
import os
import queue
import threading
import time
from pathlib import Path
from typing import Literal

from .audit import JsonLines
from .errors import EnforcementError

log = logging.getLogger("bloodroot.enforce")
_MOST_AT_ONCE = 1000
_PATIENCE = 0.5  # seconds before a file that cannot be written is tried again
_LONGEST_END = 10.0  # seconds that the end of a process waits for


class AuditFullError(EnforcementError):
    """A decision that there is no room to write down. The request it is about is not answered."""


class AuditFile(logging.Handler):
    """Writes the audit log to the end of a file, as JSON Lines.

    Processes may share the file: what is written at once are whole lines. A process that was forked has a thread and a
    queue of its own.

    Args:
        path: the file; made where it is missing.
        full: what is done where more decisions wait than there is room for, since the disk is slow, full or gone:
            ``wait`` until there is room, or ``refuse`` the request. None is lost while the process runs.
        room: how many decisions may wait.

    Raises:
        OSError: the file cannot be written.
        ValueError: ``full`` or ``room`` is not one of these.
    """

    def __init__(
        self, path: str | os.PathLike[str], *, full: Literal["wait", "refuse"] = "wait", room: int = 10_000
    ) -> None:
        if full not in ("wait", "refuse") or room < 1:
            raise ValueError('full must be "wait" or "refuse", and room at least 1')
        super().__init__(logging.INFO)
        self.setFormatter(JsonLines())
        self._path = Path(path).absolute()
        self._waits = full == "wait"
        self._room = room
        self._process = 0
        self._torn = False
        with self._path.open("ab"):
            pass

    def emit(self, record: logging.LogRecord) -> None:
        """Put a decision into the queue.

        Raises:
            AuditFullError: there is no room, and ``full`` says that requests are refused then.
        """
        if self._process != os.getpid():
            self._begin()
        try:
            self._queue.put(record, block=self._waits)
        except queue.Full as error:
            raise AuditFullError(f"{self._room} decisions wait to be written to {self._path.name}") from error

    def close(self) -> None:
        """Write what waits, and end the thread."""
        if self._process == os.getpid():
            self._latest = time.monotonic() + _LONGEST_END
            self._ends.set()
            self._thread.join(_LONGEST_END + 1)
            left = self._queue.qsize()
            if left:
                log.error("%d decisions could not be written to %s", left, self._path)
            self._process = 0
        super().close()

    def _begin(self) -> None:
        self._process = os.getpid()
        self._queue: queue.Queue[logging.LogRecord] = queue.Queue(self._room)
        self._ends = threading.Event()
        self._latest = 0.0  # when the thread gives up, once it is to end
        self._thread = threading.Thread(target=self._write_all, name="bloodroot audit", daemon=True)
        self._thread.start()

    def _write_all(self) -> None:
        waiting: list[logging.LogRecord] = []
        reported = False
        while True:
            ends = self._ends.is_set()
            waiting += self._taken(_MOST_AT_ONCE - len(waiting), block=not waiting and not ends)
            if not waiting:
                if ends:
                    return
                continue
            try:
                self._write(waiting)
                waiting, reported = [], False
            except OSError as error:
                if not reported:
                    log.error("the audit log cannot be written: %s; it is tried again", error)
                    reported = True
                if ends and time.monotonic() > self._latest:
                    log.error("%d decisions could not be written to %s", len(waiting), self._path)
                    return
                time.sleep(_PATIENCE)

    def _taken(self, most: int, *, block: bool) -> list[logging.LogRecord]:
        records: list[logging.LogRecord] = []
        try:
            while len(records) < most:
                # What comes next wakes the thread; an end is seen soon as well.
                records.append(self._queue.get(block=block and not records, timeout=0.2))
        except queue.Empty:
            pass
        return records

    def _write(self, records: list[logging.LogRecord]) -> None:
        text = "".join(f"{self.format(record)}\n" for record in records)
        handle = os.open(self._path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
        try:
            # A line that a full disk has broken off is ended first; it comes once more as a whole.
            data = memoryview((b"\n" if self._torn else b"") + text.encode("utf-8", "backslashreplace"))
            while data:
                data = data[os.write(handle, data) :]
                self._torn = bool(data)
        finally:
            os.close(handle)
