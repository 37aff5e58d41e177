"""What is known of a project, gathered for checks: its policy, the endpoints of its sources, guards and loaders."""

from __future__ import annotations

import importlib.util
from collections.abc import Callable, Iterable
from pathlib import Path

from ..core.annotations import with_guards
from ..core.binding import Route
from ..core.formulas import Formula
from ..core.policy import Policy
from ..core.reasoning import Proof, Reasoner
from ..enforce import active_policies
from ..frameworks import routes_of
from ..language import tree
from ..language.problems import Problem
from ..settings import Settings
from ..survey.applications import bound, imported, is_application
from ..survey.coverage import survey
from ..survey.gathering import gather
from .subject import Subject

# What hard questions may take in one run, all together, in steps of the solver: the same on every machine. Those that
# are left open are counted, and said.
_MOST_STEPS = 12_000_000


def prepare(
    policy: Policy, document: tree.Document, settings: Settings | None, sources: Iterable[str], folder: Path
) -> Subject:
    """What checks look at.

    Args:
        policy: the policy, as it was compiled.
        document: its tree, with all that it includes.
        settings: the settings, or None.
        sources: applications, documents, HAR files and access logs; none for the policy alone.
        folder: where these are looked for.

    Raises:
        SurveyError: a source cannot be read.
        SettingsError: an application cannot be imported, or there is none to find actions in.
        PolicyError: the application serves no such action.
    """
    sources = list(sources)
    routes = _routes(sources, folder)
    problems: tuple[Problem, ...] = ()
    if routes is not None:
        policy, problems = with_guards(policy, routes)
    elif policy.unbound and settings is not None:
        policy = bound(policy, settings)
    found = survey(gather(sources, folder), policy) if sources else None
    return Subject(
        policy,
        document,
        found,
        tuple(routes or ()),
        settings,
        problems,
        active_policies.loaders(),
        active_policies.report_only(),
        Reasoner(solver_if_any()),
    )


def _routes(sources: list[str], folder: Path) -> list[Route] | None:
    """The routes of the first application among the sources."""
    for name in sources:
        if is_application(name, folder):
            routes = routes_of(imported(name, folder, "app"))
            if routes is not None:
                return routes
    return None


def solver_if_any() -> Callable[[Formula, Formula], Proof] | None:
    """What decides the hard questions about conditions, where the extra ``prove`` is installed."""
    if importlib.util.find_spec("z3") is None:
        return None

    left = _MOST_STEPS

    def solve(one: Formula, other: Formula) -> Proof:
        nonlocal left
        if left <= 0:
            return Proof(None)
        # It takes a while to load, and few policies have a question for it.
        from .proving import cost, prove, steps

        before = steps()
        proof = prove(one, other)
        left -= steps() - before + cost(one, other)
        return proof

    return solve
