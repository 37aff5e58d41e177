"""Where results go: a terminal, a pipe or a file."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

    from ..core.policy import Policy
    from ..settings import Settings


class UsageError(Exception):
    """Options that do not go together, or a name with nothing behind it."""


class Color(StrEnum):
    """When to use colour."""

    AUTO = "auto"
    ALWAYS = "always"
    NEVER = "never"


PolicyOption = Annotated[
    Path | None, typer.Option("--policy", metavar="FILE", help="The policy; by default the one the settings name.")
]
SettingsOption = Annotated[
    Path | None,
    typer.Option("--settings", metavar="FILE", help="The settings; by default bloodroot.toml here or further up."),
]
ColorOption = Annotated[Color, typer.Option("--color", help="When to use colour.")]
OutOption = Annotated[
    Path | None, typer.Option("--out", metavar="FILE", help="Write to this file; its ending picks the format.")
]

_PIPE_WIDTH = 160


def project(policy: Path | None, settings: Path | None) -> tuple[Policy, Settings | None]:
    """The policy and the settings that a command works with; the policy bound to the application, if it needs one.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
    """
    rules, found = _read(policy, settings)
    if not rules.unbound:
        return rules, found
    if found is None:
        action = rules.unbound[0]
        raise UsageError(
            f"{action.place.at} names the action {action.name}, and there is no application to find it in; "
            'write app = "module:name" in bloodroot.toml'
        )
    from ..probe.application import bound

    return bound(rules, found), found


def unbound_project(policy: Path | None, settings: Path | None) -> tuple[Policy, Settings]:
    """The policy and the settings of a command that needs to know neither routes nor the application.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
        UsageError: there are no settings.
    """
    rules, found = _read(policy, settings)
    if found is None:
        raise UsageError("there is no bloodroot.toml here or further up; name one with --settings FILE")
    return rules, found


def _read(policy: Path | None, settings: Path | None) -> tuple[Policy, Settings | None]:
    from ..files import load
    from ..settings import find_settings, read_settings

    file = settings or find_settings()
    found = read_settings(file) if file is not None else None
    if policy is None:
        policy = _shown(found.policy) if found is not None else Path("access.bloodroot")
    return load(policy), found


def roles_named(who: str, policy: Policy, settings: Settings | None) -> list[str]:
    """The roles in a text with commas between them.

    Raises:
        UsageError: one of them is none, nor is it a persona.
    """
    from ..language.problems import suggestion

    personas = settings.personas if settings is not None else {}
    roles = [role.strip() for role in who.split(",")]
    for role in roles:
        if role not in policy.roles.bit:
            guess = suggestion(role, [*policy.roles.bit, *personas, "signed-out", "signed-in"])
            what = "persona or role" if personas else "role"
            raise UsageError(f'unknown {what} "{role}"{guess or "; known are " + ", ".join(policy.roles.bit)}')
    return roles


def policy_file() -> Path:
    """The policy that the settings name, else ``access.bloodroot``."""
    from ..settings import find_settings, read_settings

    file = find_settings()
    return _shown(read_settings(file).policy) if file is not None else Path("access.bloodroot")


def _shown(path: Path) -> Path:
    """A path as short as it can be written from here."""
    try:
        return path.resolve().relative_to(Path.cwd().resolve())
    except ValueError:
        return path


def console(color: Color) -> Console:
    """A console for results. ``NO_COLOR`` is respected; a pipe gets plain text of a fixed width."""
    from rich.console import Console

    return Console(
        highlight=False,
        width=None if sys.stdout.isatty() else _PIPE_WIDTH,
        force_terminal=True if color is Color.ALWAYS else None,
        no_color={Color.ALWAYS: False, Color.NEVER: True}.get(color),
    )


def show(made: Console, result: RenderableType) -> None:
    """Print a result, without the blanks that pad a table to its full width."""
    with made.capture() as captured:
        made.print(result)
    lines = captured.get().split("\n")
    typer.echo("\n".join(line.rstrip() for line in lines), nl=False, color=True)


def write(file: Path, text: str) -> None:
    """Write a result to a file, whole or not at all, and say so on standard error."""
    from ..files import write_text

    write_text(file, text)
    typer.echo(f"wrote {file}", err=True)
