"""The roles, with what each adds, as a person reads them in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.text import Text

from ..words import OPEN, plural

if TYPE_CHECKING:
    from ..results import RolesResult


def roles(result: RolesResult, console: Console) -> RenderableType:  # noqa: ARG001
    """Every role from least to most, the roles that it includes, and the endpoints that it adds to theirs."""
    count = len(result.roles) - 1
    parts: list[RenderableType] = [Text(f"{result.policy.title or 'Policy'}: {plural(count, 'role')}", style="bold")]
    for each in result.roles:
        default = each.default and each.name != "signed-in"
        head = Text.assemble("\n", (each.name, "bold"), " (default)" if default else "")
        if each.includes:
            head.append(f"  {'holds' if each.name == 'signed-in' else 'includes'} {', '.join(each.includes)}")
        if each.description:
            head.append(f"  {each.description}", "dim")
        parts.append(head)
        adds = "every signed-in caller holds it" if default else f"adds {len(each.adds)}"
        parts.append(Text(f"  let in at {plural(each.total, 'endpoint')}; {adds}", style="dim"))
        for added in each.adds:
            line = Text(f"    {added.method} {added.path}")
            if added.words != "allow":
                line.append(f"  {added.words}", OPEN)
            parts.append(line)
    return Group(*parts)
