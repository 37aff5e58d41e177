"""Pages, each whole in itself: nothing is loaded from elsewhere."""

from collections.abc import Callable
from typing import Any

from ...comparison.changes import Comparison
from ...probe.result import Result
from ...review.all_members import Review
from ..results import MatrixResult
from .compare import compare
from .matrix import matrix
from .probe import probe
from .review import review

REPORTS: dict[type, Callable[[Any], str]] = {Result: probe, MatrixResult: matrix, Comparison: compare, Review: review}
