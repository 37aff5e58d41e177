"""bloodroot roles: who includes whom, and what each role adds."""

from __future__ import annotations

from typing import Annotated

from .output import Color, ColorOption, OutOption, PolicyOption, SettingsOption, format_option


def roles(
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("RolesResult")] = None,
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
