"""bloodroot roles: who includes whom, and what each role adds."""

from __future__ import annotations

from .options import ProjectFiles, with_options
from .output import Delivery


@with_options("RolesResult")
def roles(
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Show the roles: who includes whom, and what each adds."""
    from ..core.roles_added import roles_added
    from ..report.results import RolesResult
    from . import inputs

    shown.check()
    rules = inputs.bound_project(files).policy
    shown.deliver(RolesResult(rules, roles_added(rules)))
