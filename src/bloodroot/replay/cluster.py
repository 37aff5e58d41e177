"""Parts counted on many machines, by Dask: the same code, and the same numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..clusters import client_of
from .counted import Counted, together

if TYPE_CHECKING:
    from ..survey.log_lines import Part
    from .partitions import Recipe

_TOGETHER = 8  # results that are added at a time


def counting_on(scheduler: str | None) -> Callable[[Recipe, list[Part]], Counted]:
    """What counts on a cluster.

    Args:
        scheduler: its address, as in ``tcp://scheduler:8786``; None for workers on this machine.
    """

    def count(recipe: Recipe, parts: list[Part]) -> Counted:
        with client_of(scheduler) as client:
            return counted_by(client, recipe, parts)

    return count


def _same(recipe: Recipe) -> Recipe:
    return recipe


def counted_by(client: Any, recipe: Recipe, parts: list[Part]) -> Counted:
    """All parts, counted by the workers of a cluster, and added up as a tree.

    Args:
        client: a client of Dask's.
        recipe: what decides.
        parts: the parts.

    Raises:
        LogError: a log cannot be read by a worker.
    """
    from .partitions import count_part

    # The result of a task, which is made again where it is lost with a worker; each worker compiles the policy once.
    shared = client.submit(_same, recipe, pure=False)
    level = [client.submit(count_part, shared, part, pure=False, retries=2) for part in parts]
    while len(level) > 1:
        groups = [level[start : start + _TOGETHER] for start in range(0, len(level), _TOGETHER)]
        level = [client.submit(together, group, pure=False) for group in groups]
    counted: Counted = client.gather(level[0]) if level else Counted()
    return counted
