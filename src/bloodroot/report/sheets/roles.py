"""The roles, with what each adds."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..sheet import Cell, Meaning, Section, Sheet, endpoint, line, plural, quiet, strong

if TYPE_CHECKING:
    from ...core.roles_added import RoleAdds
    from ..results import RolesResult


def roles(result: RolesResult) -> Sheet:
    """Every role from least to most, the roles that it includes, and the endpoints that it adds to theirs."""
    title = result.policy.title or "Policy"
    return Sheet(
        strong(f"{title}: {plural(len(result.roles) - 1, 'role')}"),
        tuple(map(_role, result.roles)),
        columns=("role", "includes", "method", "path", "outcome"),
        rows=(
            (role.name, " ".join(role.includes), added.method, added.path, added.words)
            for role in result.roles
            for added in role.adds
        ),
    )


def _role(role_adds: RoleAdds) -> Section:
    default = role_adds.default and role_adds.name != "signed-in"
    includes = f"  {'holds' if role_adds.name == 'signed-in' else 'includes'} {', '.join(role_adds.includes)}"
    title = (
        strong(role_adds.name),
        " (default)" if default else "",
        includes if role_adds.includes else "",
        quiet(f"  {role_adds.description}" if role_adds.description else ""),
    )
    adds = "every signed-in caller holds it" if default else f"adds {len(role_adds.adds)}"
    lines = [line(quiet(f"let in at {plural(role_adds.total, 'endpoint')}; {adds}"), indent=2)]
    for added in role_adds.adds:
        condition = f"  {added.words}" if added.words != "allow" else ""
        lines.append(line(endpoint(f"{added.method} {added.path}"), Cell(condition, Meaning.OPEN), indent=4))
    return Section(title, tuple(lines))
