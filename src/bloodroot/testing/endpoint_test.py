"""One endpoint, asked as every persona."""

from __future__ import annotations

import unittest
from dataclasses import replace

from ..probe.asked_endpoints import AskedEndpoint
from ..probe.facts import ResponseKind
from ..probe.judging import is_not_served, judge
from ..probe.resetting import Data
from ..probe.verdicts import Observation, Verdict
from .client import Client
from .endpoint_answers import Asking, rollback_in
from .under_test import Project
from .writing_down import write_down

_NOT_SIGNED_IN = "the persona is not signed in; where handlers look into the session themselves, write sign_in = True"


def check(endpoint: AskedEndpoint, test: unittest.TestCase, project: Project, *, sign_in: bool | None) -> None:
    """Ask one endpoint as every persona, and see that each answer is as declared.

    Args:
        asked: the endpoint.
        test: the test that fails where an answer is not.
        project: the project under test.
        sign_in: whether personas sign in, as `Client` has it.
    """
    put_back(test, project)
    project.verify()
    whole = project.plan
    left_out = [each for each in whole.untried if each.asked is endpoint and each.persona.name in project.personas]
    clients = {
        persona.name: project.clients.setdefault(
            (persona.name, sign_in), Client(project.application, project.settings, persona, sign_in=sign_in)
        )
        for persona in project.settings.personas.values()
    }
    asking = Asking(test, project, clients)
    facts = asking.facts(endpoint)
    judged = judge(replace(whole, cases=tuple(case for case in whole.cases if case in facts)), facts)
    observations = [
        each for each in judged if each.case.asked is endpoint and each.case.persona.name in project.personas
    ]
    if is_not_served(observations):
        return
    write_down(observations)
    for observation in observations:
        case = observation.case
        with test.subTest(f"{case.method} {case.target} as {case.persona.name}"):
            if observation.verdict is Verdict.INCONCLUSIVE:
                # What was not judged is neither well nor wrong.
                test.skipTest(_message(observation, acts=not clients[observation.case.persona.name].signs_in))
            if observation.verdict is not Verdict.AGREE:
                test.fail(_message(observation, acts=not clients[observation.case.persona.name].signs_in))
    for left in left_out:
        with test.subTest(f"as {left.persona.name}"):
            test.skipTest(f"{endpoint.name} as {left.persona.name} was not tried: {left.why}")


def put_back(test: unittest.TestCase, project: Project) -> None:
    """Put the data back before a test, where the settings say how and no transaction of the test's own does."""
    if rollback_in(test, project.application) is None:
        project.application.run(Data(project.settings, project.application).put_back(in_thread=False))


def _message(observation: Observation, *, acts: bool) -> str:
    case = observation.case
    place = (
        f"{case.asked.line.place.at}: {case.asked.line.text}" if case.asked.line is not None else "no line covers it"
    )
    answered = f"it answered {observation.seen.status} {observation.seen.location}".rstrip()
    said = [
        f"{observation.verdict.value}: {case.method} {case.target} as {case.persona.name}"
        + (f" [{case.sample}]" if case.sample else ""),
        f"declared {case.declared.value}, observed {observation.text}; {answered}",
        *([f"to settle it, {observation.settle}"] if observation.settle else []),
        *([f"first exception: {observation.seen.note}"] if observation.seen.note else []),
        *([_NOT_SIGNED_IN] if acts and observation.seen.came is ResponseKind.FAILED else []),
        place,
    ]
    return "\n".join(said)
