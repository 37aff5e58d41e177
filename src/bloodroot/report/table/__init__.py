"""Results as a person reads them in a terminal."""

from .identity import members, sown, token
from .matrix import matrix
from .probe import probe
from .why import decision, lines

__all__ = ["decision", "lines", "matrix", "members", "probe", "sown", "token"]
