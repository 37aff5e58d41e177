"""How many examples random tests take: few, and the same each time; with ``EXPLORE=N``, N times many, and new ones.

A test that fails shows the smallest example and its seed or blob.
"""

import os
import random

from hypothesis import settings

EXPLORE = int(os.environ.get("EXPLORE") or 0)


def examples(few: int, many: int = 2_000, **more: object) -> settings:
    """The settings of a property test."""
    return settings(
        max_examples=number(few, many),
        deadline=None,
        derandomize=not EXPLORE,
        print_blob=True,
        **more,  # type: ignore[arg-type]
    )


def number(few: int, many: int) -> int:
    """How many examples, for tests that make them by seeds."""
    return many * EXPLORE or (few + 2) // 3


def first_seed() -> int:
    """Where such seeds begin."""
    return random.randrange(10**9) if EXPLORE else 0
