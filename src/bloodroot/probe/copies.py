"""One plan, divided among processes that each ask a copy of the application with data of its own."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ..settings import Settings, SettingsError
from .runner import JOURNAL, Options, merge

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .result import ProbeResult

_PROGRAM = (sys.executable, "-c", "from bloodroot.cli import run; run()")
_COULD_NOT = 2  # the exit status of a part that could not work
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
    if not settings.probe.copies:
        raise SettingsError(
            f"{settings.file.name}: nothing says where each copy has its data; write what the environment is to have, "
            'as [probe.copies] DATABASE = "copy-{copy}.db"'
        )
    if settings.url is not None:
        raise SettingsError(f"{settings.file.name}: copies are of an application in this process; leave url out")
    usual = options.journal or settings.probe.journal or settings.folder / JOURNAL
    journals = [usual.with_suffix(f".{number}{usual.suffix}") for number in range(1, count + 1)]
    parts = [_begin(settings, words, number, count, file) for number, file in enumerate(journals, 1)]
    try:
        while any(part.poll() is None for part in parts):
            if progressed is not None:
                progressed(sum(_answers(file) for file in journals))
            time.sleep(_PAUSE)
    finally:
        for part in parts:
            if part.poll() is None:
                part.terminate()
    said = [part.communicate()[1].decode("utf-8", "replace").strip() for part in parts]
    failed = [text for part, text in zip(parts, said, strict=True) if part.returncode not in (0, 1, 3)]
    if failed:
        raise SettingsError(failed[0] or "a part of the probe ended without a word")
    return merge(policy, settings, options, journals)


def _begin(settings: Settings, words: Sequence[str], number: int, count: int, journal: Path) -> subprocess.Popen[bytes]:
    command = [*_PROGRAM, "probe", *words, "--shard", f"{number}/{count}", "--journal", str(journal)]
    return subprocess.Popen(  # noqa: S603
        command,
        env={**os.environ, **_filled(settings.probe.copies, number)},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )


def _filled(variables: Mapping[str, str], number: int) -> dict[str, str]:
    return {name: value.replace("{copy}", str(number)) for name, value in variables.items()}


def _answers(journal: Path) -> int:
    """How many answers a part has written down, about: two lines each for what changes data."""
    try:
        with journal.open("rb") as opened:
            return sum(b'"status"' in line for line in opened)
    except OSError:
        return 0
