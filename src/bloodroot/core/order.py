"""Names that rest on other names, put in an order in which each comes after those it rests on."""

from __future__ import annotations

from graphlib import CycleError, TopologicalSorter
from typing import NamedTuple


class OrderedNames(NamedTuple):
    """Names, sorted by what they need.

    Attributes:
        names: the names in order, without those that cannot be ordered because they rest on a circle.
        circle: one circle, its first name again at the end; or an empty list.
    """

    names: list[str]
    circle: list[str]


def in_order(needs: dict[str, list[str]]) -> OrderedNames:
    """Sort names by what they need.

    Args:
        needs: for each name the names it rests on, each of them a key as well.
    """
    sorter = TopologicalSorter(needs)
    circle: list[str] = []
    try:
        sorter.prepare()
    except CycleError as error:
        # There each name is needed by the one after it.
        circle = list(reversed(error.args[1]))
    ordered: list[str] = []
    while ready := sorter.get_ready():
        ordered += ready
        sorter.done(*ready)
    return OrderedNames(ordered, circle)
