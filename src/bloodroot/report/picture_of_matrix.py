"""The matrix as a picture, its columns ordered by likeness."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..core.decision import Outcome
from .joining import Joined, joined_rows
from .picture import HEIGHT, INK, LINE, PAPER, QUIET, new_figure
from .sheet import plural

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from ..core.matrix import Matrix
    from .results import MatrixResult

_FILL = {Outcome.ALLOW: "#8cc49b", Outcome.DEPENDS: "#cf9fe6", Outcome.SIGN_IN: "#cfe1f0", Outcome.DENY: PAPER}
_MARK = {Outcome.ALLOW: "#14602f", Outcome.DEPENDS: "#6a2f8f", Outcome.SIGN_IN: "#13568c"}
_MEANINGS = {
    Outcome.ALLOW: "allow",
    Outcome.DEPENDS: "depends",
    Outcome.SIGN_IN: "sign in first",
    Outcome.DENY: "deny",
}
# How alike two columns are: by how much they are let in.
_DEGREE = {Outcome.ALLOW: 1.0, Outcome.DEPENDS: 0.5, Outcome.SIGN_IN: 0.0, Outcome.DENY: 0.0}
_MOST_NAMED = 75  # rows that can be read with a name each
_MOST_MARKED = 2_500  # cells with a sign each


def matrix_picture(result: MatrixResult) -> Figure:
    """Endpoints down the side by area, columns ordered by likeness, with the tree of likeness above them."""
    figure = new_figure()
    matrix = result.matrix
    order, tree = by_likeness(matrix)
    rows = joined_rows([(row, list(matrix.cells(row))) for row in matrix.rows], lambda _: [])
    named = len(rows) <= _MOST_NAMED
    names = [matrix.columns[number].name for number in order]
    left, right = _margins(rows, named)
    # A letter of a name takes about six of the 800 points.
    top = 0.815 - 0.0075 * min(36, max(map(len, names), default=0))
    axes = figure.add_axes((left, 0.06, 1 - left - right, top - 0.06))
    _cells(axes, rows, order)
    _row_names(axes, rows, named=named)
    axes.set_xticks(range(len(order)), names, rotation=90, fontsize=8 if len(order) <= 20 else 6.5, color=INK)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    for spine in axes.spines.values():
        spine.set_color(LINE)
    if tree is not None:
        above = figure.add_axes((left, 0.835, 1 - left - right, 0.08))
        _draw_tree(above, tree, len(order))
    title = result.policy.title or "Access matrix"
    figure.text(0.015, 0.965, title, fontsize=14, color=INK, family="serif", weight="bold", va="center")
    counted = f"{plural(len(matrix.rows), 'endpoint')}, {plural(len(order), 'kind')} of caller, ordered by likeness"
    always = dict.fromkeys(rule.requirement.words() for row in matrix.rows for rule, _, _ in row.marks)
    if always:
        counted += f"; what standing rules ask of the caller is taken as met: {', '.join(always)}"
    figure.text(0.015, 0.935, counted, fontsize=9, color=QUIET, family="serif", va="center")
    _legend(figure)
    return figure


def _margins(rows: list[Joined], named: bool) -> tuple[float, float]:
    """What names of rows, and conditions, need at both sides, as shares of the width."""
    if not named:
        return 0.14, 0.03
    longest = max((len(name) for row in rows for name in row.names), default=10)
    conditions = max((len(_remainders(row)) for row in rows), default=0)
    return min(0.45, 0.03 + longest * 0.0052), min(0.25, 0.015 + conditions * 0.005)


def _remainders(joined: Joined) -> str:
    words = dict.fromkeys(cell.remainder.words() for cell in joined.cells if cell.remainder is not None)
    text = ", ".join(f"if {word}" for word in words)
    return text if len(text) <= 44 else f"{text[:41]}..."


def by_likeness(matrix: Matrix) -> tuple[list[int], Any]:
    """The columns in an order in which those that are alike are neighbours, and the tree; None for too few."""
    import numpy
    from scipy.cluster.hierarchy import leaves_list, linkage

    count = len(matrix.columns)
    if count < 3 or not matrix.rows:
        return list(range(count)), None
    degrees = numpy.array([[_DEGREE[cell.outcome] for cell in matrix.cells(row)] for row in matrix.rows]).T
    tree = linkage(degrees, "average", metric="cityblock", optimal_ordering=True)
    order = [int(number) for number in leaves_list(tree)]
    # From least to most, as everywhere; a tree may be read from either side.
    if degrees[order[0]].sum() > degrees[order[-1]].sum():
        return order[::-1], tree
    return order, tree


def _cells(axes: Axes, rows: list[Joined], order: list[int]) -> None:
    import numpy
    from matplotlib.colors import to_rgb

    colours = {outcome: to_rgb(colour) for outcome, colour in _FILL.items()}
    outcomes = [[joined.cells[number].outcome for number in order] for joined in rows]
    image = numpy.array([[colours[outcome] for outcome in row] for row in outcomes]).reshape(len(rows), len(order), 3)
    axes.imshow(image, aspect="auto", interpolation="nearest")
    if len(rows) * len(order) <= _MOST_MARKED:
        size = min(40.0, 0.35 * (480 / max(len(rows), 1)) ** 2)
        for outcome, marker, style in (
            (Outcome.ALLOW, "o", "full"),
            (Outcome.DEPENDS, "o", "left"),
            (Outcome.SIGN_IN, ">", "none"),
        ):
            places = [(x, y) for y, row in enumerate(outcomes) for x, each in enumerate(row) if each is outcome]
            if places:
                axes.plot(
                    *zip(*places, strict=True),
                    linestyle="",
                    marker=marker,
                    fillstyle=style,
                    markersize=size**0.5,
                    color=_MARK[outcome],
                    markeredgewidth=0.8,
                )
        for number in range(1, len(rows)):
            axes.axhline(number - 0.5, color=LINE, linewidth=0.5)
    for number in range(1, len(order)):
        axes.axvline(number - 0.5, color=LINE, linewidth=0.5)


def _row_names(axes: Axes, rows: list[Joined], *, named: bool) -> None:
    starts = [number for number, joined in enumerate(rows) if not number or joined.area != rows[number - 1].area]
    for start in starts[1:]:
        axes.axhline(start - 0.5, color=QUIET, linewidth=0.9 if named else 0.4)
    if named:
        height = axes.get_position().height * HEIGHT * 72 / max(len(rows), 1)
        size = min(8.0, 0.95 * height)
        axes.set_yticks(range(len(rows)), [row.names[0] for row in rows], fontsize=size, family="monospace", color=INK)
        for number, each in enumerate(rows):
            axes.annotate(
                _remainders(each),
                (1.005, number),
                xycoords=("axes fraction", "data"),
                fontsize=size,
                color=_MARK[Outcome.DEPENDS],
                va="center",
            )
        return
    # Too many to name: the areas are named that have room for it.
    ends = [*starts[1:], len(rows)]
    ticks, labels, last = [], [], -1e9
    room = len(rows) / 55
    for start, end in zip(starts, ends, strict=True):
        middle = (start + end - 1) / 2
        if middle - last >= room:
            ticks.append(middle)
            labels.append(f"{rows[start].area}  {end - start}")
            last = middle
    axes.set_yticks(ticks, labels, fontsize=7, family="monospace", color=INK)


def _draw_tree(axes: Axes, tree: Any, count: int) -> None:
    from scipy.cluster.hierarchy import dendrogram

    plan = dendrogram(tree, no_plot=True)
    for xs, ys in zip(plan["icoord"], plan["dcoord"], strict=True):
        axes.plot([(x - 5) / 10 for x in xs], ys, color=QUIET, linewidth=0.9)
    axes.set_xlim(-0.5, count - 0.5)
    axes.set_ylim(0, None)
    axes.axis("off")


def _legend(figure: Figure) -> None:
    from matplotlib.patches import Patch

    patches = [Patch(facecolor=_FILL[outcome], edgecolor=LINE, label=words) for outcome, words in _MEANINGS.items()]
    figure.legend(
        handles=patches,
        loc="lower left",
        bbox_to_anchor=(0.01, 0.003),
        ncols=4,
        frameon=False,
        fontsize=8,
        labelcolor=INK,
        handlelength=1.4,
    )
