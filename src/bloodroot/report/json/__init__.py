"""JSON, for programs. Format 1; docs/results.schema.json is its schema.

Every result is an object with ``format``, the number of this contract, and ``result``, what it is about. The same thing
has the same name and shape in all of them: a caller, a line with its place, a step.
"""

from .compare import compare
from .replay import replay
from .review import member_access, review
from .shapes import (
    ask,
    check,
    decision,
    entrance,
    expected,
    formatted,
    lines,
    made_token,
    matrix,
    plan,
    probe,
    roles,
    seed,
    survey,
    token,
    tried,
)

__all__ = [
    "ask",
    "check",
    "compare",
    "decision",
    "entrance",
    "expected",
    "formatted",
    "lines",
    "made_token",
    "matrix",
    "member_access",
    "plan",
    "probe",
    "replay",
    "review",
    "roles",
    "seed",
    "survey",
    "token",
    "tried",
]
