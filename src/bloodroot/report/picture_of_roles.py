"""The roles as a picture: who includes whom, and what each adds."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .picture import HEIGHT, INK, LINE, QUIET, WIDTH, new_figure
from .sheet import plural

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from matplotlib.text import Text

    from ..core.roles_added import RoleAdds
    from .results import RolesResult


def roles_picture(result: RolesResult) -> Figure:
    """Roles from least at the bottom to most at the top, with lines to those that they include, and what each adds."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    roles = {role.name: role for role in result.roles}
    layers = _layers(roles)
    widest = max(map(len, layers.values()))
    figure = new_figure(max(WIDTH, 1.75 * widest), max(HEIGHT, 1.9 * len(layers)))
    axes = figure.add_axes((0.01, 0.02, 0.98, 0.88))
    axes.set_xlim(0, 1)
    axes.set_ylim(-0.5, len(layers) - 0.5)
    axes.axis("off")
    share = figure.get_figwidth() / widest
    height = figure.get_figheight() / len(layers)
    places = {
        name: ((number + 0.5) / len(names), level)
        for level, names in layers.items()
        for number, name in enumerate(names)
    }
    boxes = {name: _box(axes, place, _role_text(roles[name], share, height)) for name, place in places.items()}
    # Boxes have a size once they are drawn, and lines end at their edges.
    FigureCanvasAgg(figure).draw()  # type: ignore[no-untyped-call]
    for name, role_adds in roles.items():
        for included in role_adds.includes:
            style = {"arrowstyle": "-|>", "color": QUIET, "linewidth": 1.1, "shrinkA": 0, "shrinkB": 2}
            style |= {"patchA": boxes[name].get_bbox_patch(), "patchB": boxes[included].get_bbox_patch()}
            axes.annotate("", places[included], places[name], arrowprops=style, zorder=0)
    title = result.policy.title or "Roles"
    figure.text(0.015, 0.962, title, fontsize=14, color=INK, family="serif", weight="bold", va="center")
    words = "who includes whom, and at which endpoints each role is let in where those that it includes are not"
    figure.text(0.015, 0.93, words, fontsize=9, color=QUIET, family="serif", va="center")
    return figure


def _box(axes: Axes, place: tuple[float, float], text: str) -> Text:
    """A role, drawn."""
    box = {"boxstyle": "round,pad=0.6", "facecolor": "#f2f0e7", "edgecolor": LINE}
    style: dict[str, Any] = {"fontsize": 8, "color": INK, "linespacing": 1.35, "bbox": box}
    return axes.text(*place, text, ha="center", va="center", multialignment="left", **style)


def _layers(roles: dict[str, RoleAdds]) -> dict[int, list[str]]:
    """The roles by how many they stand on; within a layer above those that they include."""
    level = dict.fromkeys(roles, 0)
    for _ in roles:
        for name, role_adds in roles.items():
            below = [level[other] for other in role_adds.includes]
            level[name] = max([level[name], *(below_of + 1 for below_of in below)])
    layers: dict[int, list[str]] = {}
    for name in roles:
        layers.setdefault(level[name], []).append(name)
    placed: dict[str, float] = {}
    for number in sorted(layers):

        def wanted(name: str) -> float:
            below = [placed[include] for include in roles[name].includes if include in placed]
            return sum(below) / len(below) if below else 0.5

        layers[number].sort(key=wanted)
        for place, name in enumerate(layers[number]):
            placed[name] = (place + 0.5) / len(layers[number])
    return dict(sorted(layers.items()))


def _role_text(role_adds: RoleAdds, width: float, height: float) -> str:
    """Name, description and what a role adds, in as many lines as there is room for."""
    letters = max(16, int(width * 13))
    lines = [f"{role_adds.name}{' (default)' if role_adds.default else ''}"]
    if role_adds.description:
        lines.append(_cut(role_adds.description, letters))
    if role_adds.default and role_adds.name != "signed-in":
        lines.append("every signed-in caller holds it")
    else:
        lines.append(
            f"adds {len(role_adds.adds)} of {plural(role_adds.total, 'endpoint')}{':' if role_adds.adds else ''}"
        )
    room = max(1, min(9, int((height - 0.75) / 0.16)))
    for added in role_adds.adds[:room]:
        words = "" if added.words == "allow" else f", {added.words}"
        lines.append(_cut(f"  {added.method} {added.path}{words}", letters))
    if len(role_adds.adds) > room:
        lines.append(f"  and {len(role_adds.adds) - room} more")
    # Dollar signs would begin a formula.
    return "\n".join(lines).replace("$", r"\$")


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 3]}..."
