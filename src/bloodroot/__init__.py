"""Declare who may do what in a web application, enforce it, see it, and prove it on the running application."""

from .core.answers import Answer
from .core.caller import Caller
from .core.compiler import parse
from .core.decision import Decision, Outcome, Step
from .core.fields import FieldsRefused
from .core.policy import Policy, Route
from .files import load
from .language.problems import Place, PolicyError, Problem

__version__ = "0.1.0"

__all__ = [
    "Answer",
    "Caller",
    "Decision",
    "FieldsRefused",
    "Outcome",
    "Place",
    "Policy",
    "PolicyError",
    "Problem",
    "Route",
    "Step",
    "load",
    "parse",
]
