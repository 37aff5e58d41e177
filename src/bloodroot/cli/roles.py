"""bloodroot roles: who includes whom, and what each role adds."""

from __future__ import annotations

from typing import Annotated

import typer

from .output import Color, ColorOption, FormatOfRoles, OutOption, PolicyOption, SettingsOption


def roles(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[
        FormatOfRoles | None,
        typer.Option("--format", help="The format; table by default, or what the ending of --out says."),
    ] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show the roles: who includes whom, and what each adds."""
    from ..core.roles_added import roles_added
    from ..report.results import RolesResult
    from . import inputs, output

    output.check_out(form, out)
    rules, _ = inputs.bound_project(policy, settings)
    output.deliver(RolesResult(rules, roles_added(rules)), form, out, color)
