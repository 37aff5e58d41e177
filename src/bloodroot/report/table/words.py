"""Words and colours that all tables share."""

from __future__ import annotations

from ...core.decision import Outcome

STYLES = {Outcome.ALLOW: "green", Outcome.DEPENDS: "magenta", Outcome.SIGN_IN: "blue", Outcome.DENY: "dim"}


def plural(count: int, word: str) -> str:
    """A count with its word: ``1 hole``, ``3 holes``."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
