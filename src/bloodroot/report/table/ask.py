"""What an application answered to one request, beside what is declared, as a person reads it in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.text import Text

from ...core.decision import Outcome
from .why import decision

if TYPE_CHECKING:
    from ...probe.asking import AskResult

_MOST_LINES = 20
_WIDEST = 200


def ask(result: AskResult, console: Console) -> RenderableType:
    """The answer, its headers and the beginning of its body; then the decision and its steps."""
    asked = result.explanation
    answered = f"{result.status} {result.phrase}".rstrip()
    head = Text(f"{asked.method} {asked.path} as {asked.who} answered {answered}", style="bold")
    parts: list[RenderableType] = [head]
    if result.body_sent:
        parts.append(Text(f"Sent with the body of {result.body_sent}.", style="dim"))
    parts += [Text(), *(Text(f"{name}: {value}") for name, value in result.headers)]
    lines = [_shown(line) for line in result.body.splitlines() if line.strip()]
    if lines:
        parts += [Text(), *(Text(f"  {line}", style="dim") for line in lines[:_MOST_LINES])]
        if len(lines) > _MOST_LINES:
            parts.append(Text(f"  and {len(lines) - _MOST_LINES} lines more"))
    return Group(*parts, Text(), Text(_beside(result), style="bold"), decision(asked, console))


def _beside(result: AskResult) -> str:
    outcome = result.explanation.decision.outcome
    said = {
        Outcome.ALLOW: "lets this caller in",
        Outcome.DENY: "refuses this caller",
        Outcome.SIGN_IN: "asks this caller to sign in",
        Outcome.DEPENDS: "lets this caller in if a condition holds",
    }[outcome]
    return f"The policy {said}:"


def _shown(line: str) -> str:
    """A line of a body that no terminal takes for a command, and no longer than a terminal is wide."""
    text = "".join(character if character.isprintable() else " " for character in line)
    return text if len(text) <= _WIDEST else f"{text[:_WIDEST]}..."
