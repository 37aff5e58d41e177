"""Declare who may do what in a web application, enforce it, see it, and prove it on the running application."""

from .core.caller import Caller
from .core.decision import Answer, Decision, Outcome, Step
from .core.policy import Policy, parse
from .files import load
from .language.problems import Place, PolicyError, Problem

__version__ = "0.1.0"

__all__ = [
    "Answer",
    "Caller",
    "Decision",
    "Outcome",
    "Place",
    "Policy",
    "PolicyError",
    "Problem",
    "Step",
    "load",
    "parse",
]
