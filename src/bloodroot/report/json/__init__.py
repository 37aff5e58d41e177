"""JSON, for programs. Format 1; docs/results.schema.json is its schema.

Every result is an object with ``format``, the number of this contract, and ``result``, what it is about. The same thing
has the same name and shape in all of them: a caller, a line with its place, a step.
"""

from ...checks.checking import CheckResult
from ...comparison.changes import Comparison
from ...core.entrance import Entrance
from ...core.explanation import Explanation
from ...identity.seed_result import SeedResult
from ...probe.asking import AskResult
from ...probe.result import PlanResult, Result
from ...review.all_members import Review
from ...review.expected import ExpectedResult
from ...review.member_access import MemberAccess
from ...review.tried import TriedResult
from ...survey.coverage import SurveyResult
from ..results import FormatResult, LinesResult, MadeToken, MatrixResult, RolesResult, TokenResult
from .compare import compare
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

REPORTS = {
    MatrixResult: matrix,
    RolesResult: roles,
    Explanation: decision,
    Entrance: entrance,
    LinesResult: lines,
    Result: probe,
    PlanResult: plan,
    SeedResult: seed,
    TokenResult: token,
    MadeToken: made_token,
    FormatResult: formatted,
    SurveyResult: survey,
    TriedResult: tried,
    CheckResult: check,
    Comparison: compare,
    Review: review,
    MemberAccess: member_access,
    AskResult: ask,
    ExpectedResult: expected,
}
