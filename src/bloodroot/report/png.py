"""PNG pictures."""

from __future__ import annotations

from .picture import drawn
from .picture_of_matrix import matrix_picture
from .picture_of_roles import roles_picture
from .results import MatrixResult, RolesResult


def matrix(result: MatrixResult) -> bytes:
    """The matrix."""
    return drawn(matrix_picture(result), "png")


def roles(result: RolesResult) -> bytes:
    """The roles."""
    return drawn(roles_picture(result), "png")
