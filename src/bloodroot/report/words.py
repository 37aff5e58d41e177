"""Words and colours that all tables share."""

from __future__ import annotations

from ..core.decision import Outcome

# Colours that stand out from white and from black alike: a contrast of 3.6 or more on either.
GOOD, WRONG, WARN, OPEN, ASKS = "green4", "red3", "dark_orange3", "medium_orchid3", "dodger_blue3"
STYLES = {Outcome.ALLOW: GOOD, Outcome.DEPENDS: OPEN, Outcome.SIGN_IN: ASKS, Outcome.DENY: "dim"}


def plural(count: int, word: str) -> str:
    """A count with its word: ``1 hole``, ``3 holes``."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
