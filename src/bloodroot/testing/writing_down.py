"""What tests have tried, written down for ``bloodroot tried``."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Iterable
from pathlib import Path

from ..enforce.audit import JsonLines
from ..probe.journal import judged_values
from ..probe.judging import Observation

_opened: dict[Path, logging.Handler] = {}


def log_to(file: Path) -> logging.Handler:
    """What writes the audit log of the tests; a new file for each run, and for each process of a run."""
    worker = os.environ.get("PYTEST_XDIST_WORKER")
    file = file.with_stem(f"{file.stem}-{worker}") if worker else file
    if file not in _opened:
        file.parent.mkdir(parents=True, exist_ok=True)
        if file.parent.name == ".bloodroot":
            (file.parent / ".gitignore").write_text("*\n", "utf-8")
        handler = logging.FileHandler(file, "w", "utf-8")
        handler.setFormatter(_Lines())
        handler.setLevel(logging.INFO)
        _opened[file] = handler
        logging.getLogger("bloodroot.audit").setLevel(logging.INFO)
    return _opened[file]


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
