"""What tests have tried, written down for ``bloodroot tried``."""

from __future__ import annotations

import json
import logging
import os
import uuid
from collections.abc import Iterable
from pathlib import Path

from ..enforce.audit import JsonLines
from ..probe.journal import judged_values
from ..probe.verdicts import Observation
from ..review.tried import files_of_run, run_of

_opened: dict[tuple[Path, int], logging.Handler] = {}
_RUN, _FIRST = "BLOODROOT_TEST_RUN", "BLOODROOT_TEST_PROCESS"


def begin_run() -> str:
    """A name that the processes of one run of tests have in common: pytest-xdist gives one, others inherit one."""
    if _RUN not in os.environ:
        os.environ[_RUN] = os.environ.get("PYTEST_XDIST_TESTRUNUID") or uuid.uuid4().hex
        os.environ[_FIRST] = "" if "PYTEST_XDIST_WORKER" in os.environ else str(os.getpid())
    return os.environ[_RUN]


def log_to(file: Path) -> logging.Handler:
    """What writes the audit log of the tests: one file a process; those of older runs are removed.

    The first process writes the file itself, others write ``tests-4711.jsonl`` beside it, which is read with it.
    """
    run, process = begin_run(), os.getpid()
    if (file, process) not in _opened:
        file.parent.mkdir(parents=True, exist_ok=True)
        if file.parent.name == ".bloodroot":
            (file.parent / ".gitignore").write_text("*\n", "utf-8")
        for other in files_of_run(file):
            if run_of(other) not in (None, run):
                other.unlink(missing_ok=True)
        own = file if str(process) == os.environ[_FIRST] else file.with_stem(f"{file.stem}-{process}")
        own.write_text(json.dumps({"run": run}) + "\n", "utf-8")
        handler = logging.FileHandler(own, "a", "utf-8")
        handler.setFormatter(_Lines())
        handler.setLevel(logging.INFO)
        _opened[file, process] = handler
        logging.getLogger("bloodroot.audit").setLevel(logging.INFO)
    return _opened[file, process]


class _Lines(JsonLines):
    """The audit log, and what tests saw of applications that are not protected."""

    def format(self, record: logging.LogRecord) -> str:
        """One line."""
        judged = getattr(record, "judged", None)
        return json.dumps(judged) if judged is not None else super().format(record)


def write_down(observations: Iterable[Observation]) -> None:
    logger = logging.getLogger("bloodroot.audit")
    for observation in observations:
        logger.info(
            "%s %s as %s: %s",
            *observation.case.key[:3],
            observation.verdict.value,
            extra={"judged": judged_values(observation)},
        )
