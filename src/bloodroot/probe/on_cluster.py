"""Copies of an application asked by the workers of a Dask cluster, each with data of its own."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ..clusters import client_of
from ..settings import Settings, SettingsError
from .copies import PROGRAM, WORKED, check_copies, environment_of, journals_of
from .runner import Options, merge

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .result import ProbeResult


class _Done(NamedTuple):
    """What comes back of a part: its exit status, its journal, and what it said."""

    status: int
    journal: bytes
    said: str


def probe_on_cluster(
    policy: Policy, settings: Settings, options: Options, count: int, words: Sequence[str]
) -> ProbeResult:
    """Ask copies of an application on the workers of a cluster, and put the parts together.

    Workers need the project's folder under the name that it has here. A part that is lost with its worker is asked
    again from its beginning: like every part it puts the data of its copy back first.

    Args:
        policy: what is declared.
        settings: with ``[probe.copies]``, which says where each copy has its data.
        options: as the parts are run with.
        count: how many copies.
        words: the options of the command that each part is run with.

    Raises:
        ClusterError: the cluster cannot be used.
        SettingsError: nothing says where the data of a copy is, or a part could not work.
    """
    check_copies(settings)
    with client_of(settings.replay.scheduler) as client:
        parts = [
            client.submit(
                run_part,
                str(Path.cwd()),
                list(words),
                f"{number}/{count}",
                environment_of(settings, number),
                pure=False,
            )
            for number in range(1, count + 1)
        ]
        done: list[_Done] = client.gather(parts)
    journals = journals_of(settings, options, count)
    for part, file in zip(done, journals, strict=True):
        if part.status not in WORKED:
            raise SettingsError(part.said or "a part of the probe ended without a word")
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(part.journal)
    return merge(policy, settings, options, journals)


def run_part(folder: str, words: list[str], shard: str, environment: Mapping[str, str]) -> _Done:
    """One part, on a worker."""
    with tempfile.TemporaryDirectory() as own:
        journal = Path(own) / "probe.jsonl"
        command = [*PROGRAM, "probe", *words, "--shard", shard, "--journal", str(journal)]
        done = subprocess.run(  # noqa: S603
            command, cwd=folder, env={**os.environ, **environment}, capture_output=True, check=False
        )
        said = done.stderr.decode("utf-8", "replace").strip()
        return _Done(done.returncode, journal.read_bytes() if journal.exists() else b"", said)
