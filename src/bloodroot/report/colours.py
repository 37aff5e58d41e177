"""Colours of what terminals show."""

from __future__ import annotations

from .sheet import Meaning

# Colours that stand out from white and from black alike: a contrast of 3.6 or more on either.
STYLES = {
    Meaning.PLAIN: "",
    Meaning.STRONG: "bold",
    Meaning.QUIET: "dim",
    Meaning.GOOD: "green4",
    Meaning.WRONG: "red3",
    Meaning.WARN: "dark_orange3",
    Meaning.OPEN: "medium_orchid3",
    Meaning.ASKS: "dodger_blue3",
    Meaning.ENDPOINT: "",
    Meaning.PLACE: "dim",
}
