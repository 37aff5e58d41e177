"""bloodroot probe: asks the running application as every persona."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import typer

from .output import Color, ColorOption, FormatOption, OutOption, PolicyOption, SettingsOption, UsageError

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..probe.result import Result
    from ..settings import Settings


def probe(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: FormatOption = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Ask the application as every persona, and compare what it answers with what is declared."""
    from . import inputs, output

    output.check_out(form, out)
    rules, found = inputs.bound_project(policy, settings)
    if found is None:
        raise UsageError("there are no settings; write bloodroot.toml, or name one with --settings")
    result = with_progress(rules, inputs.with_members(found) or found)
    output.deliver(result, form, out, color)
    if not result.sound:
        raise typer.Exit(1)


def with_progress(policy: Policy, settings: Settings) -> Result:
    """Probe, and show on a terminal how far it has come."""
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

    from ..probe.runner import probe as run

    if not sys.stderr.isatty():
        return run(policy, settings)
    columns = (TextColumn("asking"), BarColumn(), MofNCompleteColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("asking", total=None)
        return run(policy, settings, progressed=lambda done, total: progress.update(task, completed=done, total=total))
