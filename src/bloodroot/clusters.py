"""Dask clusters: workers on other machines, or on this one."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from .language.errors import BloodrootError


class ClusterError(BloodrootError):
    """A cluster that cannot be used."""


@contextmanager
def client_of(scheduler: str | None) -> Iterator[Any]:
    """A client of a cluster, as long as the block runs.

    Args:
        scheduler: its address, as in ``tcp://scheduler:8786``; None for workers on this machine.

    Raises:
        ClusterError: Dask is not installed, or the scheduler cannot be reached.
    """
    try:
        import distributed
    except ModuleNotFoundError as error:
        raise ClusterError(f"a cluster needs {error.name}; install it with: pip install 'bloodroot[replay]'") from error
    make: Any = distributed.Client
    if scheduler is None:
        workers: Any = distributed.LocalCluster
        with workers(threads_per_worker=1, dashboard_address=None) as here, make(here, set_as_default=False) as client:
            yield client
        return
    try:
        opened = make(scheduler, timeout="5s", set_as_default=False)
    except (OSError, ValueError) as error:
        raise ClusterError(f"the scheduler {scheduler} cannot be reached: {error or type(error).__name__}") from error
    with opened as client:
        yield client
