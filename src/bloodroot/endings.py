"""How the work of a command ends: what its result says, and its exit status."""

from __future__ import annotations

from enum import IntEnum


class Ending(IntEnum):
    """What a result comes to; each is the exit status of its command.

    2 is not here: with it, a command could not work.
    """

    WELL = 0
    """All that was named was judged, and is well."""
    FOUND = 1
    """Something was found."""
    UNJUDGED = 3
    """Nothing was found, but not everything was judged."""
