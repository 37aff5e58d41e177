"""SVG pictures."""

from __future__ import annotations

from .picture import drawn, matrix_picture, roles_picture
from .results import MatrixResult, RolesResult


def matrix(result: MatrixResult) -> bytes:
    """The matrix."""
    return drawn(matrix_picture(result), "svg")


def roles(result: RolesResult) -> bytes:
    """The roles."""
    return drawn(roles_picture(result), "svg")


REPORTS = {MatrixResult: matrix, RolesResult: roles}
