"""Names that rest on other names, put in an order in which each comes after those it rests on."""

from __future__ import annotations

from collections import deque


def in_order(needs: dict[str, list[str]]) -> tuple[list[str], list[str]]:
    """Sort names by what they need, in time linear in the number of needs.

    Args:
        needs: for each name the names it rests on, each of them a key as well.

    Returns:
        The names in order, and those that cannot be ordered because they rest on a circle.
    """
    waiting = {name: len(set(wanted)) for name, wanted in needs.items()}
    followers: dict[str, list[str]] = {name: [] for name in needs}
    for name, wanted in needs.items():
        for other in set(wanted):
            followers[other].append(name)
    ready = deque(name for name, count in waiting.items() if not count)
    ordered = []
    while ready:
        name = ready.popleft()
        ordered.append(name)
        for follower in followers[name]:
            waiting[follower] -= 1
            if not waiting[follower]:
                ready.append(follower)
    return ordered, [name for name, count in waiting.items() if count]


def circle(stuck: list[str], needs: dict[str, list[str]]) -> list[str]:
    """One circle among names that cannot be ordered, its first name again at the end."""
    among = set(stuck)
    seen: dict[str, int] = {}
    name = stuck[0]
    while name not in seen:
        seen[name] = len(seen)
        name = next(other for other in needs[name] if other in among)
    return [*list(seen)[seen[name] :], name]
