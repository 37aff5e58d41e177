"""Tables, as a person reads a result in a terminal."""

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
from .ask import ask
from .check import check
from .compare import compare
from .entrance import entrance
from .expected import expected
from .formatted import formatted
from .identity import made_token, seed, token
from .matrix import matrix
from .probe import plan, probe
from .review import member_access, review
from .roles_added import roles
from .survey import survey
from .tried import tried
from .why import decision, lines

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
