"""A policy in force that follows its file: another one takes its place while requests are served."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from ..file_changes import Changes, Watched
from ..language.errors import BloodrootError
from . import active_policies
from .access import log

if TYPE_CHECKING:
    from ..core.policy import Policy

_EVERY = 0.3  # seconds


class Following:
    """Takes the changes of a file into force, in each process by a thread of its own.

    Args:
        watched: the file.
        prepare: makes of a policy what is put in force, as at start; raises where the application could not start.
        policy: what is in force at the start.

    Attributes:
        policy: what is in force.
        problem: why the last change was not taken; None where the file is in force.
    """

    def __init__(self, watched: Watched, prepare: Callable[[Policy], Policy], policy: Policy) -> None:
        self._watched = watched
        self._prepare = prepare
        self._process = 0
        self._lock = threading.Lock()
        self.policy = policy
        self.problem: str | None = None

    def begin(self) -> None:
        """Begin to follow, in a process that does not yet."""
        if self._process == os.getpid():
            return
        with self._lock:
            if self._process != os.getpid():
                self._process = os.getpid()
                self._changes = Changes(self._watched.path, self._watched.states, self._watched.root)
                threading.Thread(target=self._follow, name="bloodroot policy", daemon=True).start()

    def _follow(self) -> None:
        while True:
            time.sleep(_EVERY)
            try:
                self._look()
            except Exception:
                log.exception("%s could not be looked at", self._watched.path.name)

    def _look(self) -> None:
        try:
            found = self._changes.next()
            if found is None:
                return
            policy = self._prepare(found)
            active_policies.exchange(self.policy, policy)
        except BloodrootError as error:
            self.problem = str(error)
            log.error(
                "%s has changed and is not taken; the last good one stays in force: %s", self._watched.path, error
            )
            return
        self.policy, self.problem = policy, None
        log.warning("%s has changed and is in force", self._watched.path)


class OpenedPolicy(NamedTuple):
    """A policy, and the file that it follows.

    Attributes:
        policy: the policy.
        watched: the file; None where it follows none.
    """

    policy: Policy
    watched: Watched | None


def opened(policy: Policy | Watched) -> OpenedPolicy:
    """A policy, and the file that it follows, if it follows one."""
    return OpenedPolicy(policy.policy, policy) if isinstance(policy, Watched) else OpenedPolicy(policy, None)
