"""One plan, divided among processes that each ask a copy of the application with data of its own."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import IO, TYPE_CHECKING

from ..settings import Settings, SettingsError
from .runner import JOURNAL, Options, merge

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .result import ProbeResult

PROGRAM = (sys.executable, "-c", "from bloodroot.cli import run; run()")
WORKED = (0, 1, 3)  # the exit statuses of a part that could work
_PAUSE = 0.05  # seconds between two looks at the parts


def probe_copies(
    policy: Policy,
    settings: Settings,
    options: Options,
    count: int,
    words: Sequence[str],
    progressed: Callable[[int], None] | None = None,
) -> ProbeResult:
    """Ask copies of an application side by side, and put the parts together.

    Args:
        policy: what is declared.
        settings: with ``[probe.copies]``, which says where each copy has its data.
        options: as the parts are run with.
        count: how many copies.
        words: the options of the command that each part is run with.
        progressed: called now and then with how many answers have come.

    Raises:
        SettingsError: nothing says where the data of a copy is, or a part could not work.
    """
    check_copies(settings)
    journals = journals_of(settings, options, count)
    with ExitStack() as stack:
        # What parts say goes to files: none waits for a reader.
        logs = [stack.enter_context(tempfile.TemporaryFile()) for _ in journals]
        parts = [
            _begin(settings, words, f"{number}/{count}", file, log)
            for number, (file, log) in enumerate(zip(journals, logs, strict=True), 1)
        ]
        try:
            while any(part.poll() is None for part in parts):
                if progressed is not None:
                    progressed(sum(_answers(file) for file in journals))
                time.sleep(_PAUSE)
        finally:
            for part in parts:
                if part.poll() is None:
                    part.terminate()
                    part.wait()
        for part, log in zip(parts, logs, strict=True):
            if part.returncode not in WORKED:
                log.seek(0)
                said = log.read().decode("utf-8", "replace").strip()
                raise SettingsError(said or "a part of the probe ended without a word")
    return merge(policy, settings, options, journals)


def check_copies(settings: Settings) -> None:
    """See that copies can be asked.

    Raises:
        SettingsError: nothing says where the data of a copy is, or the application runs elsewhere.
    """
    if not settings.probe.copies:
        raise SettingsError(
            f"{settings.file.name}: nothing says where each copy has its data; write what the environment is to have, "
            'as [probe.copies] DATABASE = "copy-{copy}.db"'
        )
    if settings.url is not None:
        raise SettingsError(f"{settings.file.name}: copies are of an application in this process; leave url out")


def journals_of(settings: Settings, options: Options, count: int) -> list[Path]:
    """The journals of parts."""
    usual = options.journal or settings.probe.journal or settings.folder / JOURNAL
    return [usual.with_suffix(f".{number}{usual.suffix}") for number in range(1, count + 1)]


def environment_of(settings: Settings, number: int) -> dict[str, str]:
    """What sets a copy apart in its environment."""
    return {name: value.replace("{copy}", str(number)) for name, value in settings.probe.copies.items()}


def _begin(
    settings: Settings, words: Sequence[str], shard: str, journal: Path, log: IO[bytes]
) -> subprocess.Popen[bytes]:
    command = [*PROGRAM, "probe", *words, "--shard", shard, "--journal", str(journal)]
    own = environment_of(settings, int(shard.partition("/")[0]))
    return subprocess.Popen(command, env={**os.environ, **own}, stdout=subprocess.DEVNULL, stderr=log)  # noqa: S603


def _answers(journal: Path) -> int:
    """How many answers a part has written down, about: two lines each for what changes data."""
    try:
        with journal.open("rb") as opened:
            return sum(b'"status"' in line for line in opened)
    except OSError:
        return 0
