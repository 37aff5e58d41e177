"""What pictures have in common: their size, their colours, and how they become files."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

from ..language.errors import BloodrootError

if TYPE_CHECKING:
    from matplotlib.figure import Figure

WIDTH, HEIGHT, _DPI = 12.8, 8.0, 100  # inches, and points to an inch
INK, PAPER, LINE, QUIET = "#1d2a26", "#fbfaf6", "#d5d7cb", "#566059"


class PictureError(BloodrootError):
    """A picture cannot be drawn here."""


def new_figure(width: float = WIDTH, height: float = HEIGHT) -> Figure:
    """An empty picture of 1280 by 800 points, unless it is to be larger.

    Raises:
        PictureError: Matplotlib or SciPy is not installed.
    """
    try:
        import matplotlib
        import scipy.cluster.hierarchy  # noqa: F401
        from matplotlib.figure import Figure
    except ImportError as error:
        raise PictureError(
            f"pictures need {error.name}, which is not installed; install it with: pip install 'bloodroot[pictures]'"
        ) from error
    # The same picture of the same policy, each time; text stays text.
    matplotlib.rcParams["svg.hashsalt"] = "bloodroot"
    matplotlib.rcParams["svg.fonttype"] = "none"
    return Figure(figsize=(width, height), dpi=_DPI, facecolor=PAPER)


def drawn(figure: Figure, form: str) -> bytes:
    """A picture as the bytes of a file, ``png`` or ``svg``."""
    buffer = io.BytesIO()
    metadata = {"Date": None} if form == "svg" else {"Software": None}
    figure.savefig(buffer, format=form, facecolor=figure.get_facecolor(), metadata=metadata)
    return buffer.getvalue()
