"""A part of a matrix: some of its endpoints, some of its columns."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from .matrix import Matrix, Row


def with_rows(matrix: Matrix, wanted: Callable[[Row], bool]) -> Matrix:
    """The matrix with those of its rows that are wanted."""
    return replace(matrix, rows=tuple(row for row in matrix.rows if wanted(row)))


def with_columns(matrix: Matrix, numbers: Iterable[int]) -> Matrix:
    """The matrix with these of its columns, in this order."""
    chosen = tuple(numbers)

    def moved(bits: int) -> int:
        found = 0
        for place, number in enumerate(chosen):
            found |= (bits >> number & 1) << place
        return found

    rows = tuple(
        replace(
            row,
            marks=tuple((rule, rest, moved(bits)) for rule, rest, bits in row.marks if moved(bits)),
            allow=moved(row.allow),
            sign_in=moved(row.sign_in),
            depends=tuple((rest, moved(bits)) for rest, bits in row.depends if moved(bits)),
        )
        for row in matrix.rows
    )
    return Matrix(tuple(matrix.columns[number] for number in chosen), rows)


def open_to_signed_out(matrix: Matrix) -> frozenset[tuple[tuple[str, ...], int, str]]:
    """The endpoints of a matrix of roles that let signed-out callers in, if only sometimes.

    Returns:
        The methods, the order of the line and the path of each.
    """
    open_lines = set()
    for row in matrix.rows:
        let_in = row.allow | sum(bits for _, bits in row.depends)
        if let_in & 1:
            open_lines.add((row.methods, row.line.order, row.path))
    return frozenset(open_lines)
