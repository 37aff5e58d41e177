"""A policy that is read again whenever one of its files changes: whole, or not at all."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from .files import Disk, load_from

if TYPE_CHECKING:
    from .core.policy import Policy

_State = tuple[int, int, int]


class Watched:
    """The policy in a file, to be given to what enforces it in the place of a policy: a change takes effect.

    Attributes:
        path: the file.
        root: the folder that what is included must be in, or None.
        policy: the policy as it was read first.
        states: the files that were read, each with what changes when it does.

    Raises:
        PolicyError: it cannot be read at the start.
    """

    def __init__(self, path: str | os.PathLike[str], root: str | os.PathLike[str] | None = None) -> None:
        self.path = Path(path).absolute()
        self.root = Path(root).absolute() if root is not None else None
        files = _Noting()
        self.policy, self.states = load_from(files, self.path, self.root)[0], files.states


def watched(path: str | os.PathLike[str], *, root: str | os.PathLike[str] | None = None) -> Watched:
    """The policy in a file, with all that it includes, that is read again within a second of a change.

    Give it to ``protect`` or ``AccessMiddleware`` in the place of a policy. A policy with a mistake, or one that an
    application could not start with, is written to the log and not taken: the last good one stays in force. Replace
    the file by another one (write beside, then rename), so that nothing reads half of it.

    Args:
        path: as `load`.
        root: as `load`.

    Raises:
        PolicyError: it cannot be read now.
    """
    return Watched(path, root)


class Changes:
    """Finds changes of the files of a policy.

    Args:
        path: the file of the policy.
        states: the files that were read, each with its state.
        root: the folder that what is included must be in, or None.
    """

    def __init__(self, path: Path, states: Mapping[Path, _State | None], root: Path | None = None) -> None:
        self._path = path
        self._root = root
        self._read = dict(states)
        self._seen = dict(states)

    def next(self) -> Policy | None:
        """The policy, if it has changed since and is whole; None while nothing is new.

        A change is taken once it has not gone on since the last call, so that nothing half written is read.

        Raises:
            PolicyError: the policy has changed, and cannot be read. It is said once for each change.
        """
        now = {file: _state(file) for file in self._read}
        quiet, self._seen = now == self._seen, now
        if now == self._read or not quiet:
            return None
        files = _Noting()
        try:
            return load_from(files, self._path, self._root)[0]
        finally:
            # What could not be read is looked at as well: it may be mended.
            self._read = self._seen = files.states


class _Noting(Disk):
    """Files on this machine, each with its state as it was before it was read."""

    def __init__(self) -> None:
        self.states: dict[Path, _State | None] = {}

    def read(self, file: Path) -> str:
        """As `Disk.read`."""
        self.states[file.absolute()] = _state(file)
        return super().read(file)


def _state(file: Path) -> _State | None:
    """What changes when a file does; None for one that is not there."""
    try:
        found = file.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino
